"""What a recorded ramp of speed says: how far the speed lags, and whether the current sufficed."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.margins import Margins
from oarlock.control.ramp import Ramp, RampFigures, ramp_figures, ramped
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_response import Averaged, averaged, common_checks, was_limited
from oarlock.experiments.loops.under_noise import Beside, beside, smoothed
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Check, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
_OFF = 0.10  # of the lag, that it may differ by from the plan
_OF_RAMP = 0.005  # of the change of speed, likewise: friction that grows with speed is not in it
_SAMPLES = 2.0  # of the speed loop, by which the drive's ramp may lie earlier or later
_OF_TIME = 0.25  # of the ramp's time, over which is smoothed at most


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RampResult(Verdict):
    """An averaged ramp of the speed, beside what the exact loop gives."""

    t: Array  # s from where the controller first saw the ramp
    asked: Array  # rad/s, from before
    speed: Array
    predicted: Array
    current: Array  # A asked for, from before
    start: float  # rad/s, before
    ramp: Ramp
    margins: Margins
    measured: RampFigures
    expected: RampFigures

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        return {
            "lag": self.measured.behind,
            "past": self.measured.beyond,
            "speed_crossover": self.margins.crossover,
            "phase_margin": self.margins.phase_margin,
            "agrees": float(self.holds),
        }

    @property
    def curve(self) -> Array:
        """By how much the speed lags."""
        return self.asked - self.speed


def read_speed_ramp(record: Record, axis: Axis) -> RampResult:
    """Hold a recorded ramp of the speed against the loop.

    Parameters
    ----------
    axis : as it was then, with the gains and filters that the run had

    Raises
    ------
    InputError : rows that do not fit the settings, no gains, or no ramp

    """
    s = record.settings
    ramp = Ramp(change=number(s, "amplitude"), acceleration=number(s, "acceleration"),
                jerk_time=number(s, "jerk_time"))  # fmt: skip
    if not (ramp.change and ramp.acceleration > 0.0):
        raise InputError("a ramp of nothing", place=record.experiment)
    found = averaged(record, axis, asked=True)
    _, rising = ramp.at(found.t)
    model = ramped(found.loop, found.asked, rising).speed
    expected = ramp_figures(found.asked, model)
    behind, beyond = _beside(found, model, ramp)
    measured = RampFigures(
        behind=expected.behind + behind.off, beyond=max(expected.beyond + beyond.off, 0.0)
    )
    return RampResult(
        t=found.t, asked=found.asked, speed=found.speed, predicted=model, current=found.current,
        start=found.start, ramp=ramp, margins=found.loop.margins, measured=measured,
        expected=expected, checks=tuple(_checks(record, axis, found, ramp, expected,
                                                behind, beyond)),
    )  # fmt: skip


def _beside(found: Averaged, model: Array, ramp: Ramp) -> tuple[Beside, Beside]:
    """Return by how much the lag and what goes past the end differ from the plan, rad/s.

    Steps of the sensor that keep time with the ramp stay in the mean of all repeats, and the
    highest of many is no lag: both curves are smoothed over the loop's own time.
    """
    T = found.loop.plant.T
    wide = max(round(min(1.0 / found.loop.margins.crossover, _OF_TIME * ramp.duration) / T), 1)
    end = float(found.asked[-1])
    side = math.copysign(1.0, end)
    way = smoothed(found.asked, wide)

    def lag(y: Array) -> float:
        return float(np.max(side * (way - y)))

    def past(y: Array) -> float:
        return float(np.max(side * (y - end)))

    behind, beyond = (
        beside(figure, found.speed, model, found.shaken, wide) for figure in (lag, past)
    )
    return behind, beyond


def _checks(
    record: Record, axis: Axis, found: Averaged, ramp: Ramp, expected: RampFigures,
    behind: Beside, beyond: Beside,
) -> list[Check]:  # fmt: skip
    slack = _OF_RAMP * abs(ramp.change)
    planned, _ = ramp.at(found.t)
    apart = float(np.max(np.abs(found.asked - planned)))
    lag, past = (_OFF * expected.behind + slack + 2.0 * one.std for one in (behind, beyond))
    return [
        *common_checks(record, axis, found, was_limited(record)),
        Check(
            code="asked",
            passed=apart
            <= _SAMPLES * ramp.acceleration * found.loop.plant.T + 1e-3 * abs(ramp.change),
            sentence=f"What the drive asked for lies up to {_rpm(apart)} off the ramp that was set",
        ),
        Check(
            code="lag",
            passed=abs(behind.off) <= lag,
            sentence=f"It lags by {_rpm(expected.behind + behind.off)}, "
            f"{_rpm(expected.behind)} were predicted ({_rpm(lag)} apart allowed)",
        ),
        Check(
            code="past",
            passed=abs(beyond.off) <= past,
            sentence=f"It goes {_rpm(max(expected.beyond + beyond.off, 0.0))} past the end, "
            f"{_rpm(expected.beyond)} were predicted ({_rpm(past)} apart allowed)",
        ),
    ]


def _rpm(speed: float) -> str:
    return f"{digits(speed / RPM, 2)} rpm"
