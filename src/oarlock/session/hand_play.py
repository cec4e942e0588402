"""Gains changed by hand on a running drive: its test signal repeats, each answer is told at once.

Pure work for a job. New gains are taken from `wanted`, written to the drive's shadow set and taken
over together in the rest between two cycles; gains whose exact loop is unstable are never sent.
Where torque or voltage stand at their limits, as they do while a loop swings, the gains before are
put back.
"""

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.entries import BY_NAME
from oarlock.drive.dry_run import problems
from oarlock.drive.link import Link, Progress, Status
from oarlock.drive.parameters import controllers
from oarlock.drive.runner import play
from oarlock.drive.steps import CHANNEL_UNITS
from oarlock.errors import Cancelled, InputError, LinkError, OarlockError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.repeating import Repeatable
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.records import Reading, Record
from oarlock.session.perform import Performed, made_of

Rows = NDArray[np.float64]
_TAKEN_UNTIL, _SETTLED_UNTIL = 0.5, 0.8  # of the rest: gains are taken over; one has settled
_AT_LIMIT, _AT_BUS = 0.95, 0.985  # of the current limit, of what the bus gives
_LOOKED, _MOST = 0.2, 0.4  # s, share of it that either may stand at its limit
_GLANCE, _FEWEST = 16, 5  # rows; glances, also where a busy computer takes longer for them
_SWUNG = "It swung to the limit of current or voltage"
_SAME = 1e-7  # of a value: two that differ by less are one in float32
_MIXED = 2  # cycles that a set of gains must have to be kept, unless it is the last


@dataclass(frozen=True, slots=True, eq=False)
class Cycle:
    """One answer, with the gains that it belongs to."""

    axis: Axis
    number: int
    reading: Reading | None


@dataclass(frozen=True, slots=True)
class InForce:
    """These gains are in the drive now, and what it would go back to."""

    axis: Axis
    good: Axis


@dataclass(frozen=True, slots=True)
class NotSent:
    """These gains were not sent, and why."""

    axis: Axis
    why: str


@dataclass(frozen=True, slots=True)
class PutBack:
    """The gains before were put back, and why."""

    to: Axis
    why: str


@dataclass(frozen=True, slots=True)
class GaveUp:
    """It was stopped, as there was nothing to go back to, and why."""

    why: str


Event = Cycle | InForce | NotSent | PutBack | GaveUp


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Played:
    """What is left of it: a row of the logbook for each set of gains that answered."""

    kept: tuple[Performed, ...]
    ended: str
    error: OarlockError | None = None  # what broke it off


@dataclass(slots=True, eq=False)
class _Set:
    """The answers to one set of gains."""

    axis: Axis
    started: str
    cycles: list[Rows]
    put_back: str = ""  # why these gains were put back


def play_by_hand(
    experiment: Experiment, axis: Axis, link: Link, wanted: Callable[[], Axis],
    tell: Callable[[Event], None], progress: Progress, cancel: Cancel,
) -> Played:  # fmt: skip
    """Repeat a test until it is stopped or at its end.

    Parameters
    ----------
    wanted : the axis with the gains that are wanted now; called on this thread
    tell : takes what happens, on this thread

    Raises
    ------
    InputError : the test cannot be repeated, or the dry run refused it
    """
    if not isinstance(experiment, Repeatable):
        raise InputError("this test cannot be repeated by hand", place=experiment.name)
    hand = _Hand(experiment, axis, link, wanted, tell)
    try:
        record = play(hand.repeating.plan, axis, link, settings={}, cancel=cancel,
                      progress=progress, tend=hand.tend)  # fmt: skip
        ended = record.ended
        if record.trip == "oscillation":
            hand.fell_back("The drive stopped a swing that grew")
    except Cancelled:
        ended = "done"
    except LinkError as lost:
        return Played(kept=tuple(hand.kept()), ended="link lost", error=lost)
    return Played(kept=tuple(hand.kept()), ended=ended)


class _Hand:
    """What is known while it runs."""

    def __init__(
        self, experiment: Experiment, axis: Axis, link: Link, wanted: Callable[[], Axis],
        tell: Callable[[Event], None],
    ) -> None:  # fmt: skip
        assert isinstance(experiment, Repeatable)
        self.repeating = experiment.repeating(axis)
        self._experiment, self._link, self._wanted, self._tell = experiment, link, wanted, tell
        self.in_force, self._good = axis, axis
        self._looked_at = axis  # the newest that was wanted
        self._sets = [_Set(axis, _now(), [])]
        self._next = 0  # cycle to be fetched
        self._whole_from = 0  # the first cycle that the gains in force shaped alone
        self._limited: deque[tuple[float, float]] = deque()  # s, share of a glance at the limit

    # While it runs

    def tend(self, status: Status) -> None:
        """Take new gains over, put bad ones back, fetch the newest answer."""
        if status.state != "running":
            self._fetch(status)
            return
        self._watch(status)
        at = status.played - self.repeating.began(0)
        cycle = int(at // self.repeating.seconds) if at >= 0.0 else -1
        into = at - cycle * self.repeating.seconds if cycle >= 0 else 0.0
        if cycle < 0 or into <= _TAKEN_UNTIL * self.repeating.rest:
            self._take(max(cycle, 0))
        self._fetch(status)

    def _take(self, cycle: int) -> None:
        """Send the gains that are wanted now, if they are others and stable."""
        axis = self._wanted()
        if axis is self._looked_at:
            return
        self._looked_at = axis
        try:
            why, changed = self._changes(axis)
        except InputError as error:
            why, changed = error.cause, {}
        if why:
            self._tell(NotSent(axis, why))
        elif changed:
            self._link.write(changed)
            self._link.commit()
            self._good, self.in_force = self.in_force, axis
            self._begin_set(cycle)
            self._tell(InForce(axis, self._good))
        else:  # gains that this test does not use: its answers count for them too
            self._good = axis if self._good is self.in_force else self._good
            self.in_force = axis
            self._tell(InForce(axis, self._good))

    def _changes(self, axis: Axis) -> tuple[str, dict[str, float]]:
        """Return (why they may not be sent, what to write)."""
        plan = self.repeating.plan
        old = controllers(self.repeating.with_gains_of(plan, self.in_force))
        new_plan = self.repeating.with_gains_of(plan, axis)
        changed = {
            name: value
            for name, value in controllers(new_plan).items()
            if BY_NAME[name][1].live and abs(value - old[name]) > _SAME * abs(old[name])
        }
        if not changed:
            return "", {}
        found = problems(new_plan, axis)
        return (found[0].sentence, {}) if found else ("", changed)

    def _begin_set(self, cycle: int) -> None:
        """Have answers belong to the gains in force from the first whole cycle on."""
        played = self._link.status().played
        settled = self.repeating.began(cycle) + _SETTLED_UNTIL * self.repeating.rest
        self._whole_from = cycle if played <= settled else cycle + 1
        self._sets.append(_Set(self.in_force, _now(), []))

    def _watch(self, status: Status) -> None:
        """Put the gains before back where current or voltage stand at their limits, or stop."""
        if not self.repeating.limit or status.rows < _GLANCE:
            return
        channels = self.repeating.plan.channels
        seen = self._link.look(status.rows - _GLANCE, _GLANCE, len(channels))
        asked, vd, vq = (seen[:, channels.index(name)] for name in ("iq_ref", "vd", "vq"))
        limited = np.abs(asked) >= _AT_LIMIT * self.repeating.limit
        limited |= np.hypot(vd, vq) >= _AT_BUS * self.in_force.inverter.v_max
        self._limited.append((status.played, float(np.mean(limited))))
        since = status.played - _LOOKED
        while len(self._limited) > _FEWEST and self._limited[0][0] < since:
            self._limited.popleft()
        looked = status.played - self._limited[0][0]
        enough = len(self._limited) >= _FEWEST and looked > 0.7 * _LOOKED
        if enough and np.mean([share for _, share in self._limited]) > _MOST:
            self._limited.clear()
            if self.in_force is self._good:
                self._link.stop()
                self.fell_back(_SWUNG)
                return
            self._link.put_back()
            self.fell_back(_SWUNG)
            at = max(status.played - self.repeating.began(0), 0.0)
            self._begin_set(int(at // self.repeating.seconds) + 1)

    def fell_back(self, why: str) -> None:
        """Know that the drive has its last good gains again."""
        if self.in_force is self._good:  # there was nothing before
            self._tell(GaveUp(f"{why}: stopped"))
            return
        self._sets[-1].put_back = why
        self.in_force = self._good
        self._tell(PutBack(self._good, why))

    # What it answers

    def _fetch(self, status: Status) -> None:
        """Fetch the newest whole answer; what fell behind is left."""
        newest = self.repeating.answered(status.rows) - 1
        if newest < self._next:
            return
        self._next = newest + 1
        if newest < self._whole_from:
            return
        channels = self.repeating.plan.channels
        first, rows = self.repeating.first_row(newest), self.repeating.rows
        found = self._link.look(first, rows, len(channels)).astype(np.float64)
        self._sets[-1].cycles.append(found)
        self._tell(Cycle(self.in_force, newest, self._read([found])))

    def _read(self, cycles: list[Rows]) -> Reading | None:
        try:
            return read(self._record(cycles), self.in_force)
        except InputError:
            return None  # there is nothing to draw; the row of the logbook will say why

    def _record(self, cycles: list[Rows]) -> Record:
        """Return answers as the record of a test that was played with so many repeats."""
        table, plan = np.concatenate(cycles), self.repeating.plan
        return Record(
            experiment=plan.name,
            sample_time=self.in_force.inverter.Ts,
            columns={name: table[:, i].copy() for i, name in enumerate(plan.channels)},
            units={name: CHANNEL_UNITS[name] for name in plan.channels},
            settings={**self.repeating.settings, "repeats": len(cycles), "by_hand": True},
            drive=self._link.name,
            date=_now(),
            ended="done",
            trip="",
        )

    def kept(self) -> list[Performed]:
        """Return a row of the logbook for each set of gains that answered more than in passing."""
        answered = [one for one in self._sets if one.cycles]
        lasting = [
            one
            for one in answered
            if len(one.cycles) >= _MIXED or one.put_back or one is answered[-1]
        ]
        rows = []
        for one in lasting:
            record = self._record(one.cycles)
            gains = self.repeating.with_gains_of(self.repeating.plan, one.axis).gains
            made = made_of(record, self._experiment, one.axis, gains, record.settings,
                           one.started)  # fmt: skip
            title = f"by hand, {len(one.cycles)} ×: {made.run.title}"
            said = f"{one.put_back}: put back" if one.put_back else made.run.remark
            rows.append(replace(made, run=replace(made.run, title=title, remark=said)))
        return rows


def _now() -> str:
    return datetime.now().astimezone().isoformat(timespec="seconds")
