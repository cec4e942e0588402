"""What test of the speed loop to play: step or load, at which speed; and what will happen."""

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget

from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.loops.speed_chirp import SpeedChirp
from oarlock.experiments.loops.speed_multisine import SpeedMultisine
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.shown import Scale, typed_in
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.numbers import Entry
from oarlock.views.screen import (
    CHIRP,
    LOAD,
    MULTISINE,
    RAMP,
    SPEED_TESTS,
    STEP,
    SWEEP,
    SpeedSettings,
    with_speed_number,
)
from oarlock.views.speed import settled
from oarlock.views.speed_ramp import settled_ramp

Test = SpeedStep | LoadStep | SpeedRamp | SpeedSweep | SpeedChirp | SpeedMultisine


class PlayBar(QWidget):
    """A start, the kind of test, its size and speed; the announcement below."""

    asked = Signal()
    changed = Signal()

    def __init__(self, parent: QWidget, in_units: Callable[[str], str]) -> None:
        super().__init__(parent)
        self.in_units, self.settings = in_units, SpeedSettings()
        self._shown = (0.0, 0.0, 0.0)  # rad/s, rad/s, N·m
        self._ramp: SpeedRamp | None = None
        self.start = button("Run test  F5", primary=True)
        self.which = button("step")
        self.which.setToolTip(
            "A step of the speed asked for, a step of load, a ramp, a sweep of sines;\n"
            "chirps: quicker, and less exact above the crossover; or a multisine,\n"
            "which also tells what is no answer but repeats, as play does"
        )
        self.tune = button("Tune and try")
        self.tune.setToolTip(
            "Find gains for this aim, try them by both tests, take them if they hold"
        )
        self.hand = button("By hand")
        self.retune = button("Retune here")
        self.retune.setToolTip("Find the inertia by small sines while it turns, design for it, "
                               "take it if both tests hold")  # fmt: skip
        self.size_entry, self.speed_entry = Entry("Size of the step"), Entry("Speed")
        self._unit = QLabel()
        self._note = QLabel(self)
        self._note.setFont(look.font(look.SMALL))
        self._note.setWordWrap(True)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        row.addWidget(self.start)
        row.addWidget(self.which)
        t = look.theme()
        self._tail = QLabel()
        for entry, label in ((self.size_entry, self._unit), (self.speed_entry, self._tail)):
            entry.setFixedWidth(52)
            entry.setAlignment(Qt.AlignmentFlag.AlignRight)
            entry.setStyleSheet(f"background: {t.ground.name()}; border: 1px solid {t.rule.name()}")
            label.setFont(look.font(look.BODY))
            row.addWidget(entry)
            row.addWidget(label)
        row.addWidget(self.hand)
        row.addWidget(self.tune)
        row.addWidget(self.retune)
        row.addStretch(1)
        self._bar = QWidget(self)
        self._bar.setLayout(row)
        self.start.clicked.connect(self.asked)
        self.which.clicked.connect(self._swap)
        self.size_entry.editingFinished.connect(self._typed)
        self.speed_entry.editingFinished.connect(self._typed)

    def resizeEvent(self, _event: QResizeEvent) -> None:
        self._bar.setGeometry(0, 0, self.width(), 28)
        self._note.setGeometry(0, 28, self.width(), self.height() - 28)

    def restore(self, kept: SpeedSettings) -> None:
        """Take what was set last time."""
        self.settings = kept

    def _swap(self) -> None:
        at = SPEED_TESTS.index(self.settings.kind)
        self.settings = replace(self.settings, kind=SPEED_TESTS[(at + 1) % len(SPEED_TESTS)])
        self.changed.emit()

    def _typed(self) -> None:
        speed = self._shown[0]
        try:
            new = _typed(self.speed_entry, units.speeds(), speed)
            size = _typed(self.size_entry, self._size_units, self._size())
        except InputError as error:
            self.size_entry.take_back()
            self.speed_entry.take_back()
            self.say(str(error))
            return
        old = self._size()
        self.size_entry.setModified(False)
        self.speed_entry.setModified(False)
        if abs(new - speed) <= 5e-3 * abs(speed) and abs(size - old) <= 5e-3 * abs(old):
            return
        name = {STEP: "amplitude", RAMP: "change"}.get(self.settings.kind, "torque")
        self.settings = with_speed_number(replace(self.settings, speed=new), name, size)
        self.changed.emit()

    @property
    def _size_units(self) -> tuple[Scale, ...]:
        """The units that the size may be typed in, the one it is shown in first."""
        return units.speeds() if self.settings.kind in (STEP, RAMP) else units.torques()

    def _size(self) -> float:
        """Return the size of the test that is set: a change of speed (rad/s), or a torque (N·m)."""
        _, step, torque = self._shown
        if self.settings.kind == RAMP and self._ramp is not None:
            return self._ramp.amplitude
        return step if self.settings.kind == STEP else torque

    def experiment(self) -> Test:
        """Return the test that is set."""
        speed, step, torque = self._shown
        if self.settings.kind == RAMP and self._ramp is not None:
            return self._ramp
        if self.settings.kind == LOAD:
            return LoadStep(speed=speed, torque=torque)
        if self.settings.kind == SWEEP:
            return SpeedSweep(speed=speed, torque=torque)
        if self.settings.kind == CHIRP:
            return SpeedChirp(speed=speed, torque=torque)
        if self.settings.kind == MULTISINE:
            return SpeedMultisine(speed=speed, torque=torque)
        return SpeedStep(speed=speed, amplitude=step)

    def show_axis(self, axis: Axis, settings: SpeedSettings, *, announce: bool) -> None:
        """Show what is set for an axis, and say beforehand what would happen."""
        self._shown = settled(settings, axis)
        self._ramp = settled_ramp(settings, axis) if self.settings.kind == RAMP else None
        self.which.setText(self.settings.kind)
        size, speed = self._size_units[0], units.speed()
        at = "from" if self.settings.kind == RAMP else "at"
        self._unit.setText(f"{size.unit}  {at}")
        self._tail.setText(speed.unit)
        self.size_entry.show_text(digits(self._size() / size.per, 3))
        self.speed_entry.show_text(digits(self._shown[0] / speed.per, 3))
        self.hand.setEnabled(self.settings.kind in (STEP, LOAD, RAMP))
        if not announce:
            return
        try:
            self.say(announced(self.experiment(), axis), calm=True)
        except InputError as error:
            self.say(str(error))

    def say(self, text: str, *, calm: bool = False) -> None:
        """Show a line beside the bar."""
        t, text = look.theme(), self.in_units(text)
        if self._note.text() != text:
            self._note.setText(text)
            self._note.setStyleSheet(f"color: {(t.ink if calm else t.attention).name()}")


def _typed(entry: Entry, scales: tuple[Scale, ...], stands: float) -> float:
    """Return a size of a test (SI) as it was typed, else what stands: shown, it is rounded.

    Raises
    ------
    InputError : not a number, or none that a test can have

    """
    if not entry.isModified():
        return stands
    text = entry.text()
    value = typed_in(text, scales)
    if value == 0.0 or not abs(value) < 1e6:
        raise InputError(f"{text} is no size of a test", place="test")
    return value
