"""The logbook: every run, newest first, to be pinned, starred, annotated and taken back."""

import math
from collections.abc import Collection
from typing import Any

from PySide6.QtCore import (
    QAbstractTableModel,
    QModelIndex,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    QSize,
    Qt,
    Signal,
)  # fmt: skip
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPalette,
    QPen,
    QPolygonF,
)
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oarlock.machine import Axis
from oarlock.records import Run
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import plain
from oarlock.ui.kit.paint import dot, draw_text, elided, line
from oarlock.views.logbook import COLUMNS, cells, summary

ROW = 24
TIME, DOT, ASKED, SPARK, GAVE, RISE, OVERSHOOT, MARGIN, REMARK, PIN, STAR, USE = range(12)
_WIDTHS = {
    TIME: 60, DOT: 22, ASKED: 196, SPARK: 76, GAVE: 152, RISE: 66, OVERSHOOT: 92, MARGIN: 58,
    PIN: 28, STAR: 28, USE: 124,
}  # fmt: skip
_NARROW = _WIDTHS | {
    TIME: 56, ASKED: 150, SPARK: 60, GAVE: 132, RISE: 60, OVERSHOOT: 88, MARGIN: 50, USE: 112,
}  # fmt: skip
_RIGHT = {RISE, OVERSHOOT, MARGIN, USE}
Index = QModelIndex | QPersistentModelIndex


class RunsModel(QAbstractTableModel):
    """The runs of an axis for a table, newest first."""

    annotated = Signal(int, str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._runs: tuple[Run, ...] = ()
        self._cells: list[tuple[str, ...]] = []

    def show_runs(self, runs: tuple[Run, ...], axis: Axis, unwritten: Collection[int]) -> None:
        """Show another state of the logbook; `unwritten`: runs that are not in the file yet."""
        newest = tuple(reversed(runs))
        speed = units.speed()
        texts = [cells(run, axis, written=run.id not in unwritten, told=units.told, speed=speed)
                 for run in newest]  # fmt: skip
        if newest == self._runs and texts == self._cells:
            return
        self.beginResetModel()
        self._runs, self._cells = newest, texts
        self.endResetModel()

    def empty(self, *columns: int) -> set[int]:
        """Return which of these columns hold nothing in any row."""
        return {c for c in columns if all(cells[c] == "–" for cells in self._cells)}

    def run(self, row: int) -> Run:
        """Return the run of a row."""
        return self._runs[row]

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self._runs)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(COLUMNS)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        run = self._runs[index.row()]
        text = self._cells[index.row()][index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return plain(text)
        if role == Qt.ItemDataRole.EditRole:
            return run.note
        if role == Qt.ItemDataRole.ToolTipRole and index.column() == REMARK:
            return f"{units.told(run.remark)}\nF2 or double-click to write a remark of your own"
        if role == Qt.ItemDataRole.AccessibleTextRole:
            named = {PIN: "pinned" if run.pinned else "not pinned",
                     STAR: "starred" if run.starred else "not starred"}  # fmt: skip
            return named.get(index.column(), plain(text))
        return None

    def marked_text(self, index: Index) -> str:
        """Return a cell's text with its marks."""
        return self._cells[index.row()][index.column()]

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or index.column() != REMARK:
            return False
        self.annotated.emit(self._runs[index.row()].id, str(value).strip())
        return True

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() == REMARK else flags

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return COLUMNS[section]
        return None


class RunDelegate(QStyledItemDelegate):
    """Paints a row: text with subscripts, sparkline, pin, star."""

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        t = look.theme()
        model = index.model()
        if not isinstance(model, RunsModel):
            return
        run, rect = model.run(index.row()), QRectF(option.rect)
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        selected = bool(option.state & option.state.State_Selected)
        p.fillRect(rect, t.wash if selected else t.ground)
        line(p, rect.left(), rect.bottom(), rect.right(), rect.bottom(), t.grid)
        column, y = index.column(), rect.center().y()
        if column == DOT:
            dot(p, rect.left() + 8, y, t.ink, filled=run.ended == "done", radius=3.5)
        elif column == SPARK:
            _sparkline(p, rect, run)
        elif column == PIN:
            _pin(p, rect.center(), run.pinned)
        elif column == STAR:
            _star(p, rect.center(), run.starred)
        else:
            self._text(p, rect, model.marked_text(index), column)
        p.restore()

    def _text(self, p: QPainter, rect: QRectF, text: str, column: int) -> None:
        t, y = look.theme(), rect.center().y() + 4.5
        color = t.muted if column == USE and not text.startswith("use") else t.ink
        color = t.accent if text == "use these gains" else color
        p.setClipRect(rect)
        if column in (REMARK, ASKED):
            text = elided(text, rect.width() - 22)
        if column in _RIGHT:
            draw_text(p, rect.right() - (16 if column == USE else 4), y, text, color, align="right")
        else:
            draw_text(p, rect.left() + (16 if column in (TIME, REMARK) else 4), y, text, color)

    def sizeHint(self, _option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(_WIDTHS.get(index.column(), 100), ROW)


def _sparkline(p: QPainter, rect: QRectF, run: Run) -> None:
    values = run.sparkline
    if len(values) < 2:
        return
    low, high = min(values), max(values)
    span = (high - low) or 1.0
    area = rect.adjusted(4, 5, -6, -5)
    points = [
        QPointF(
            area.left() + i / (len(values) - 1) * area.width(),
            area.bottom() - (v - low) / span * area.height(),
        )
        for i, v in enumerate(values)
    ]
    p.setPen(QPen(look.theme().q, 1.4))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawPolyline(QPolygonF(points))


def _pin(p: QPainter, at: QPointF, on: bool) -> None:
    t = look.theme()
    p.setPen(QPen(t.accent if on else t.muted, 1.3))
    p.setBrush(t.accent if on else Qt.BrushStyle.NoBrush)
    x, y = at.x(), at.y()
    head = [(-4, -6), (4, -6), (2, -4), (2, -1), (5, 1), (-5, 1), (-2, -1), (-2, -4)]
    p.drawPolygon(QPolygonF([QPointF(x + dx, y + dy) for dx, dy in head]))
    p.drawLine(QPointF(x, y + 1), QPointF(x, y + 6))


def _star(p: QPainter, at: QPointF, on: bool) -> None:
    t = look.theme()
    p.setPen(QPen(t.attention if on else t.muted, 1.2))
    p.setBrush(t.attention if on else Qt.BrushStyle.NoBrush)
    points = []
    for i in range(10):
        radius = 7.0 if i % 2 == 0 else 3.0
        angle = -math.pi / 2 + i * math.pi / 5
        points.append(QPointF(at.x() + radius * math.cos(angle), at.y() + radius * math.sin(angle)))
    p.drawPolygon(QPolygonF(points))


class RunsTable(QTableView):
    """The rows; P pins, S stars, Enter takes the gains, F2 annotates."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAccessibleName("Logbook")
        self.empty: set[int] = set()  # columns in which no run has anything
        self.setItemDelegate(RunDelegate(self))
        self.setShowGrid(False)
        self.setFrameShape(QTableView.Shape.NoFrame)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        palette = self.palette()
        palette.setColor(QPalette.ColorRole.Base, look.theme().ground)
        self.setPalette(palette)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW)
        header = self.horizontalHeader()
        header.setFixedHeight(28)
        header.setMinimumSectionSize(16)
        header.setHighlightSections(False)
        header.setSectionsClickable(False)
        header.setFont(look.font(look.SMALL))
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self.fit()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.model() is not None and self.model().rowCount() == 0:
            p, t = QPainter(self.viewport()), look.theme()
            text = "Every experiment lands here by itself, with its gains and figures."
            draw_text(p, look.MARGIN, 34, text, t.muted)
            return
        super().paintEvent(event)

    def fit(self) -> None:
        """Give the remark what the other columns leave."""
        widths = _WIDTHS if self.viewport().width() >= 1000 else _NARROW
        widths = {c: 0 if c in self.empty else width for c, width in widths.items()}
        used = sum(widths.values())
        for column, width in widths.items():
            self.setColumnHidden(column, not width)
            self.setColumnWidth(column, width)
        self.setColumnWidth(REMARK, max(self.viewport().width() - used, 60))


class Header(QWidget):
    """Paints the column titles; a plain header would fight the palette."""

    def __init__(self, table: RunsTable) -> None:
        super().__init__(table)
        self._table = table
        self.setFixedHeight(28)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.ground)
        for column, title in enumerate(COLUMNS):
            if self._table.isColumnHidden(column):
                continue
            x = self._table.columnViewportPosition(column)
            width = self._table.columnWidth(column)
            if column in _RIGHT:
                draw_text(p, x + width - 4, 19, title, t.muted, size=look.SMALL, align="right")
            else:
                left = 16 if column in (TIME, REMARK) else 4
                draw_text(p, x + left, 19, title, t.muted, size=look.SMALL)


class Logbook(QWidget):
    """Summary at the left, rows at the right."""

    pin = Signal(int, bool)
    star = Signal(int, bool)
    annotate = Signal(int, str)
    take_back = Signal(int)
    picked = Signal(int)
    wide = Signal(bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(look.LOGBOOK)
        self._runs: tuple[Run, ...] = ()
        self._is_wide = False
        self.table = RunsTable(self)
        self.model = RunsModel(self)
        self.table.setModel(self.model)
        self._header = Header(self.table)
        self.table.horizontalHeader().hide()
        self.more = link_button("Show more rows")
        self.more.clicked.connect(self._toggle)
        self.compare_pinned = link_button("Compare pinned  F7")
        left = QVBoxLayout()
        left.setContentsMargins(look.MARGIN, 62, 0, 0)
        left.setSpacing(0)
        for one in (self.more, self.compare_pinned):
            left.addWidget(one, 0, Qt.AlignmentFlag.AlignTop)
        left.addStretch(1)
        side = QWidget()
        side.setFixedWidth(look.RAIL)
        side.setLayout(left)
        right = QVBoxLayout()
        right.setContentsMargins(0, 1, 0, 0)
        right.setSpacing(0)
        right.addWidget(self._header)
        right.addWidget(self.table)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(side)
        row.addLayout(right)
        self.model.annotated.connect(self.annotate)
        self.table.clicked.connect(self._clicked)

    def show_runs(self, runs: tuple[Run, ...], axis: Axis, unwritten: Collection[int] = ()) -> None:
        """Show another state of the logbook, as `RunsModel.show_runs`."""
        chosen = self.chosen()
        self._runs = runs
        self.model.show_runs(runs, axis, unwritten)
        self.table.empty = self.model.empty(RISE, OVERSHOOT, MARGIN)
        self.table.fit()
        if chosen is not None and chosen in [run.id for run in runs]:
            self.table.selectRow(len(runs) - 1 - [run.id for run in runs].index(chosen))
        self.update()
        self._header.update()

    def chosen(self) -> int | None:
        """Return the number of the selected run."""
        rows = self.table.selectionModel().selectedRows()
        return self.model.run(rows[0].row()).id if rows else None

    def _clicked(self, index: QModelIndex) -> None:
        run = self.model.run(index.row())
        if index.column() == PIN:
            self.pin.emit(run.id, not run.pinned)
        elif index.column() == STAR:
            self.star.emit(run.id, not run.starred)
        elif index.column() == USE and self.model.marked_text(index) == "use these gains":
            self.take_back.emit(run.id)
        else:
            self.picked.emit(run.id)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        number = self.chosen()
        run = next((r for r in self._runs if r.id == number), None)
        if run is None:
            super().keyPressEvent(event)
        elif event.key() == Qt.Key.Key_P:
            self.pin.emit(run.id, not run.pinned)
        elif event.key() == Qt.Key.Key_S:
            self.star.emit(run.id, not run.starred)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.take_back.emit(run.id)
        else:
            super().keyPressEvent(event)

    def _toggle(self) -> None:
        self._is_wide = not self._is_wide
        self.more.setText("Back to three rows" if self._is_wide else "Show more rows")
        self.setFixedHeight(400 if self._is_wide else look.LOGBOOK)
        policy = Qt.ScrollBarPolicy
        self.table.setVerticalScrollBarPolicy(
            policy.ScrollBarAsNeeded if self._is_wide else policy.ScrollBarAlwaysOff
        )
        self.wide.emit(self._is_wide)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.table.setFocus()
        super().mousePressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.ground)
        line(p, 0, 0, self.width(), 0, t.rule)
        draw_text(p, look.MARGIN, 20, "LOGBOOK", t.muted, size=look.SMALL, bold=True)
        count, marked = summary(self._runs)
        draw_text(p, look.MARGIN, 42, count, t.ink)
        draw_text(p, look.MARGIN, 59, marked, t.muted, size=look.SMALL)
