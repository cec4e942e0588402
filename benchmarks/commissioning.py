"""`make bench-commissioning`: an axis from its datasheet to a proven position loop, in one action.

Simulated drives of the demo and machines drawn at random. What moved is read off the drive and held
against what was announced before the first part; parts that would have moved more were asked about
and are counted.
"""

import math
import statistics
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
from tests.model_link import Hasty, ModelLink

from benchmarks.machines import printed_axis, random_axis
from oarlock.control.compiled import warm
from oarlock.drive.link import Status
from oarlock.drive.standstill import await_standstill
from oarlock.errors import OarlockError
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Reading, Run
from oarlock.session.commission_parts import (
    Bound,
    Part,
    expected,
    experiment,
    moves,
    parts,
    prepared,
    taken,
    trouble,
)
from oarlock.session.perform import Performed, perform
from oarlock.simulate import layout as k
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.snapshot import Snapshot

LONGEST = 180.0  # s of drive time, for the demo's winch
_RPM = math.tau / 60.0
_OVER = 0.1  # s, that a speed is the mean of: a rotor that is caught swings faster for a moment


class Metered(ModelLink):
    """Notes what the drive really did since the meter was set back."""

    def __init__(self, plant: PlantParameters, *, seed: int) -> None:
        super().__init__(plant, seed=seed, tick=0.02)
        self.seconds = 0.0
        self.set_back()

    def set_back(self) -> None:
        """Begin to count a part's movement from here."""
        self._from, self.turns, self.speed = self._shaft(), 0.0, 0.0
        self._seen: tuple[float, float] | None = None  # s, rad

    def _shaft(self) -> float:
        """Return where the shaft truly is, rad."""
        return float(self.model._state[k.THETA])

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        """Let a tenth of a second pass where somebody looks whether the shaft still turns."""
        if keys == ["Drive.Angle"] and not self.model.is_running:
            self.model.advance(round(0.1 / self.model.plant.Ts))
        return super().read(keys)

    def status(self) -> Status:
        ran = self.model.played if self.model.is_running else None
        found = super().status()
        if ran is not None:
            self.seconds += (self.model.played - ran) * self.model.plant.Ts
            self.turns = max(self.turns, abs(self._shaft() - self._from) / math.tau)
            now, angle = self.model.played * self.model.plant.Ts, self._shaft()
            if self._seen is None or now < self._seen[0]:
                self._seen = (now, angle)
            elif now - self._seen[0] >= _OVER:
                self.speed = max(self.speed, abs(angle - self._seen[1]) / (now - self._seen[0]))
                self._seen = (now, angle)
        return found


@dataclass(slots=True, eq=False)
class Outcome:
    """How commissioning one axis went."""

    seconds: float = 0.0  # s of drive time
    asked: int = 0
    beyond: list[str] = field(default_factory=list)  # parts that moved more than was announced
    stopped: str = ""  # where and why; empty: everything holds


def commissioned(axis: Axis, plant: PlantParameters, seed: int) -> Outcome:
    """Play every part with a candidate, as the panel does."""
    link, held = Metered(plant, seed=seed), plant.brake > 0.0
    now = Snapshot(axis=axis)
    wanted_parts = parts(now, held=held)
    bounds = expected(wanted_parts, now, held=held)
    outcome = Outcome()
    for part in wanted_parts:
        try:
            ready = prepared(part, now)
            played = experiment(part, replace(now, axis=ready), held=held)
            wanted = moves(played, ready, held=held)
            if not bounds[part].holds(wanted):
                outcome.asked += 1
                bounds[part] = bounds[part].joined(wanted)
            await_standstill(ready, link, Hasty())
            link.set_back()
            done = perform(played, ready, link, lambda _f, _d: None, Hasty())
        except OarlockError as error:
            outcome.stopped = f"{part.title}: {error}"
            break
        now, why = _kept(part, replace(now, axis=ready), done)
        _compare(part, bounds[part], link, outcome)
        if why:
            outcome.stopped = f"{part.title}: {why}"
            break
    outcome.seconds = link.seconds
    return outcome


def _kept(part: Part, now: Snapshot, done: Performed) -> tuple[Snapshot, str]:
    """Return the snapshot with what a run found taken over, and why it does not hold."""
    run: Run = replace(done.run, id=len(now.runs) + 1)
    readings: dict[int, Reading | None] = {**now.readings, run.id: done.reading}
    now = replace(now, runs=(*now.runs, run), readings=readings)
    why = trouble(run, done.reading)
    if why or done.reading is None:
        return now, why
    return replace(now, axis=taken(part, now, run, done.reading)), ""


def _compare(part: Part, bound: Bound, link: Metered, outcome: Outcome) -> None:
    """Note a part whose shaft went farther or faster than was announced."""
    if not bound.current:  # gates off: a hand turns it
        return
    # A shaft that is held or pushed stirs by less than a quarter of a turn.
    if link.turns > bound.turns + 0.25:
        outcome.beyond.append(f"{part.title}: {link.turns:.2g} of {bound.turns:.2g} turns")
    if bound.speed and link.speed > bound.speed + 10.0 * _RPM:
        told, was = bound.speed / _RPM, link.speed / _RPM
        outcome.beyond.append(f"{part.title}: {was:.0f} of {told:.0f} rpm")


def _table(name: str, many: int, make: Callable[[int], tuple[Axis, PlantParameters]]) -> bool:
    """Commission so many axes and print a line of what came of it; return whether bars hold."""
    found = [commissioned(*make(n), n) for n in range(many)]
    whole = [one for one in found if not one.stopped]
    seconds = [one.seconds for one in whole] or [math.nan]
    beyond = [text for one in found for text in one.beyond]
    print(f"{name:16}{len(whole):5} of {many:<5}{statistics.median(seconds):9.0f}"
          f"{max(seconds):9.0f}{sum(one.asked for one in found):9}{len(beyond):9}")  # fmt: skip
    for text in beyond[:6]:
        print(f"    beyond  {text}")
    for one in found:
        if one.stopped:
            print(f"    waits   {one.stopped}")
    return not beyond and (name != "winch" or max(seconds) <= LONGEST)


def main(demo: int = 10, machines: int = 10) -> int:
    """Commission the demo's axes and random ones; return 0 where the bars hold."""
    warm()
    print(f"{'':16}{'whole':>10}{'':5}{'s, median':>9}{'longest':>9}{'asked':>9}{'beyond':>9}")
    held = True
    for name in ("winch", "thruster"):
        held &= _table(name, demo, partial(_of_demo, name))
    held &= _table("random", machines, _random)
    print(f"bars: {LONGEST:.0f} s for the winch, nothing beyond what was announced")
    return 0 if held else 1


def _of_demo(name: str, seed: int) -> tuple[Axis, PlantParameters]:
    return printed_axis(name), draw(name, seed)


def _random(number: int) -> tuple[Axis, PlantParameters]:
    return random_axis(np.random.default_rng(900 + number))


if __name__ == "__main__":
    sys.exit(main(*(int(word) for word in sys.argv[1:])))
