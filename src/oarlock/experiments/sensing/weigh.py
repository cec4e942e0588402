"""The rough inertia of a shaft of which none is known, by pushes that grow until it moves.

Each push is taken back as hard. Of the two accelerations friction slows the first and helps
the second, so that their mean is the torque over the inertia and friction falls out. Both axes
are pushed: what the zero is wrong by shares the torque between them, and the hypotenuse is
what it would be along q. Each play begins at rest: one that was broken off leaves the shaft
coasting.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.standstill import await_standstill
from oarlock.drive.steps import Frame, Plan, Step
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import abort_limits
from oarlock.machine import Axis, SensorKind
from oarlock.records import Record

Array = NDArray[np.float64]
SHARES = (0.05, 0.1, 0.2, 0.4)  # of rated current, along q and along d in turn
SHARE_UNKNOWN = 0.5  # of the inertia found: breaking away and a printed flux make it too large
SECONDS = tuple(0.003 * 2.0**n for n in range(8))  # s; each push twice as long as the last
_LONGEST = 0.2  # s, but for halls, whose few edges lie far apart
_HARDER = 3.0  # than what moved it first
_REST = 0.1  # s, between pushes at least
_BETWEEN, _BETWEEN_HALL = 0.2, 0.5  # s, from one play to the next, seen to stand in between
_SEEN = math.radians(2.0)  # mechanical, that is enough to fit
_STEPS_SEEN = 20.0  # of the sensor
_TURNS, _TURNS_HALL = 10.0 / 360.0, 0.6  # where a push is broken off; of halls, at least
_SECTORS = 6.0  # of halls, where it is broken off: 4 edges in them
_TOP_SPEED, _TOP_SPEED_HALL = 0.1, 0.2  # of the machine's, where it is broken off as well


@dataclass(frozen=True, slots=True)
class Weighed:
    """A rough inertia, or a bound of it."""

    inertia: float  # kg m2
    moved: bool  # False: nothing moved, and a smaller inertia would have been seen


def turns_at_most(axis: Axis) -> float:
    """Return how far (turns) a push may move the shaft before it is broken off."""
    if axis.sensor.kind is not SensorKind.HALL:
        return _TURNS
    return max(_TURNS_HALL, _SECTORS / 6.0 / axis.machine.pole_pairs.value)


def speed_at_most(axis: Axis) -> float:
    """Return how fast (rad/s) a push may turn the shaft before it is broken off."""
    share = _TOP_SPEED_HALL if axis.sensor.kind is SensorKind.HALL else _TOP_SPEED
    return share * axis.top_speed


def durations(axis: Axis) -> tuple[float, ...]:
    """Return how long (s) the pushes are that are tried one after the other."""
    hall = axis.sensor.kind is SensorKind.HALL
    return tuple(each for each in SECONDS if hall or each < _LONGEST)


def seconds_at_most(axis: Axis) -> float:
    """Return how long (s) weighing takes where hardly anything moves: all pushes, and again."""
    between = _BETWEEN_HALL if axis.sensor.kind is SensorKind.HALL else _BETWEEN
    each = sum(2.0 * standing(s) + 4.0 * s + between for s in durations(axis))
    return (len(SHARES) + 1) * each


def standing(seconds: float, least: float = _REST) -> float:
    """Return how long (s) to wait after a push of some seconds that was taken back.

    Friction f takes part in both: the push ends at a = (T - f)/J times its length t, the one back
    stops it early and turns it round, until at its end it goes at 2 f a t/(T + f) the other way.
    To coast to rest from there takes 2 t (T - f)/(T + f): less than 2 t, whatever f is.
    """
    return max(least, 2.0 * seconds)


def weigh(axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Weighed:
    """Push gently, then longer and harder, until the shaft is seen to move.

    Raises
    ------
    LinkError, Cancelled, InputError : as `play`

    """
    weighing_up = _Weighing(axis, link, cancel, progress)
    rated, found = axis.rated, None
    for share in SHARES:
        found = weighing_up.seen(share * rated, durations(axis))
        if found:
            break
    if found is None:
        torque = axis.machine.torque_constant * SHARES[-1] * rated
        bound = 0.5 * torque * durations(axis)[-1] ** 2 / _enough(axis)
        return Weighed(bound, False)
    # It may have moved because friction had just been overcome: harder, that is a small part.
    harder = min(_HARDER * found.current, SHARES[-1] * rated)
    longer = [s for s in durations(axis) if s > 0.2 * found.seconds]
    again = weighing_up.seen(harder, longer) or found
    return Weighed(axis.machine.torque_constant * again.current / again.acceleration, True)


@dataclass(frozen=True, slots=True)
class _Seen:
    current: float  # A
    seconds: float
    acceleration: float  # rad/s²


class _Weighing:
    def __init__(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress) -> None:
        self._axis, self._link, self._cancel, self._progress = axis, link, cancel, progress
        self._side, self._done = 1.0, 0

    def seen(self, current: float, durations: Sequence[float]) -> _Seen | None:
        """Push for longer and longer until the shaft is seen to move; None: it never was."""
        for seconds in durations:
            self._done += 1
            told = f"weighing, {current:.2g} A for {1e3 * seconds:.0f} ms"
            self._progress(min(self._done / 40.0, 0.8), told)
            signed, self._side = self._side * current, -self._side
            await_standstill(self._axis, self._link, self._cancel)
            plan = weighing(self._axis, signed, seconds)
            record = play(plan, self._axis, self._link, settings={}, cancel=self._cancel)
            found = [_fitted(record, name, signed, self._axis) for name in ("iq_ref", "id_ref")]
            far = max(moved for _, moved in found)
            # What hardly moved tells the noise of the sensor.
            acceleration = math.hypot(*(a for a, moved in found if moved > 0.25 * far))
            if far >= _enough(self._axis) and acceleration > 0.0:
                return _Seen(current, seconds, acceleration)
        return None


def weighing(axis: Axis, current: float, seconds: float) -> Plan:
    """Return one trial: a push and the same one back along q, then along d.

    Parameters
    ----------
    current : A, negative: the other way first
    seconds : of each push

    """
    still = Step(duration=standing(seconds), frame=Frame.ROTOR, record=False, release=False)
    on_q = Step(duration=seconds, i_q=current, release=True)
    on_d = Step(duration=seconds, i_d=current, release=True)
    steps = (still, on_q, replace(on_q, i_q=-current), still, on_d, replace(on_d, i_d=-current))
    return Plan(
        name="weighing",
        steps=steps,
        channels=("t", "theta_m", "iq_ref", "id_ref", "hall"),
        decimation=max(math.ceil(4.0 * seconds / axis.inverter.Ts / 8000), 1),
        limits=abort_limits(
            axis,
            current=abs(current),
            turns=turns_at_most(axis),
            speed=speed_at_most(axis),
            seconds=sum(step.duration for step in steps),
        ),
        gains=gentle_gains(axis, math.tau * 200.0),
    )


def _enough(axis: Axis) -> float:
    """Return how far (rad, mechanical) the shaft must be seen to move."""
    sector = math.tau / 6.0 / axis.machine.pole_pairs.value
    if axis.sensor.kind is SensorKind.HALL:
        return min(4.0 * sector, 0.7 * math.tau * turns_at_most(axis))
    step = math.tau / axis.sensor.counts.value if axis.sensor.kind is SensorKind.ENCODER else 0.0
    return min(max(_SEEN, _STEPS_SEEN * step), 0.7 * math.tau * _TURNS)


def _fitted(record: Record, column: str, current: float, axis: Axis) -> tuple[float, float]:
    """Return (rad/s², the mean of how it was pushed and how caught again; rad that it moved).

    From rest it goes a t²/2, and from where and as fast as that brought it it slows by b, until
    it turns round: a and b by least squares, and of halls where it stood within its sector.
    """
    asked = record[column] * math.copysign(1.0, current)
    rows = np.flatnonzero(asked != 0.0)
    if rows.size < 8:
        return 0.0, 0.0
    begun = rows[0]
    t, theta = record["t"][rows] - record["t"][begun], record["theta_m"][rows]
    way = np.abs(theta - theta[0])
    end = int(np.argmax(way)) + 1  # what follows has turned round, or stands
    seconds = float(t[asked[rows] > 0.0][-1]) if np.any(asked[rows] > 0.0) else 0.0
    kept = np.arange(end)
    hall = axis.sensor.kind is SensorKind.HALL
    if hall:
        kept = 1 + np.flatnonzero(np.diff(record["hall"][rows])[: end - 1] != 0.0)
    moved = float(way.max())
    if kept.size < 4 or seconds <= 0.0:
        return 0.0, moved
    late = np.maximum(t[kept] - seconds, 0.0)
    early = np.minimum(t[kept], seconds)
    basis = np.column_stack([0.5 * early**2 + seconds * late, -0.5 * late**2])
    if hall:
        basis = np.column_stack([basis, np.ones(kept.size)])
    if not np.any(late > 0.0):
        basis = np.delete(basis, 1, axis=1)
    found, *_ = np.linalg.lstsq(basis, theta[kept] - theta[0], rcond=None)
    pushed = float(found[0])
    caught = float(found[1]) if np.any(late > 0.0) else 0.0
    # Caught at once by friction, or broken off before: the push alone tells.
    mean = abs(0.5 * (pushed + caught)) if caught * pushed > 0.0 else abs(pushed)
    return mean, moved
