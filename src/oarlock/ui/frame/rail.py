"""The stages rail: a line of dependence, solid as far as results are valid."""

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QButtonGroup, QSizePolicy, QVBoxLayout, QWidget

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import Mark, dot, draw_text, line, mark
from oarlock.views.stage import Stage, State

ITEM, _LESS = 65, 13  # px; what a low window takes of each
_MARKS = {
    State.VALID: Mark.VALID,
    State.ATTENTION: Mark.ATTENTION,
    State.STALE: Mark.STALE,
    State.EMPTY: Mark.EMPTY,
}


class RailItem(QAbstractButton):
    """One stage: mark, name, result, basis."""

    def __init__(self, stage: Stage, parent: QWidget) -> None:
        super().__init__(parent)
        self.setCheckable(True)
        self.setMinimumHeight(ITEM - _LESS)
        self.setMaximumHeight(ITEM)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._solid_above = self._solid_below = False
        self._first = self._last = False
        self._stage: Stage | None = None
        self._ring = False  # whether the focus came by the keyboard
        self.show_stage(stage)

    def show_stage(self, stage: Stage) -> None:
        """Show a new state of the stage."""
        if stage == self._stage:
            return
        self._stage = stage
        self.setText(stage.name)
        self.setAccessibleName(stage.name)
        self.setAccessibleDescription(f"{stage.line}, {stage.basis}, {stage.state.value}")
        self.update()

    def show_lines(self, *, above: bool | None, below: bool | None) -> None:
        """Draw the line of dependence solid, dashed, or not at all (None)."""
        new = (above is None, below is None, bool(above), bool(below))
        if new != (self._first, self._last, self._solid_above, self._solid_below):
            self._first, self._last, self._solid_above, self._solid_below = new
            self.update()

    def focusInEvent(self, event: QFocusEvent) -> None:
        reasons = (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        self._ring = event.reason() in reasons
        super().focusInEvent(event)

    def sizeHint(self) -> QSize:
        return QSize(look.RAIL, ITEM)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, stage = QPainter(self), look.theme(), self._stage
        if stage is None:
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        up = min(max(ITEM - self.height(), 0), _LESS)  # px: a low window leaves less for each
        if self.isChecked():
            p.fillRect(self.rect(), t.panel)
            p.fillRect(0, 0, 4, self.height(), t.accent)
            line(p, 0, 0, self.width(), 0, t.rule)
            line(p, 0, self.height() - 1, self.width(), self.height() - 1, t.rule)
        for end, missing, solid in (
            ((0, 16 - up), self._first, self._solid_above),
            ((34 - up, self.height()), self._last, self._solid_below),
        ):
            if not missing:
                style = Qt.PenStyle.SolidLine if solid else Qt.PenStyle.DashLine
                line(p, 22, end[0], 22, end[1], t.accent if solid else t.muted, 1 + solid, style)
        mark(p, 22, 25 - up, _MARKS[stage.state])
        troubled = stage.state in (State.ATTENTION, State.STALE)
        empty = stage.state is State.EMPTY
        draw_text(p, 40, 30 - up, stage.name, t.ink,
                  size=look.NAME, bold=not empty)  # fmt: skip
        draw_text(p, 40, 46 - up, stage.line, t.muted if empty else t.ink, size=look.SMALL)
        x = 40.0
        color = t.attention if troubled else t.muted
        if stage.measured:
            dot(p, x + 3, 57 - up, color, filled=True, radius=3)
            x += 11
        draw_text(p, x, 61 - up, stage.basis, color, size=look.SMALL)
        if self.hasFocus() and self._ring:
            p.setPen(QPen(t.accent, 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(5, 3, -4, -4))


class Rail(QWidget):
    """All stages, one of them chosen."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(look.RAIL)
        self.setAccessibleName("Stages")
        self._group = QButtonGroup(self)
        self._items: dict[str, RailItem] = {}
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 6, 0, 0)
        self._layout.setSpacing(0)
        self._layout.addStretch(1)

    def show_stages(self, stages: list[Stage], current: str) -> None:
        """Show the stages' states; `current` is the one on screen."""
        solid = True
        for i, stage in enumerate(stages):
            item = self._items.get(stage.key)
            if item is None:
                item = RailItem(stage, self)
                self._items[stage.key] = item
                self._group.addButton(item)
                self._layout.insertWidget(i, item)
                item.clicked.connect(self._tell)
            item.show_stage(stage)
            item.setChecked(stage.key == current)
            above = None if i == 0 else solid
            solid = solid and stage.state is State.VALID
            item.show_lines(above=above, below=None if i == len(stages) - 1 else solid)

    def _tell(self) -> None:
        for key, item in self._items.items():
            if item.isChecked():
                self.chosen.emit(key)

    def item(self, key: str) -> RailItem:
        """Return the item of a stage."""
        return self._items[key]
