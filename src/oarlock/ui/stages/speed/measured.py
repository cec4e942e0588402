"""What was measured of the speed loop: with these gains, by hand, pinned."""

import math
from dataclasses import replace

from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep
from oarlock.quantities.display import digits
from oarlock.records import Run
from oarlock.session.bench import Bench
from oarlock.session.session import Session
from oarlock.views.screen import SpeedSettings
from oarlock.views.speed import LOAD, STEP, picture


class Measured:
    """Looks up runs and answers."""

    def __init__(self, session: Session, bench: Bench) -> None:
        self._session, self._bench = session, bench

    def settings(self) -> SpeedSettings:
        """Return the test as it was set; while it is repeated by hand, as it is played."""
        kept, test = self._session.screen.speed, self._bench.hand.experiment
        if isinstance(test, SpeedStep):
            return replace(kept, speed=test.speed, amplitude=test.amplitude)
        if isinstance(test, LoadStep):
            return replace(kept, speed=test.speed, torque=test.torque)
        if isinstance(test, SpeedRamp):
            return replace(kept, speed=test.speed, change=test.amplitude,
                           acceleration=test.acceleration, jerk_time=test.jerk_time)  # fmt: skip
        return kept

    def before(self, kind: str) -> list[SpeedResult]:
        """Return the answers by hand before the newest."""
        return [one for one in self._bench.hand.before(kind) if isinstance(one, SpeedResult)]

    def ramp(self) -> tuple[str, Run | None, RampResult | None]:
        """Return when the newest ramp was measured with these gains, its run, and the ramp."""
        if self._bench.hand.kind == SpeedRamp.name:
            newest = self._bench.hand.newest(SpeedRamp.name)
            return "newest answer", None, newest if isinstance(newest, RampResult) else None
        found = self._session.now.tested(SpeedRamp.name)
        if found is None or not isinstance(found[1], RampResult):
            return "", None, None
        return f"measured {found[0].started[11:16]}", found[0], found[1]

    def ramps_before(self) -> list[RampResult]:
        """Return the ramps answered by hand before the newest."""
        found = self._bench.hand.before(SpeedRamp.name)
        return [one for one in found if isinstance(one, RampResult)]

    def proof(self, kind: str) -> tuple[str, SpeedResult | None]:
        """Return what was measured with these gains, and when; by hand it is the newest answer."""
        if self._bench.hand.kind == kind:
            newest = self._bench.hand.newest(kind)
            return "newest answer", newest if isinstance(newest, SpeedResult) else None
        found = self._session.now.tested(kind)
        if found is None or not isinstance(found[1], SpeedResult):
            return "", None
        return f"measured {found[0].started[11:16]}", found[1]

    def pinned(self, kind: str) -> list[tuple[str, SpeedResult]]:
        """Return what is pinned, with its title, the newest first."""
        now, found = self._session.now, []
        current = now.tested(kind)
        for run in reversed(now.runs):
            reading = now.readings.get(run.id) if run.pinned and run.kind == kind else None
            if isinstance(reading, SpeedResult) and (current is None or run is not current[0]):
                found.append((_title(run), reading))
        return found[:3]

    def rings(self) -> tuple[float, ...]:
        """Return crossovers (Hz) as the drive has them by hand, and as it would go back to."""
        sides = self._bench.hand.sides(STEP, LOAD, SpeedRamp.name)
        return tuple(picture(axis, self.settings()).crossover for axis in sides)


def _title(run: Run) -> str:
    hertz = run.figures.get("speed_crossover", 0.0) / math.tau
    return f"pinned {run.started[11:16]}, {digits(hertz, 3)} Hz"
