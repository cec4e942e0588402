"""Retune here: small sines while it runs, the inertia they show, gains for it, tried by tests."""

from collections.abc import Callable

from oarlock.control.speed_design import speed_gains
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.session.perform import Performed
from oarlock.session.session import Session
from oarlock.session.trial import Trial
from oarlock.ui.stages.speed.play_bar import PlayBar
from oarlock.ui.stages.speed.tuning import both_tests
from oarlock.ui.stages.speed.two_presses import TwoPresses
from oarlock.views.speed import worked_at
from oarlock.views.speed_retune import refit, stirring


class Retuning(TwoPresses):
    """The button's two presses: the first says what will move, the second starts."""

    def __init__(
        self, session: Session, bench: Bench, bar: PlayBar, tell: Callable[[str], None]
    ) -> None:
        super().__init__(bar.retune, bench, bar)
        self._session, self._tell = session, tell
        bar.retune.clicked.connect(self.pressed)

    def pressed(self) -> None:
        """Say what will move, or start it."""
        axis = self._session.axis
        try:
            if speed_gains(axis) is None:
                self._bar.say("There are no gains to begin with: Tune and try first")
                return
            tests: list[Experiment] = [stirring(axis, self._speed), *both_tests(axis, self._speed)]
            said = " ".join(announced(test, axis) for test in tests)
        except InputError as error:
            self._bar.say(str(error))
            return
        said = f"Small sines, then two tests. {said}"
        self.press(axis, said, lambda: self._bench.run(
            tests[0], lambda performed: self._swept(axis, performed)
        ))  # fmt: skip

    @property
    def _speed(self) -> float:
        return worked_at(self._session.screen.speed, self._session.axis)[0]

    def _swept(self, axis: Axis, performed: Performed) -> None:
        """Design for what was seen, and try it."""
        run = self._session.runs[-1]
        if performed.run.ended != "done" or not isinstance(performed.reading, SweepResult):
            self._tell(f"The old gains are kept: {performed.run.ended}")
            return
        try:
            candidate, seen = refit(axis, performed.reading, run, self._speed)
            tests = both_tests(candidate, self._speed)
        except InputError as error:
            self._tell(f"The old gains are kept: {error.cause}")
            return
        label = f"Retune for what was seen: {seen}"
        in_use = f"{seen}: gains for it are in use"
        Trial(self._session, self._bench, candidate, tests, label,
              lambda why: self._tell(why or in_use)).start()  # fmt: skip
