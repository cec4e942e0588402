"""Tuning by hand: a button that repeats the test on the drive, and what is said meanwhile."""

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton

from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.repeating import Repeatable
from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.session.session import Session

_READY, _ARMED, _END = "By hand", "Press again to start", "End by hand"
_TIP = "Repeat this test while you drag or type gains: each answer is drawn over the last five"
_THEN = "Gains go to the drive as you change them."


class ByHand:
    """Two presses: the first says what will move, the second starts; a third ends it."""

    def __init__(
        self, session: Session, bench: Bench, button: QPushButton,
        test: Callable[[], Experiment | None], ready: Callable[[], Axis],
        say: Callable[[str, bool], None],
    ) -> None:  # fmt: skip
        self._session, self._bench, self.button = session, bench, button
        self._test, self._ready, self._say = test, ready, say
        self._asked_for: Axis | None = None  # the axis whose movement was said
        button.setText(_READY)
        button.setToolTip(_TIP)
        button.clicked.connect(self.pressed)

    @property
    def active(self) -> bool:
        """Whether it has something to say itself: it is about to start, or it runs."""
        return self._asked_for is not None or self.running

    @property
    def running(self) -> bool:
        """Whether this stage's test repeats."""
        test = self._test()
        return test is not None and self._bench.hand.kind == test.name

    def disarm(self) -> None:
        """Forget a first press."""
        self._asked_for = None

    def pressed(self) -> None:
        """Say what will move, start, or end."""
        hand = self._bench.hand
        if self.running:
            self._bench.stop()
            return
        test = self._test()
        if not isinstance(test, Repeatable):
            return
        try:
            axis = self._ready()
            going = test.repeating(axis)
            found = problems(going.plan, axis)
        except InputError as error:
            self._say(str(error), False)
            return
        if found:
            self._say(found[0].sentence, False)
        elif not self._bench.connected:
            self._say("No drive is connected. Connect one in the top bar", False)
        elif self._asked_for != axis:
            self._asked_for = axis
            self.button.setText(_ARMED)
            self.button.adjustSize()
            self._say(f"{going.movement.sentence} {_THEN}", True)
        else:
            self.disarm()
            self._session.edit("Take the designed gains", axis)
            hand.start(test)

    def refresh(self) -> None:
        """Show whether it runs, and what it says."""
        hand = self._bench.hand
        if self.running:
            self.button.setText(_END)
            self._say(hand.said or self._told(), not hand.said)
        else:
            self.button.setText(_ARMED if self._asked_for is not None else _READY)
        self.button.adjustSize()

    def _told(self) -> str:
        hand = self._bench.hand
        loops = self._session.axis.loops
        if hand.in_force is not None and hand.in_force.loops != loops:
            return "The gains on screen are taken over before the next answer."
        many = sum(one.axis.loops == loops for one in hand.answers)
        answers = "answer" if many == 1 else "answers"
        return f"In the drive: these gains, {many} {answers} shown. Drag or type others."
