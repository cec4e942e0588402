"""Gains of the speed loop that hold on every machine within the uncertainty of the estimates.

Many axes are drawn about the best estimates, as a study draws its plants, the shaft's resonances
with them. The loop of each is exact; the worst phase margin of all is what the gains are worth.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, plant_of, usual_speed
from oarlock.control.speed_plant import SpeedPlant
from oarlock.drive.link import Progress
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.rehearse.vary import relative, tolerances

Array = NDArray[np.float64]
_PATHS = {"R": "machine.R", "Ld": "machine.Ld", "Lq": "machine.Lq", "flux": "machine.psi",
          "inertia": "machine.inertia"}  # fmt: skip
_RESONANCES = ("mechanics.anti_resonance", "mechanics.resonance")
_LEAST, _HALVINGS = 0.1, 12  # of the gains in use; of the search between the two
_FEWEST = 0.2  # of a value, however far a draw goes


@dataclass(frozen=True, slots=True, kw_only=True)
class Holding:
    """What the gains in use are worth over many machines, and gains that are worth more."""

    many: int
    nominal: float  # rad, margin on the machine as it is believed
    worst: float  # rad, least of all; negative: unstable on some
    unstable: int  # machines
    gains: SpeedGains | None  # that keep the nominal margin on all; None: those in use do
    kept: float  # rad, what those keep at least


def holding(
    axis: Axis, many: int, *, seed: int = 0, progress: Progress | None = None,
    cancel: Cancel | None = None,
) -> Holding:  # fmt: skip
    """Return how the speed loop's margin holds over `many` machines. Work for a job.

    Gains that hold are those in use made smaller, the integral by the square, so that the loop
    becomes slower and keeps its shape.

    Raises
    ------
    InputError : no gains of the speed loop, it is unstable as it is believed, or nothing holds

    """
    used = axis.loops[KEY].gains
    if not isinstance(used, SpeedGains):
        raise InputError("the speed loop has no gains yet", place="speed loop",
                         remedy="Tune and verify it first")  # fmt: skip
    cancel = cancel or Cancel()
    turning = Turning(speed=usual_speed(axis))
    plants = []
    for n, one in enumerate(_drawn(axis, many, seed)):
        cancel.check()
        plants.append(plant_of(one, turning=turning))
        if progress is not None:
            progress(0.7 * n / many, f"{n} of {many} machines")

    def least(gains: SpeedGains) -> float:
        cancel.check()
        return min(_margin(plant, gains) for plant in plants)

    nominal, each = _margin(plants[0], used), [_margin(plant, used) for plant in plants]
    if nominal <= 0.0:
        raise InputError("the speed loop is unstable", place="speed loop",
                         remedy="Mend it first")  # fmt: skip
    worst = min(each)
    found, kept = _slower(used, nominal, worst, least)
    return Holding(many=many, nominal=nominal, worst=worst,
                   unstable=sum(one < 0.0 for one in each), gains=found, kept=kept)  # fmt: skip


def _slower(
    used: SpeedGains, wanted: float, worst: float, least: Callable[[SpeedGains], float]
) -> tuple[SpeedGains | None, float]:
    """Return the largest gains that keep a margin on all, by bisection, and what they keep."""
    if worst >= wanted - math.radians(0.1):
        return None, worst
    low, high, kept = _LEAST, 1.0, least(_scaled(used, _LEAST))
    if kept < wanted:
        raise InputError("no smaller gains keep that margin on all machines", place="speed loop",
                         remedy="Measure what is least certain again")  # fmt: skip
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        margin = least(_scaled(used, middle))
        if margin >= wanted:
            low, kept = middle, margin
        else:
            high = middle
    return _scaled(used, low), kept


def _scaled(gains: SpeedGains, factor: float) -> SpeedGains:
    return replace(gains, Kp=factor * gains.Kp, Ki=factor**2 * gains.Ki,
                   observer=factor * gains.observer)  # fmt: skip


def _margin(plant: SpeedPlant, gains: SpeedGains) -> float:
    """Return the phase margin of a loop, rad; −π where it is unstable."""
    found = SpeedLoop(plant, gains).margins
    return found.phase_margin if found.stable else -math.pi


def _drawn(axis: Axis, many: int, seed: int) -> list[Axis]:
    """Return axes with values drawn about their best estimates; the first is the axis itself."""
    from scipy.stats import norm, qmc

    stds = {_PATHS[one.name]: one.std for one in tolerances(axis) if one.name in _PATHS}
    if axis.mechanics.resonance.value > 0.0:
        stds |= {path: relative(axis.parameter(path).best) for path in _RESONANCES}
    draws = qmc.Sobol(len(stds), scramble=True, seed=seed).random_base2(
        max(math.ceil(math.log2(max(many, 2))), 1)
    )[: many - 1]
    factors: Array = 1.0 + np.array(list(stds.values())) * norm.ppf(np.clip(draws, 1e-9, 1 - 1e-9))
    made = [axis]
    for row in np.maximum(factors, _FEWEST):
        one = axis
        for path, factor in zip(stds, row, strict=True):
            old = one.parameter(path)
            value = replace(old.best, value=old.value * float(factor))
            one = one.with_parameter(path, replace(old, adopted=value))
        made.append(one)
    return made
