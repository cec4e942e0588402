"""What step of the current loop to play: axis, size, bias; and what will happen."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget

from oarlock.errors import InputError
from oarlock.experiments.common.announce import announcement
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.numbers import Entry
from oarlock.views.screen import StepSettings


class VerifyBar(QWidget):
    """What step to play: axis, size, bias; and what will happen."""

    asked = Signal()
    changed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.axis_name, self.amplitude, self.bias = "q", 1.4, 4.0
        self.at_once = False  # how a sweep is played; its button sets it
        self.start = button("Run step  F5", primary=True)
        self.which = button("q axis")
        self.which.setToolTip("Step along q or d")
        self.size_entry, self.bias_entry = Entry("Step size"), Entry("Bias")
        self._note = QLabel(self)
        self._note.setFont(look.font(look.SMALL))
        self._note.setWordWrap(True)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        row.addWidget(self.start)
        row.addWidget(self.which)
        t = look.theme()
        self._unit = QLabel()
        for entry, label in ((self.size_entry, QLabel("on")), (self.bias_entry, self._unit)):
            entry.setFixedWidth(40)
            entry.setAlignment(Qt.AlignmentFlag.AlignRight)
            entry.setStyleSheet(f"background: {t.ground.name()}; border: 1px solid {t.rule.name()}")
            label.setFont(look.font(look.BODY))
            row.addWidget(entry)
            row.addWidget(label)
        row.addStretch(1)
        self._bar = QWidget(self)
        self._bar.setLayout(row)
        self.bias_entry.setToolTip(
            "Held before the step: near zero current\nthe inverter's dead time bends it."
        )
        self.start.clicked.connect(self.asked)
        self.which.clicked.connect(self._swap)
        self.size_entry.editingFinished.connect(self._typed)
        self.bias_entry.editingFinished.connect(self._typed)

    def resizeEvent(self, _event: QResizeEvent) -> None:
        self._bar.setGeometry(0, 0, self.width(), 28)
        self._note.setGeometry(0, 29, self.width(), self.height() - 29)

    def restore(self, kept: StepSettings, axis: Axis) -> None:
        """Show what was set last time, or what suits the axis."""
        rated = axis.rated
        self.axis_name, self.at_once = kept.axis_name, kept.at_once
        self.amplitude = round(0.14 * rated, 1) if kept.amplitude is None else kept.amplitude
        self.bias = round(0.4 * rated, 1) if kept.bias is None else kept.bias
        self._show()

    def state(self) -> StepSettings:
        """Return what is set, to be kept."""
        return StepSettings(axis_name=self.axis_name, amplitude=self.amplitude, bias=self.bias,
                            at_once=self.at_once)  # fmt: skip

    def _show(self) -> None:
        self.which.setText(f"{self.axis_name} axis")
        scale = units.current()
        self._unit.setText(scale.unit)
        self.size_entry.show_text(digits(self.amplitude / scale.per, 3))
        self.bias_entry.show_text(digits(self.bias / scale.per, 3))

    def _swap(self) -> None:
        self.axis_name = "d" if self.axis_name == "q" else "q"
        self._show()
        self.changed.emit()

    def _typed(self) -> None:
        try:
            amplitude = _typed(self.size_entry, self.amplitude)
            zero = self.bias_entry.text().strip() in ("0", "0.0")
            bias = 0.0 if zero else _typed(self.bias_entry, self.bias)
        except InputError as error:
            self.size_entry.take_back()
            self.bias_entry.take_back()
            self.say(str(error))
            return
        if (amplitude, bias) != (self.amplitude, self.bias):
            self.amplitude, self.bias = amplitude, bias
            self.changed.emit()
        self.size_entry.setModified(False)
        self.bias_entry.setModified(False)
        self._show()

    def experiment(self) -> CurrentStep:
        """Return the step that is set."""
        return CurrentStep(axis_name=self.axis_name, amplitude=self.amplitude, bias=self.bias)

    def show_axis(self, axis: Axis, braked: bool) -> None:
        """Say beforehand what would happen."""
        self._show()
        if axis.gains is None:
            return
        try:
            self.say(announcement(self.experiment().plan(axis), braked=braked), calm=True)
        except InputError as error:
            self.say(str(error))

    def say(self, text: str, *, calm: bool = False) -> None:
        """Show a line under the bar."""
        t = look.theme()
        if self._note.text() != text:
            self._note.setText(text)
            self._note.setStyleSheet(f"color: {(t.ink if calm else t.attention).name()}")


def _typed(entry: Entry, stands: float) -> float:
    """Return a current (A peak) as it was typed, else what stands: shown, it is rounded.

    Raises
    ------
    InputError : no current

    """
    if not entry.isModified():
        return stands
    text = entry.text().strip()
    if text.lower().endswith("a"):  # alone it is peak
        return parse(Kind.CURRENT, f"{text} peak").value
    scale = units.current()
    bare = scale.per != 1.0 and (text[-1:].isdigit() or text.endswith("."))
    return parse(Kind.CURRENT, f"{text} {scale.unit}" if bare else text).value
