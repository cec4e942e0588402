"""Tune and try: one action finds gains, tries them on the drive, takes them if they hold."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.session.session import Session
from oarlock.session.trial import Trial
from oarlock.ui.stages.speed.play_bar import PlayBar
from oarlock.ui.stages.speed.two_presses import TwoPresses
from oarlock.ui.stages.speed.ways_panel import WaysPanel
from oarlock.views.speed import worked_at
from oarlock.views.speed_proposal import proposed


def both_tests(candidate: Axis, speed: float) -> list[Experiment]:
    """Return a step of speed and a step of load that suit an axis.

    Raises
    ------
    InputError : no gains, or nothing known to size them by

    """
    return [SpeedStep(speed=speed, amplitude=usual_step(candidate, speed)),
            LoadStep(speed=speed, torque=usual_load(candidate))]  # fmt: skip


class Tuning(TwoPresses):
    """The button's two presses: the first says what will move, the second starts."""

    def __init__(
        self, session: Session, bench: Bench, bar: PlayBar, ways: WaysPanel,
        tell: Callable[[str], None],
    ) -> None:  # fmt: skip
        super().__init__(bar.tune, bench, bar)
        self._session, self._ways, self._tell = session, ways, tell
        bar.tune.clicked.connect(self.pressed)

    def pressed(self) -> None:
        """Say what will move, or start it."""
        axis = self._session.axis
        if self._ways.working:
            self._bar.say("The ways round the resonance are still being looked for")
            return
        try:
            speed = worked_at(self._session.screen.speed, axis)[0]
            candidate = proposed(axis, self._ways.ways, speed)
            tests = both_tests(candidate, speed)
            said = " ".join(announced(test, candidate) for test in tests)
        except InputError as error:
            self._bar.say(str(error))
            return
        label = "Take the tuned gains of the speed loop"
        trial = Trial(self._session, self._bench, candidate, tests, label, self._tell)
        self.press(axis, f"Two tests. {said}", trial.start)
