"""What a replayed run shows: one repeat, measured and simulated over one another."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Progress
from oarlock.errors import InputError
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.position_move import PositionMove
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.quantities.shown import USUAL, Units
from oarlock.records import Record, Run
from oarlock.rehearse.replay import Lack, Replay, Trace, can_be_replayed, replay

Array = NDArray[np.float64]
SHOWN = 4  # runs that are offered
_AGREE = 1.5  # of what repeats differ by
_WHERE = {"inertia": " at the steepest", "torque that grows with speed": " at the highest speed"}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Over:
    """One quantity over the time of one repeat, mean of all, as it is drawn."""

    name: str
    unit: str
    asked: Array | None
    measured: Array
    simulated: Array

    def told_in(self, units: Units) -> "Over":
        """Return it in the units that were chosen, by the names of the usual ones."""
        scale = units.get(self.unit)
        if scale is None:
            return self
        times = USUAL[self.unit].per / scale.per
        asked = None if self.asked is None else times * self.asked
        return Over(name=self.name, unit=scale.unit, asked=asked, measured=times * self.measured,
                    simulated=times * self.simulated)  # fmt: skip

    @property
    def left(self) -> tuple[Array, str]:
        """What lies between both, and its unit: of turns, degrees."""
        scale, unit = (360.0, "°") if self.unit == "turns" else (1.0, self.unit)
        return scale * (self.measured - self.simulated), unit

    @property
    def apart(self) -> str:
        """Root mean square of what lies between both, as it is told."""
        left, unit = self.left
        return f"{digits(float(np.sqrt(np.mean(left**2))), 2)} {unit}".replace(" °", "°")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ReplayPicture:
    """A run over its simulation."""

    run: Run
    t: Array  # (n,) s from the beginning of a repeat
    follows: Over
    current: Over
    answer: str
    reasons: tuple[str, ...]


def offered(runs: Sequence[Run]) -> list[Run]:
    """Return the newest runs that can be replayed, those that are pinned first."""
    fit = [run for run in reversed(runs) if can_be_replayed(run)]
    return sorted(fit, key=lambda run: not run.pinned)[:SHOWN]


def replayed(
    run: Run, source: Callable[[], Record | None], axis: Axis, *,
    progress: Progress | None = None, cancel: Cancel | None = None,
) -> ReplayPicture:  # fmt: skip
    """Return the picture of a replay. Work for a job.

    Raises
    ------
    InputError : the record is not there, or cannot be replayed

    """
    record = source()
    if record is None:
        raise InputError("its record is not kept", place=f"run {run.id}", remedy="Play it again")
    if progress is not None:
        progress(0.1, "simulating the run")
    return pictured(replay(run, record, axis, cancel=cancel))


def pictured(found: Replay) -> ReplayPicture:
    """Return what is drawn and said of a replay."""
    name, scale, unit, asked = _followed(found)
    along = f"i{found.run.settings.get('axis_name', 'q')}"
    amperes = along if along in found.traces else "iq_ref"
    follows = _over(found, name, scale, unit, asked)
    current = _over(found, amperes, 1.0, "A", "")
    if found.run.kind == CurrentStep.name:  # the current is what follows; what it takes is volts
        current = _over(found, f"v{along[1]}", 1.0, "V", "")
    answer, reasons = _said(found, follows, current, found.traces[name])
    return ReplayPicture(run=found.run, t=found.t[: found.period] - found.t[0], follows=follows,
                         current=current, answer=answer, reasons=reasons)  # fmt: skip


def _followed(found: Replay) -> tuple[str, float, str, str]:
    """Return the channel that follows, its scale and unit, and the one that is asked."""
    kind = found.run.kind
    if kind == PositionMove.name:
        return "theta_m", 1.0 / math.tau, "turns", "position_ref"
    if kind == CurrentStep.name:
        axis_name = str(found.run.settings["axis_name"])
        return f"i{axis_name}", 1.0, "A", f"i{axis_name}_ref"
    return "speed", 1.0 / RPM, "rpm", "speed_ref"


def _over(found: Replay, name: str, scale: float, unit: str, asked: str) -> Over:
    trace = found.traces[name]
    word = {"theta_m": "position", "iq_ref": "current asked for"}.get(name, name)
    given = found.traces[asked].measured if asked else None
    return Over(
        name=word, unit=unit,
        asked=None if given is None else scale * _mean(given, found.period),
        measured=scale * _mean(trace.measured, found.period),
        simulated=scale * _mean(trace.simulated, found.period),
    )  # fmt: skip


def _mean(values: Array, period: int) -> Array:
    """Return one repeat, the mean of all whole ones."""
    many = values.size // period
    mean: Array = values[: many * period].reshape(many, period).mean(axis=0)
    return mean


def _said(
    found: Replay, follows: Over, current: Over, trace: Trace
) -> tuple[str, tuple[str, ...]]:  # fmt: skip
    apart = (f"{follows.name.capitalize()} lies {follows.apart} from the model, "
             f"{current.name} {current.apart}, as a mean of all repeats.")  # fmt: skip
    if found.lacks:
        return _lack(found.lacks[0]), (apart, *(f"{_lack(one)}." for one in found.lacks[1:]))
    if math.isnan(trace.ratio):
        once = "It was played once: what differs from one time to the next is not known."
        return f"Model and drive lie {follows.apart} apart", (once,)
    times = digits(trace.ratio, 2)
    if trace.ratio <= _AGREE:
        return f"The model says what the drive did, within {times} times its repeats", (apart,)
    return f"They differ by {times} times what repeats do, and no one torque explains it", (apart,)


def _lack(one: Lack) -> str:
    what = "lacks" if one.torque > 0.0 else "has too much"
    size = digits(abs(one.torque), 2)
    return f"The model {what} {one.name}: {size} N·m{_WHERE.get(one.name, '')}"
