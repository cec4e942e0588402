"""A ramp of speed as the Speed loop stage shows it: predicted, typed, taken over by the axis."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.position_design import position_target
from oarlock.control.ramp import Ramp, RampFigures, ramp_figures, ramped
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import speed_gains
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_ramp import SpeedRamp, usual_ramp
from oarlock.experiments.loops.speed_test import current_limit, span_of
from oarlock.machine import Axis
from oarlock.machine.position_loop import KEY as POSITION_KEY
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.quantities.shown import Scale, typed_in
from oarlock.views.numbers_of_tests import scales_of, texts
from oarlock.views.screen import SpeedSettings, with_speed_number
from oarlock.views.speed import picture, settled
from oarlock.views.typed_gains import typed

Array = NDArray[np.float64]
LABELS = {"change": "Change", "acceleration": "Acceleration", "jerk_time": "Jerk time"}
_MOST = 4000  # points of a curve
_MOST_AHEAD = 1.5


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RampPicture:
    """A ramp as the loop with the gains on screen follows it; from before it."""

    test: SpeedRamp
    t: Array  # s
    asked: Array  # rad/s
    speed: Array
    push: Array  # A
    limit: float  # A
    figures: RampFigures
    stable: bool

    @property
    def most(self) -> float:
        """The largest current that it takes, A."""
        return float(np.max(np.abs(self.push)))

    @property
    def runs_out(self) -> bool:
        """Whether the current limit would shape it."""
        return self.most > self.limit

    @property
    def reasons(self) -> tuple[str, str]:
        """What it takes, and what to do where that is too much."""
        if not self.stable:
            return "It would swing up.", ""
        seconds = self.test.ramp.duration
        first = f"The ramp takes {1e3 * seconds:.0f} ms"
        if self.runs_out:
            limit = f"Its limit is {digits(self.limit, 3)} A: the speed would fall behind."
            return f"{first} and would need {digits(self.most, 2)} A: accelerate less.", limit
        return (f"{first} and {digits(self.most, 2)} A; the speed lags by "
                f"{digits(self.figures.behind / RPM, 2)} rpm."), ""  # fmt: skip


def settled_ramp(settings: SpeedSettings, axis: Axis) -> SpeedRamp:
    """Return the ramp as it was set, or one that suits the axis.

    Raises
    ------
    InputError : no inertia is known

    """
    speed = settled(settings, axis)[0]
    usual = usual_ramp(axis, speed)
    given = {name: getattr(settings, name) for name in LABELS}
    ramp = replace(usual, **{name: value for name, value in given.items() if value is not None})
    return SpeedRamp(speed=speed, amplitude=ramp.change, acceleration=ramp.acceleration,
                     jerk_time=ramp.jerk_time)  # fmt: skip


def ramp_picture(axis: Axis, settings: SpeedSettings) -> RampPicture:
    """Return how the loop on screen follows the ramp that is set.

    Raises
    ------
    InputError : nothing to design on yet, or a ramp that takes too long

    """
    test = settled_ramp(settings, axis)
    test.refuse_endless()
    return _pictured(picture(axis, settings).loop, test, current_limit(axis))


@lru_cache(maxsize=4)
def _pictured(loop: SpeedLoop, test: SpeedRamp, limit: float) -> RampPicture:
    ramp, T = test.ramp, loop.plant.T
    t = np.arange(int((ramp.duration + span_of(loop)) / T) + 1, dtype=np.float64) * T
    asked, rising = ramp.at(t)
    found = ramped(loop, asked, rising)
    every = slice(None, None, max(t.size // _MOST, 1))
    return RampPicture(
        test=test, t=t[every], asked=asked[every], speed=found.speed[every],
        push=found.push[every], limit=limit, figures=ramp_figures(asked, found.speed),
        stable=loop.is_stable,
    )  # fmt: skip


# The ramp as text and back


def ramp_texts(ramp: Ramp, speeds: Sequence[Scale]) -> dict[str, tuple[str, str]]:
    """Return the numbers of a ramp as text, each with its unit; speeds in the first of theirs."""
    return texts({name: getattr(ramp, name) for name in LABELS}, speeds)


def with_number(
    settings: SpeedSettings, name: str, text: str, speeds: Sequence[Scale]
) -> SpeedSettings:
    """Return settings with one number of the ramp as it was typed.

    Raises
    ------
    InputError : not a number, or none that a ramp can have

    """
    label, value = LABELS[name], typed_in(text, scales_of(name, speeds))
    least = -math.inf if name == "change" else 0.0
    if not (value >= least and (value != 0.0 or name == "jerk_time")):
        raise InputError(f"{label.lower()} {text} makes no ramp", place=label)
    return with_speed_number(settings, name, value)


def with_ramp(axis: Axis, test: SpeedRamp) -> Axis:
    """Return the axis changing its speed, and moving, by the ramp of a test."""
    target = replace(position_target(axis), acceleration=test.acceleration,
                     jerk_time=test.jerk_time or None)  # fmt: skip
    return replace(axis, loops=axis.loops.with_target(POSITION_KEY, target))


def is_ramp(axis: Axis, test: SpeedRamp) -> bool:
    """Return whether a test changes speed by the axis's own ramp."""
    return dict(position_target(axis).ramp) == dict(position_target(with_ramp(axis, test)).ramp)


# The torque that is fed ahead


def ahead_of(axis: Axis, gains: SpeedGains) -> float | None:
    """Return the share of an acceleration's torque that is fed ahead; None: inertia not known."""
    J = axis.machine.inertia
    return gains.acceleration * axis.machine.torque_constant / J.value if J is not None else None


def share_of(text: str) -> float:
    """Return a share of what is asked ahead, as it was typed.

    Raises
    ------
    InputError : not a number, or no share

    """
    value = typed(text)
    if not 0.0 <= value <= _MOST_AHEAD:
        raise InputError(f"a share of {text}", remedy="It lies between 0 and 1.5")
    return value


def with_ahead(axis: Axis, text: str) -> Axis:
    """Return the axis feeding a share of the acceleration's torque ahead, as it was typed.

    Raises
    ------
    InputError : no share, no gains in use, or no inertia to go by

    """
    value, gains, J = share_of(text), speed_gains(axis), axis.machine.inertia
    if gains is None or J is None:
        raise InputError("no gains of the speed loop to feed torque ahead of", place="speed loop",
                         remedy="Take the designed gains first")  # fmt: skip
    ahead = value * J.value / axis.machine.torque_constant
    return axis.with_loop_gains(KEY, replace(gains, acceleration=ahead))
