"""Pinned runs beside one another: curves over one another, a table with differences marked."""

import math
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QScrollArea, QWidget

from oarlock.quantities.display import digits
from oarlock.session.session import Session
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.paint import draw_text, elided, line
from oarlock.ui.kit.plot import linear_ticks
from oarlock.views.compare import MOST, Comparison, Row, Trace, chosen, comparison
from oarlock.views.logbook import action

_HEAD, _PLOT, _ROW, _NAME = 64, 150, 20, 220  # px
_NOTHING = "Pin the runs to be compared in the logbook (P, or the pin in its row)."


class CompareTable(QWidget):
    """The rows, in a frame that scrolls."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[Row, ...] = ()
        self._many = 1

    def show_rows(self, rows: tuple[Row, ...], many: int) -> None:
        """Show these rows for so many runs."""
        self._rows, self._many = rows, max(many, 1)
        self.setFixedHeight(_ROW * len(rows) + 8)
        self.setAccessibleDescription(
            "; ".join(f"{r.name}: {', '.join(r.cells)} {r.unit}" for r in rows if r.differs)
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.panel)
        wide = column_width(self.width(), self._many)
        for n, row in enumerate(self._rows):
            y = _ROW * (n + 0.5) + 4.5
            if row.differs:
                p.fillRect(QRectF(0, _ROW * n, self.width(), _ROW), look.faded(t.accent, 24))
                draw_text(p, 4, y, "≠", t.accent, bold=True)
            unit = f" ({row.unit})" if row.unit else ""
            draw_text(p, 20, y, row.name + unit, t.ink if row.differs else t.muted)
            for i, cell in enumerate(row.cells):
                text = f"**{elided(cell, wide - 14)}**" if row.differs else elided(cell, wide - 14)
                draw_text(p, _NAME + wide * i, y, text, t.ink if row.differs else t.muted)


def column_width(whole: int, many: int) -> float:
    """Return how wide each run's column is, px."""
    return (whole - _NAME) / max(many, 2)


class ComparePanel(QWidget):
    """Lies over the stage."""

    take_back = Signal(int)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self._shown: Comparison | None = None
        self.setAccessibleName("Comparison of pinned runs")
        self.close_button = button("Close")
        self.close_button.setParent(self)
        self.close_button.clicked.connect(self.hide)
        self.table = CompareTable()
        self._area = QScrollArea(self)
        self._area.setWidget(self.table)
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QScrollArea.Shape.NoFrame)
        self._area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.uses = [button("use these gains") for _ in range(MOST)]
        for n, one in enumerate(self.uses):
            one.setParent(self)
            one.clicked.connect(partial(self._take, n))

    def open(self) -> None:
        """Show the pinned runs."""
        self.show()
        self.raise_()
        self.refresh()
        self.close_button.setFocus()

    def refresh(self) -> None:
        """Show the runs that are pinned now."""
        if not self.isVisible():
            return
        now = self._session.now
        shown = comparison(now, chosen(now), units.by_name())
        self._shown = shown
        self.table.show_rows(shown.rows, len(shown.runs))
        for n, one in enumerate(self.uses):
            fits = n < len(shown.runs)
            text = action(shown.runs[n], now.axis) if fits else ""
            one.setVisible(text == "use these gains")
        self._lay_out()
        self.update()

    def _take(self, number: int) -> None:
        if self._shown is not None and number < len(self._shown.runs):
            self.take_back.emit(self._shown.runs[number].id)
            self.refresh()

    # Geometry and painting

    def resizeEvent(self, _event: QResizeEvent) -> None:
        self._lay_out()

    def _lay_out(self) -> None:
        top = _HEAD + _PLOT + 62
        inner = self.width() - 2 * look.MARGIN
        self.close_button.setGeometry(self.width() - 96, 12, 80, 28)
        self._area.setGeometry(look.MARGIN, top, inner, self.height() - top - 4)
        many = len(self._shown.runs) if self._shown else 1
        wide = column_width(self._area.viewport().width(), many)
        for n, one in enumerate(self.uses):
            x = round(look.MARGIN + _NAME + wide * n)
            one.setGeometry(x, _HEAD + _PLOT + 34, min(130, round(wide) - 8), 24)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, shown = QPainter(self), look.theme(), self._shown
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.panel)
        line(p, 0, 0, 0, self.height(), t.rule)
        draw_text(p, look.MARGIN, 24, "In what do they differ?", t.muted)
        if shown is None or not shown.runs:
            draw_text(p, look.MARGIN, 50, "Nothing is pinned", t.ink, size=look.ANSWER, bold=True)
            draw_text(p, look.MARGIN, 78, _NOTHING, t.ink)
            return
        many = sum(row.differs for row in shown.rows)
        said = f"{len(shown.runs)} runs, {many} of {len(shown.rows)} lines differ"
        draw_text(p, look.MARGIN, 50, said, t.ink, size=look.ANSWER, bold=True)
        self._paint_curves(p, shown)
        wide = column_width(self._area.viewport().width(), len(shown.runs))
        for n, run in enumerate(shown.runs):
            x = look.MARGIN + _NAME + wide * n
            y = _HEAD + _PLOT + 16.0
            line(p, x, y - 14, x + 18, y - 14, _color(n), 3)
            draw_text(p, x + 24, y - 8, run.started[11:16], t.ink, bold=True)
            draw_text(
                p, x, y + 10, elided(units.told(run.title), wide - 12), t.muted, size=look.SMALL
            )

    def _paint_curves(self, p: QPainter, shown: Comparison) -> None:
        t = look.theme()
        drawn = [(n, one) for n, one in enumerate(shown.traces) if one is not None and one.x.size]
        area = QRectF(look.MARGIN + 48, _HEAD + 4, self.width() - 2 * look.MARGIN - 64, _PLOT - 34)
        if not drawn:
            text = ("Their records are not read yet." if shown.unread else
                    "These runs have no curves to compare.")  # fmt: skip
            draw_text(p, area.left(), area.center().y(), text, t.muted)
            return
        newest = drawn[0][1]
        low_x = min(float(one.x[0]) for _, one in drawn)
        high_x = max(float(one.x[-1]) for _, one in drawn)
        low, high = _range([one for _, one in drawn])

        def at(x: float, y: float) -> QPointF:
            return QPointF(area.left() + (x - low_x) / (high_x - low_x) * area.width(),
                           area.bottom() - (y - low) / (high - low) * area.height())  # fmt: skip

        for value, label in linear_ticks(low, high, 3, newest.y_unit):
            y = at(low_x, value).y()
            line(p, area.left(), y, area.right(), y, t.grid)
            draw_text(p, area.left() - 6, y + 4, label, t.muted, size=look.SMALL, align="right")
        for x, label in _x_ticks(newest, low_x, high_x):
            draw_text(p, at(x, low).x(), area.bottom() + 16, label, t.muted, size=look.SMALL,
                      align="center")  # fmt: skip
        p.setClipRect(area.adjusted(-2, -6, 2, 2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for n, one in reversed(drawn):
            p.setPen(QPen(_color(n), 2.0 if n == 0 else 1.5))
            p.drawPolyline(QPolygonF([at(float(x), float(y))
                                      for x, y in zip(one.x, one.y, strict=True)]))  # fmt: skip
        p.setClipping(False)


def _range(traces: list[Trace]) -> tuple[float, float]:
    values = np.concatenate([one.y for one in traces])
    low, high = float(values.min()), float(values.max())
    room = 0.06 * max(high - low, 1e-9)
    return low - room, high + room


def _x_ticks(newest: Trace, low: float, high: float) -> list[tuple[float, str]]:
    if newest.x_unit == "Hz":
        decades = range(math.ceil(low), math.floor(high) + 1)
        return [(float(d), f"{digits(10.0**d, 1)} Hz") for d in decades]
    return [(x, label) for x, _ in linear_ticks(low, high, 5)
            for label in (f"{digits(1e3 * x, 3)} ms",)]  # fmt: skip


def _color(number: int) -> QColor:
    """Return a run's colour: the newest in the accent, older ones told apart by shade as well."""
    t = look.theme()
    return (t.accent, t.torque, t.q, t.d, t.muted)[number % MOST]
