"""Proof of the zero: short pushes along +q, -q, +d and -d, and what the shaft made of them.

+iq must turn it forward and -iq backward, as hard; id must not turn it at all. Each push is
taken back at once, so that the shaft ends where it began. Where no inertia is known to size
them by, the shaft is weighed first.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.standstill import await_standstill
from oarlock.drive.steps import Frame, Plan, Step
from oarlock.experiments.common.field import forcing_current
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.sensing.evidence import Pushed
from oarlock.experiments.sensing.weigh import (
    SHARE_UNKNOWN,
    SHARES,
    durations,
    seconds_at_most,
    speed_at_most,
    standing,
    turns_at_most,
    weigh,
    weighing,
)
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate, Origin
from oarlock.records import Check, Finding, Plain, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
_UNEVEN = 0.30  # of the mean of forward and back
_WEAK = 0.35  # of the torque due
_ASTRAY = math.radians(8.0)  # electrical: what torque from id gives away
_TRAVEL = math.radians(3.0)  # mechanical, of each acceleration
_TRAVEL_HALL = math.radians(40.0)
_SECTORS = 5.0  # of halls, of each acceleration, at least: two edges, however late it starts
_LEFT = 0.3  # of the torque, that friction leaves at least
NAMES = ("+q", "−q", "+d", "−d")


@dataclass(frozen=True, slots=True, kw_only=True)
class FourPushes:
    """Push and take back along +q, -q, +d, -d."""

    name: ClassVar[str] = "four pushes"
    share: float = 0.25  # of rated current, along q
    friction: float = 0.0  # N·m, breakaway as it was found before
    rest: float = 0.15  # s, between pushes, at least

    weighed: float | None = None  # kg m2, roughly, where the axis knows none
    moved: bool = True  # False: it was weighed and nothing moved

    def _inertia(self, axis: Axis) -> float | None:
        m = axis.machine
        return m.inertia.value if m.inertia else self.weighed

    def _push(self, axis: Axis, inertia: float) -> tuple[float, float, float]:
        """Return (A along q, s of one acceleration, rad/s reached)."""
        m = axis.machine
        current = self.share * axis.rated
        torque = m.torque_constant * current
        acceleration = max(torque - self.friction, _LEFT * torque) / inertia
        travel = self._travel(axis)
        seconds = min(max(math.sqrt(2.0 * travel / acceleration), 0.006), 0.4)
        return current, seconds, acceleration * seconds

    def _travel(self, axis: Axis) -> float:
        """Return how far (rad, mechanical) each acceleration goes."""
        if axis.sensor.kind is not SensorKind.HALL:
            return _TRAVEL
        return max(_TRAVEL_HALL, _SECTORS * math.tau / 6.0 / axis.machine.pole_pairs.value)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis; the hardest weighing at first."""
        inertia = self._inertia(axis)
        if inertia is None:
            return weighing(axis, SHARES[-1] * axis.rated, durations(axis)[-1])
        current, seconds, speed = self._push(axis, inertia)
        along = _along(axis, current)
        still = Step(
            duration=standing(seconds, self.rest), frame=Frame.ROTOR, record=False, release=False
        )
        steps: list[Step] = []
        for side in (1.0, -1.0):
            go = Step(duration=seconds, i_q=side * current, release=True)
            steps += [still, go, replace(go, i_q=-side * current)]
        for side in (1.0, -1.0):
            steps += [still, Step(duration=seconds, i_d=side * along, release=True)]
        total = sum(step.duration for step in steps)
        recorded = 6.0 * seconds / axis.inverter.Ts
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_m", "iq_ref", "id_ref", "iq", "id", "hall", "theta_e"),
            decimation=max(math.ceil(recorded / 12000), 1),
            limits=abort_limits(
                axis,
                current=1.5 * max(along, current),
                turns=4.0 * self._travel(axis) / math.tau
                + (0.45 if axis.sensor.kind is SensorKind.HALL else 0.09),
                speed=3.0 * speed + 5.0,
                seconds=total,
            ),
            gains=gentle_gains(axis, math.tau * 200.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return "four pushes, +q −q +d −d"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        inertia = self._inertia(axis)
        along = _along(axis, self.share * axis.rated)
        if inertia is None:
            degrees = 360.0 * turns_at_most(axis)
            return Movement(
                what=f"turns up to {degrees:.0f}° and back, a few times, as no inertia is known",
                speed=speed_at_most(axis),
                current=max(along, SHARES[-1] * axis.rated),
                seconds=seconds_at_most(axis),
            )
        current, seconds, speed = self._push(axis, inertia)
        degrees = math.degrees(speed * seconds)
        return Movement(
            what=f"turns {degrees:.0f}° and back, twice",
            speed=speed,
            current=max(along, current),
            seconds=self.plan(axis).duration,
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        inertia = self._inertia(axis)
        if inertia is None:
            return {"kind": axis.sensor.kind.value, "friction": self.friction}
        current, seconds, _ = self._push(axis, inertia)
        weighed = {"weighed": self.moved} if axis.machine.inertia is None else {}
        return weighed | {
            "current": current,
            "along": _along(axis, current),
            "seconds": seconds,
            "rest": standing(seconds, self.rest),
            "inertia": inertia,
            "kind": axis.sensor.kind.value,
            "friction": self.friction,
        }

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Weigh the shaft if need be, then push it.

        Raises
        ------
        InputError, LinkError, Cancelled : as `play`

        """
        experiment = self
        if self._inertia(axis) is None:
            found = weigh(axis, link, cancel, progress)
            experiment = replace(self, weighed=found.inertia, moved=found.moved)
            await_standstill(axis, link, cancel)
        return play(experiment.plan(axis), axis, link, settings=experiment.settings(axis),
                    cancel=cancel, progress=progress)  # fmt: skip


def _along(axis: Axis, current: float) -> float:
    """Return the current (A) of the pushes along d: strong, unless the angle is coarse."""
    return current if axis.sensor.kind is SensorKind.HALL else forcing_current(axis)


@dataclass(frozen=True, slots=True)
class _Push:
    """One push as it was recorded: time and angle from its start."""

    t: Array
    moved: Array  # rad, mechanical
    acceleration: float  # rad/s²
    std: float


def read_pushes(record: Record, axis: Axis) -> Finding:
    """Return the torque of each push and whether the zero is proven.

    Parameters
    ----------
    record : columns t, theta_m, iq_ref, id_ref; settings of `FourPushes`
    axis : for torque constant and inertia

    """
    friction = number(record.settings, "friction", 0.0)
    inertia = number(record.settings, "inertia")
    weighed = "weighed" in record.settings
    pushes = _split(record, axis)
    torque = [push.acceleration * inertia for push in pushes]
    std = [push.std * inertia for push in pushes]
    current, along = number(record.settings, "current"), number(record.settings, "along")
    due = max(axis.machine.torque_constant * current - friction, 0.0)
    hidden = _hidden(axis, along, friction, max(std))
    found = math.atan2(
        0.5 * (torque[2] - torque[3]) / along, 0.5 * (torque[0] - torque[1]) / current
    )
    estimates = {
        f"torque {name}": Estimate(value=t, std=s, unit="N m", origin=Origin.MEASURED)
        for name, t, s in zip(NAMES, torque, std, strict=True)
    }
    extra = estimates | {
        "due": Estimate(value=due, std=0.1 * due, unit="N m", origin=Origin.DERIVED),
        "hidden": Estimate(value=hidden, std=None, unit="rad", origin=Origin.DERIVED),
        "astray": Estimate(value=found, std=hidden, unit="rad", origin=Origin.MEASURED),
    }
    return Finding(
        quantity=FourPushes.name,
        estimates=_weighed(record, pushes, axis),
        extra=extra,
        checks=tuple(_checks(pushes, torque, due, found, hidden, weighed=weighed)),
        remark=f"d moves nothing: zero right within {math.degrees(hidden):.1f}°"
        if abs(found) < _ASTRAY
        else f"{math.degrees(found):.0f}° astray",
        evidence=Pushed(
            curve=pushes[0].moved,
            t=tuple(push.t for push in pushes),
            moved=tuple(push.moved for push in pushes),
        ),
    )


def _weighed(record: Record, pushes: list[_Push], axis: Axis) -> dict[str, Estimate]:
    """Return the rough inertia, where none was known and the shaft moved, if only when pushed."""
    if "weighed" not in record.settings:
        return {}
    inertia = number(record.settings, "inertia")
    if not record.settings["weighed"]:
        forward, back = (push.acceleration for push in pushes[:2])
        if not (forward > 0.0 > back):
            return {}
        torque = axis.machine.torque_constant * number(record.settings, "current")
        inertia = 2.0 * torque / (forward - back)
    return {
        "machine.inertia": Estimate(value=inertia, std=SHARE_UNKNOWN * inertia, unit="kg m2",
                                    origin=Origin.ROUGH)
    }  # fmt: skip


def _hidden(axis: Axis, along: float, friction: float, std: float) -> float:
    """Return the zero's error (rad, electrical) whose torque along d friction would hide."""
    if axis.sensor.kind is SensorKind.HALL:
        return math.tau / 12.0
    most = axis.machine.torque_constant * along
    return math.asin(min((friction + 2.0 * std) / most, 1.0))


def _split(record: Record, axis: Axis) -> list[_Push]:
    t, theta, seconds = record["t"], record["theta_m"], number(record.settings, "seconds")
    q, d = record["iq_ref"], record["id_ref"]
    wanted = (q > 0.0, q < 0.0, d > 0.0, d < 0.0)
    rest = number(record.settings, "rest")
    starts = np.flatnonzero(np.concatenate([[True], np.diff(t) > 0.5 * rest]))
    found = []
    for mask, start in zip(wanted, [*starts, *[record.rows] * 4], strict=False):
        rows = np.arange(start, record.rows)
        rows = (
            rows[(t[rows] - t[min(start, record.rows - 1)]) < 0.999 * seconds]
            if rows.size
            else rows
        )
        # A sample at the border may belong to what follows.
        rows = rows[: int(np.argmin(mask[rows]))] if not np.all(mask[rows]) else rows
        if rows.size < 8:
            found.append(_Push(np.zeros(1), np.zeros(1), 0.0, 0.0))
            continue
        found.append(
            _fitted(t[rows] - t[rows[0]], theta[rows] - theta[rows[0]], record, rows, axis)
        )
    return found


def _fitted(t: Array, moved: Array, record: Record, rows: NDArray[np.int64], axis: Axis) -> _Push:
    """Fit half the acceleration times the square of time; of halls, at the edges alone."""
    at, x = t, moved
    if axis.sensor.kind is SensorKind.HALL:
        edges = np.flatnonzero(np.diff(record["hall"][rows]) != 0.0) + 1
        # Within a sector the angle is unknown: there even a right d pulls the shaft a little.
        sector = math.tau / 6.0 / axis.machine.pole_pairs.value
        if edges.size < 2 or abs(float(moved[-1])) < 1.9 * sector:
            return _Push(t, moved, 0.0, 0.0)
        at, x = t[edges], moved[edges]
        # Where the shaft stood within its sector is not known: an offset is fitted as well.
        basis = np.column_stack([0.5 * at**2, np.ones_like(at)])
    else:
        basis = 0.5 * at[:, None] ** 2
    found, *_ = np.linalg.lstsq(basis, x, rcond=None)
    rest = x - basis @ found
    spread = float(np.std(rest)) / math.sqrt(max(float(np.sum(basis[:, 0] ** 2)), 1e-18))
    return _Push(t, moved, float(found[0]), spread)


def _checks(
    pushes: list[_Push],
    torque: list[float],
    due: float,
    found: float,
    hidden: float,
    *,
    weighed: bool,
) -> list[Check]:
    forward, back = torque[0], torque[1]
    mean = 0.5 * (forward - back)
    least = _WEAK * due
    along = max(abs(torque[2]), abs(torque[3]))
    stuck = max(abs(t) for t in torque) < 0.1 * due
    return [
        Check(
            code="shaft moves",
            passed=not stuck,
            sentence="Nothing moved, whichever way it was pushed: brake on, shaft blocked, or the "
            "current does not flow"
            if stuck
            else "The shaft moves when pushed",
        ),
        Check(code="forward is forward", passed=stuck or (forward > least and back < -least),
              sentence=_way(forward, back, along, least, stuck=stuck)),
        Check(
            code="both ways alike",
            passed=stuck or mean <= 0.0 or abs(forward + back) <= _UNEVEN * 2.0 * mean,
            sentence=_alike(forward, back, mean),
        ),
        Check(
            code="no torque along d",
            passed=stuck or mean <= 0.0 or abs(found) < max(_ASTRAY, hidden),
            sentence=f"Currents along d give {along:.2g} N·m: the zero is "
            f"{math.degrees(found):+.0f}° off"
            if abs(found) >= max(_ASTRAY, hidden) and not stuck
            else f"Currents along d move nothing, so the zero is not off by more than "
            f"{math.degrees(hidden):.1f}°",
        ),
        Check(
            code="torque due",
            passed=weighed or stuck or mean <= 0.0 or _WEAK * due < mean < 2.5 * due,
            sentence="Not judged: the inertia was found from the same torque"
            if weighed
            else f"{mean:.2f} N·m were seen, {due:.2f} follow from magnet flux and current",
        ),
        _lasting(pushes[0], stuck=stuck),
    ]  # fmt: skip


def _way(forward: float, back: float, along: float, least: float, *, stuck: bool) -> str:
    if stuck:
        return "Not judged: nothing moved"
    if forward < -least and back > least:
        return "+iq turns it backward: the zero is 180° off, or two wires are exchanged"
    if abs(forward) <= least and abs(back) <= least and along > least:
        return "iq turns nothing and id does: the zero is 90° off"
    if forward * back > 0.0 and min(abs(forward), abs(back)) > 0.2 * least:
        return "Both pushes turned it the same way: the load drives it"
    if (abs(forward) <= least) != (abs(back) <= least):
        return "It turns one way only: friction of one way, or the load holds against it"
    return "+iq turns it forward, −iq backward"


def _alike(forward: float, back: float, mean: float) -> str:
    if mean <= 0.0:
        return "Not judged: it turns the wrong way"
    uneven = (forward + back) / (2.0 * mean)
    sentence = f"Forward and back differ by {100 * abs(uneven):.0f} % "
    sentence += f"({100 * _UNEVEN:.0f} allowed)"
    if abs(uneven) > _UNEVEN:
        sentence += ": a load, friction of one way, or an offset in a current sensor"
    return sentence


def _lasting(push: _Push, *, stuck: bool) -> Check:
    """Whether the push lasted: with a wrong direction or pole pairs the angle runs away."""
    half = push.t.size // 2
    if half < 8 or stuck or push.acceleration <= 0.0:
        return Check(code="push lasts", passed=True, sentence="Not judged: too little motion")
    early = float(push.moved[half] - push.moved[0])
    late = float(push.moved[-1] - push.moved[half])
    lasts = late > 1.8 * early  # three times, if the torque stays
    return Check(
        code="push lasts",
        passed=lasts,
        sentence="The torque stays while the shaft turns"
        if lasts
        else "The torque dies as the shaft turns: direction or pole pairs are wrong",
    )
