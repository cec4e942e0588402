"""Gains of the speed loop that hold on every machine within the uncertainty of the estimates.

Many axes are drawn about the best estimates, as a study draws its plants, the shaft's resonances
with them. The loop of each is exact; the worst margins of all are what the gains are worth: of the
phase, and of the gain, which is what a resonance takes that lies elsewhere than its notch.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, plant_of, usual_speed
from oarlock.control.speed_gains import AIMS
from oarlock.control.speed_plant import SpeedPlant
from oarlock.drive.link import Progress
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.rehearse.vary import relative, tolerances

Array = NDArray[np.float64]
Worth = tuple[float, float]  # phase margin, rad, and gain margin, ratio
_PATHS = {"R": "machine.R", "Ld": "machine.Ld", "Lq": "machine.Lq", "flux": "machine.psi",
          "inertia": "machine.inertia"}  # fmt: skip
_RESONANCES = ("mechanics.anti_resonance", "mechanics.resonance")
_LEAST, _HALVINGS = 0.1, 12  # of the gains in use; of the search between the two
_FEWEST = 0.2  # of a value, however far a draw goes
_GAIN = AIMS["even"].gain_margin  # kept on all; less where it is less as believed
_ALIKE = math.radians(0.1)  # margins that count as one


@dataclass(frozen=True, slots=True, kw_only=True)
class Holding:
    """What the gains in use are worth over many machines, and gains that are worth more."""

    many: int
    nominal: float  # rad, margin on the machine as it is believed
    worst: float  # rad, least of all; negative: unstable on some
    nominal_gain: float  # ratio, likewise of the gain margin; infinite where nothing limits it
    worst_gain: float
    unstable: int  # machines
    gains: SpeedGains | None  # that keep both on all; None: those in use do
    kept: float  # rad, what those keep at least
    kept_gain: float


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

    def least(gains: SpeedGains) -> Worth:
        cancel.check()
        each = [_worth(plant, gains) for plant in plants]
        return min(phase for phase, _ in each), min(gain for _, gain in each)

    each = [_worth(plant, used) for plant in plants]
    (nominal, nominal_gain), (worst, worst_gain) = each[0], least(used)
    if nominal <= 0.0:
        raise InputError("the speed loop is unstable", place="speed loop",
                         remedy="Mend it first")  # fmt: skip
    found, kept = _slower(used, (nominal, min(nominal_gain, _GAIN)), (worst, worst_gain), least)
    return Holding(many=many, nominal=nominal, worst=worst, nominal_gain=nominal_gain,
                   worst_gain=worst_gain, unstable=sum(phase < 0.0 for phase, _ in each),
                   gains=found, kept=kept[0], kept_gain=kept[1])  # fmt: skip


def _slower(
    used: SpeedGains, wanted: Worth, worst: Worth, least: Callable[[SpeedGains], Worth]
) -> tuple[SpeedGains | None, Worth]:
    """Return the largest gains that keep both margins on all, by bisection, and what they keep."""
    if worst[0] >= wanted[0] - _ALIKE and worst[1] >= 0.995 * wanted[1]:
        return None, worst
    low, high, kept = _LEAST, 1.0, least(_scaled(used, _LEAST))
    if kept[0] < wanted[0] or kept[1] < wanted[1]:
        raise InputError("no smaller gains keep that margin on all machines", place="speed loop",
                         remedy="Measure what is least certain again")  # fmt: skip
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        found = least(_scaled(used, middle))
        if found[0] >= wanted[0] and found[1] >= wanted[1]:
            low, kept = middle, found
        else:
            high = middle
    return _scaled(used, low), kept


def _scaled(gains: SpeedGains, factor: float) -> SpeedGains:
    return replace(gains, Kp=factor * gains.Kp, Ki=factor**2 * gains.Ki,
                   observer=factor * gains.observer)  # fmt: skip


def _worth(plant: SpeedPlant, gains: SpeedGains) -> Worth:
    """Return phase margin (rad) and gain margin (ratio) of a loop; (−π, 0) where it is unstable."""
    found = SpeedLoop(plant, gains).margins
    return (found.phase_margin, found.gain_margin) if found.stable else (-math.pi, 0.0)


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
