"""The sweep of the current loop: its button, and what is said before it starts."""

from PySide6.QtWidgets import QWidget

from oarlock.errors import InputError
from oarlock.experiments.common.announce import announcement
from oarlock.experiments.loops.current_multisine import CurrentMultisine
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.session.bench import Bench
from oarlock.session.session import Session
from oarlock.ui.kit.buttons import button
from oarlock.ui.stages.current.verify_bar import VerifyBar

_SHARE = 0.6  # of the step's size, that each sine, or all at once, move the current by
_GAP = 6  # px


class Sweeping:
    """Two presses: the first says what will be done, the second does it."""

    def __init__(self, session: Session, bench: Bench, bar: VerifyBar, parent: QWidget) -> None:
        self._session, self._bench, self._bar = session, bench, bar
        self.button = button("Sweep", tip="Measure the open loop from 60 Hz up, loop closed")
        self.button.setParent(parent)
        self.button.clicked.connect(self.pressed)
        self.how = button("", tip="One sine after the other, or a multisine: all at once, in half\n"
                          "the time, each weaker")  # fmt: skip
        self.how.setParent(parent)
        self.how.clicked.connect(self._swap)
        self._said = False

    def disarm(self) -> None:
        """Forget a first press."""
        self._said = False
        self.button.setText(f"Sweep {self._bar.axis_name}")
        self.button.adjustSize()
        self.how.setText("multisine" if self._bar.at_once else "sines")
        self.how.adjustSize()
        self.how.move(self.button.geometry().right() + 1 + _GAP, self.button.y())
        self.how.show()

    def move(self, x: int, y: int) -> None:
        """Put the buttons there."""
        self.button.move(x, y)
        self.how.move(self.button.geometry().right() + 1 + _GAP, y)
        for one in (self.button, self.how):
            one.raise_()

    def _swap(self) -> None:
        self._bar.at_once = not self._bar.at_once
        self._bar.changed.emit()

    @property
    def armed(self) -> bool:
        """Whether the next press starts it."""
        return self._said

    def pressed(self) -> None:
        """Say what will be done, or do it."""
        kind = CurrentMultisine if self._bar.at_once else CurrentSweep
        sweep = kind(axis_name=self._bar.axis_name, bias=self._bar.bias,
                     amplitude=_SHARE * self._bar.amplitude)  # fmt: skip
        try:
            plan = sweep.plan(self._session.axis)
        except InputError as error:
            self._bar.say(str(error))
            return
        if not self._said:
            self._said = True
            self.button.setText("Press again to start")
            self.button.adjustSize()
            self.how.hide()
            self._bar.say(announcement(plan, braked=self._bench.braked), calm=True)
            return
        self.disarm()
        self._bench.run(sweep, lambda _performed: None)
