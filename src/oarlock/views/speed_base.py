"""What the Speed loop stage keeps of an axis while a handle is dragged, and its best loop."""

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.margins import margins
from oarlock.control.speed import SpeedLoop, Spread, spread_of
from oarlock.control.speed_design import (
    RIPPLE,
    Turning,
    count_of,
    observing,
    plant_in_use,
    plant_of,
    speed_noise,
    volts_left,
    wanted_of,
)
from oarlock.control.speed_gains import reach, stiffest, stiffest_observing
from oarlock.control.speed_plant import SpeedPlant
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
LOWEST = 2.0  # Hz, where the frequency plots begin
_POINTS = 180
_TOLERANCE = 0.10  # of an inertia without a stated uncertainty


@dataclass(frozen=True, slots=True, eq=False)
class Base:
    """What does not change while a handle is dragged."""

    plant: SpeedPlant
    others: Array  # rows of plants with the least and the largest inertia that it may have
    reaches: tuple[float, float, float]
    current: float  # crossover of the current loop, rad/s
    spread: Spread
    limit: float  # A, that the controller may ask for
    volts: float  # V, that the bus has left
    noise: float  # rad/s rms, of the measured speed
    count: float  # rad
    most_shaken: float  # A rms, that the sensor's steps may shake
    per_ampere: float  # N·m


@lru_cache(maxsize=8)
def base_of(axis: Axis, speed: float) -> Base:
    """Return it of an axis `without_pi` that turns at `speed`, rad/s; kept.

    Raises
    ------
    InputError : nothing is known to close a speed loop over

    """
    turning = Turning(speed=speed)
    plant = plant_in_use(axis, turning)
    J = axis.machine.inertia
    off = 2.0 * J.std / J.value if J is not None and J.std else _TOLERANCE
    shaft = plant.shaft
    sizes = [
        replace(plant, shaft=replace(shaft, motor=r * shaft.motor, load=r * shaft.load,
                                     stiffness=r * shaft.stiffness))
        for r in (1.0 - off, 1.0 + off)
    ]  # fmt: skip
    sixty, fortyfive, thirty = (
        reach(plant, math.radians(degrees)) / math.tau for degrees in (60.0, 45.0, 30.0)
    )
    bare = plant_of(axis, turning=turning, filters=())
    return Base(
        plant, np.array([one.rows for one in sizes]), (sixty, fortyfive, thirty),
        margins(plant.current.opened).crossover,
        spread_of(plant, bare, math.tau * LOWEST, _POINTS),
        limit=current_limit(axis), volts=volts_left(axis, turning),
        noise=speed_noise(axis, turning), count=count_of(axis), most_shaken=RIPPLE * axis.rated,
        per_ampere=axis.machine.torque_constant,
    )  # fmt: skip


def used(bare: Axis, speed: float, loop: SpeedLoop) -> float:
    """Return the share of the stiffness that a loop has, of what its margin allows."""
    if not loop.is_stable:
        return 0.0
    degrees = round(math.degrees(loop.margins.phase_margin))
    least = _least_area(bare, speed, degrees, observing(bare, loop.gains))
    return min(least / loop.dip_area, 1.0) if least > 0.0 else 0.0


@lru_cache(maxsize=16)
def _least_area(axis: Axis, speed: float, degrees: int, beside: SpeedGains) -> float:
    """Return the least area of a dip (rad for 1 A) that a margin allows with the axis's filters.

    Of a PI, and of a P and a load observer where there is one.

    NaN: no gains keep it.
    """
    wanted = wanted_of(axis, math.radians(max(degrees, 30)), Turning(speed=speed))
    plant = base_of(axis, speed).plant
    tried = [stiffest(plant, wanted)]
    if beside.observer > 0.0:
        tried.append(stiffest_observing(plant, wanted, beside))
    return min((found.dip_area for found in tried if found), default=math.nan)
