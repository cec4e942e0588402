"""Search of the zero where the shaft may hardly move: the sign of the first motion decides.

At each trial a current along a fixed angle rises slowly until the shaft begins to move, and
is switched off at once. Between the angles that push forward and those that push backward lie
two gaps in which friction hides the torque, one about +d and one about -d. All four edges are
halved; friction and a steady load move them, and fall out of all four together:

    1.5 p I sin(delta) (psi + (Ld - Lq) I cos(delta)) = load + friction at an edge
"""

import math
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.trips import LIMIT_TRAVEL
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.steps import CHANNEL_UNITS, Frame, Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.sensing.edges import Solved, solve
from oarlock.machine import Axis, SensorKind
from oarlock.records import Plain, Record

Array = NDArray[np.float64]
_COARSE = 12  # angles around
_FINE = math.radians(1.0)  # electrical, where halving ends
_MOST_TRIALS = 160
_WINDOWS = (0.07, 0.16, 0.3)  # rad, electrical, round an edge that is looked for again
_ROUGH = math.radians(4.0)  # electrical, where halving ends at first
_HEAVY = 0.1  # load over the largest torque, from which a second current is searched at
_LEVELS = (0.25, 0.5, 1.0)  # of the largest current
TRAVEL = math.radians(15.0)  # mechanical, from where the search began
_ROOM = math.radians(8.0)  # of it, that is left for the last trial


@dataclass(frozen=True, slots=True, kw_only=True)
class BoundedSearch:
    """Find the zero by trials, each of which ends with the first motion."""

    name: ClassVar[str] = "bounded search"
    share: float = 1.0  # of rated current, at most
    rise: float = 0.12  # s
    moved: float = math.radians(0.2)  # mechanical, that counts as motion

    def trial(
        self,
        axis: Axis,
        angle: float,
        current: float,
        *,
        travel: float | None = None,
        brake: str = "opens first",
    ) -> Plan:
        """Return the plan of one trial: current along `angle` (rad, electrical) rises slowly.

        Parameters
        ----------
        brake : "opens first"; "opens last", when the current has risen, so that a load cannot
            turn the shaft before; "stays"

        """
        steps = [
            Step(duration=self.rise / 30.0, i_d=current * (n + 1) / 30.0, frame=Frame.FIXED,
                 angle=angle, release=n > 2 and brake == "opens first")
            for n in range(30)
        ]  # fmt: skip
        # Where it may go farther it gets time: away from an unstable angle it creeps at first.
        seconds = 0.04 if travel is None else 0.5
        steps.append(replace(steps[-1], duration=seconds, release=brake != "stays"))
        seconds = sum(step.duration for step in steps)
        limits = abort_limits(
            axis, current=current, turns=0.1, speed=0.2 * axis.top_speed,
            seconds=seconds,
        )  # fmt: skip
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_m", "id"),
            decimation=max(round(seconds / axis.inverter.Ts / 400), 1),
            limits=replace(limits, travel=travel or self.moved),
            gains=gentle_gains(axis, math.tau * 120.0),
        )

    def plan(self, axis: Axis) -> Plan:
        """Return the plan of the strongest trial, for the dry run and for what is announced."""
        return self.trial(axis, 0.0, self.share * axis.rated)

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return "bounded search, first motion"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return Movement(
            what=f"moves {math.degrees(self.moved):.1f}° at a time, "
            f"{math.degrees(TRAVEL):.0f}° in all",
            speed=0.02 * axis.top_speed,
            current=self.share * axis.rated,
            seconds=40 * (self.plan(axis).duration + 0.1),
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {"moved": self.moved, "side": axis.sensor.side.value, "fine": _FINE}

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Run all trials and return them as a record, one row each.

        Raises
        ------
        InputError : a sensor too coarse to see a first motion
        LinkError, Cancelled : as `play`

        """
        if axis.sensor.kind in (SensorKind.HALL, SensorKind.NONE):
            remedy = "Use the forced turn"
            raise InputError("this sensor is too coarse to see a first motion",
                             place=self.name, remedy=remedy)  # fmt: skip
        return _Searching(self, axis, link, cancel, progress).run()


@dataclass(frozen=True, slots=True)
class _Trial:
    angle: float  # rad, electrical
    asked: float  # A, the most that was asked for
    current: float  # A, where it moved
    sign: int
    before: float  # rad, mechanical
    after: float


class _Stop(Exception):
    """Why the search ends before its time."""


class _Searching:
    def __init__(
        self, search: BoundedSearch, axis: Axis, link: Link, cancel: Cancel, progress: Progress
    ) -> None:
        self._search, self._axis, self._link = search, axis, link
        self._cancel, self._progress = cancel, progress
        self._trials: list[_Trial] = []
        self._edges: list[tuple[int, int]] = []  # trials on both sides of an edge
        self._most = search.share * axis.rated
        self._start: float | None = None
        self._brake = "opens first"
        self._proved_way = False

    def run(self) -> Record:
        started = datetime.now(UTC).isoformat(timespec="seconds")
        ended, stable = "done", 0.0
        try:
            self._alone()
            self._raise_current()
            self._bracket()
            stable = self._which_way()
            self._refine(stable)
            if abs(self._solved(stable).load) > _HEAVY * self._most:
                # A load and the saliency bend the edges alike; a second current tells them apart.
                self._most *= 0.66
                self._refine(stable)
                self._most /= 0.66
        except _Stop as reason:
            ended = str(reason)
        table = self._table()
        names = (
            "trial", "theta_e", "id_ref", "id", "motion", "theta_m", "theta_m_after", "edge",
            "edge_too",
        )  # fmt: skip
        units = {**CHANNEL_UNITS, "trial": "1", "motion": "1", "theta_m_after": "rad", "edge": "1"}
        units["edge_too"] = "1"
        settings = {**self._search.settings(self._axis), "same_way": stable, "most": self._most}
        return Record(
            experiment=self._search.name,
            sample_time=self._axis.inverter.Ts,
            columns={name: table[:, i].copy() for i, name in enumerate(names)},
            units={name: units[name] for name in names},
            settings=settings,
            drive=self._link.name,
            date=started,
            ended=ended,
        )

    def _table(self) -> Array:
        rows = []
        for n, t in enumerate(self._trials):
            edges = [1 + k for k, ends in enumerate(self._edges) if n in ends]
            rows.append([n, t.angle, t.asked, t.current, t.sign, t.before, t.after,
                         edges[0] if edges else 0, edges[1] if len(edges) > 1 else 0])  # fmt: skip
        return np.array(rows, dtype=np.float64).reshape(-1, 9)

    def _play(self, plan: Plan, angle: float, current: float) -> _Trial:
        if len(self._trials) >= _MOST_TRIALS:
            raise _Stop("too many trials")
        record = play(plan, self._axis, self._link, settings={}, cancel=self._cancel)
        theta = record["theta_m"]
        if not theta.size:
            raise _Stop("the shaft turns before anything is done: a load drives it and no brake "
                        "holds it")  # fmt: skip
        if record.ended != "done" and record.trip != LIMIT_TRAVEL.key:
            raise _Stop(record.ended)
        before, after = float(theta[0]), float(theta[-1])
        if record.trip == LIMIT_TRAVEL.key:  # it moved: the last sample may be older than the trip
            after = before + math.copysign(plan.limits.travel, after - before)
        if self._start is None:
            self._start = before
        moved = after - before
        sign = 0 if abs(moved) < 0.6 * self._search.moved else int(math.copysign(1, moved))
        reached = float(record["id"][-1]) if sign else current
        trial = _Trial(angle, current, reached, sign, before, after)
        self._trials.append(trial)
        room = _ROOM if not self._proved_way else 0.0
        if abs(after - self._start) > TRAVEL - room:
            raise _Stop(f"the shaft went {math.degrees(abs(after - self._start)):.0f}° in all")
        number = len(self._trials)
        self._progress(min(number / 45.0, 0.95), f"{self._search.name}, trial {number}")
        return trial

    def _try(self, angle: float) -> int:
        plan = self._search.trial(self._axis, angle, self._most, brake=self._brake)
        return self._play(plan, angle, self._most).sign

    def _alone(self) -> None:
        """Open the brake without current: what moves then is driven by the load."""
        if not self._play(self._search.trial(self._axis, 0.0, 1e-3), 0.0, 0.0).sign:
            return
        # A load drives it: from now on the brake opens only once the current has risen.
        self._brake = "opens last"
        held = self._search.trial(self._axis, 0.0, 1e-3, brake="stays")
        if self._play(held, 0.0, 0.0).sign:
            raise _Stop("the load drives the shaft and no brake holds it")

    def _raise_current(self) -> None:
        """Raise the current step by step until the shaft can be moved both ways."""
        for level in _LEVELS:
            current = level * self._search.share * self._axis.rated
            self._most = current
            signs = {self._try(0.5 * math.pi * n) for n in range(4)}
            if {1, -1} <= signs:
                whole = self._search.share * self._axis.rated
                loaded = self._brake == "opens last"
                self._most = whole if loaded else min(1.5 * current, whole)
                return
        if not any(t.sign for t in self._trials):
            raise _Stop("nothing moved up to the largest current: brake on, or blocked")
        raise _Stop("it moves one way only: friction of one way, or a load")

    def _bracket(self) -> None:
        """Try all around, then halve every edge between motion and none, or to the other side."""
        around = [math.tau * n / _COARSE for n in range(_COARSE)]
        # Opposite ends in turn, so that the shaft goes to and fro.
        order = [n // 2 + (_COARSE // 2 if n % 2 else 0) for n in range(_COARSE)]
        signs = {n: self._try(around[n]) for n in order}
        for n in range(_COARSE):
            low, high = around[n], around[n] + math.tau / _COARSE
            self._halve(low, high, signs[n], signs[(n + 1) % _COARSE])

    def _halve(self, low: float, high: float, at_low: int, at_high: int) -> None:
        if at_low == at_high:
            return
        if high - low < _ROUGH:
            self._take_edge(low, high)
            return
        middle = 0.5 * (low + high)
        sign = self._try(middle)
        self._halve(low, middle, at_low, sign)
        self._halve(middle, high, sign, at_high)

    def _take_edge(self, low: float, high: float) -> None:
        """Note the newest trials at both angles as an edge."""
        numbers = [
            max(n for n, t in enumerate(self._trials) if abs(wrap(t.angle - angle)) < 1e-9)
            for angle in (low, high)
        ]
        self._edges.append((numbers[0], numbers[1]))

    def _refine(self, side: float) -> None:
        """Halve each edge again, finely, now that it is known how the shaft carries it along."""
        solved = self._solved(side)
        found = []
        for place, moving, below in solved.edges_at(self._most):
            found += self._refined(place, moving, below, side)
        rough = bool(self._edges) and self._trials[self._edges[0][0]].asked == self._most
        if rough and len(found) >= 3:
            self._edges = []
        self._edges += found

    def _refined(
        self, place: float, moving: int, below: bool, side: float
    ) -> list[tuple[int, int]]:
        """Halve the edge at which motion of sign `moving` ends, going up, or begins."""
        pairs = self._axis.machine.pole_pairs.value

        def moves(at: float) -> tuple[bool, int]:
            angle = (at + side * pairs * self._trials[-1].after) % math.tau
            return self._try(angle) == side * moving, len(self._trials) - 1

        for half in _WINDOWS:
            low, high = place - half, place + half
            (a, at_low), (b, at_high) = moves(low), moves(high)
            if a == below and b != below:
                break
        else:
            return []
        while high - low > _FINE:
            middle = 0.5 * (low + high)
            here, number = moves(middle)
            if here == below:
                low, at_low = middle, number
            else:
                high, at_high = middle, number
        return [(at_low, at_high)]

    def _which_way(self) -> float:
        """Return 1 where the sensor counts as the field turns, -1 where it counts backward.

        Along the angle that should be stable, a little off, the shaft moves that little and
        stops; if the sensor counts backward, that angle is the unstable one.
        """
        solved = self._solved(1.0)
        pairs = self._axis.machine.pole_pairs.value
        far = min(math.radians(40.0) / pairs, math.radians(8.0))
        here = pairs * self._trials[-1].after - solved.zero
        slip = solved.rest(self._most)
        # A sixth of the way: the shaft may swing past by as much again, and by loose friction.
        angle = here + 0.16 * far * pairs + slip
        self._proved_way = True
        plan = self._search.trial(
            self._axis, angle % math.tau, self._most, travel=far, brake=self._brake
        )
        self._play(plan, angle % math.tau, self._most)
        last = self._trials[-1]
        return -1.0 if abs(last.after - last.before) > 0.97 * far else 1.0

    def _solved(self, side: float) -> Solved:
        try:
            return solve(self._table()[:, [1, 2, 4, 5, 7, 8]], self._axis, side)
        except InputError as error:
            raise _Stop(error.cause) from error
