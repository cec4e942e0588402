"""Torque that nobody asked for, and what makes it: the same scenario with one cause at a time.

The scenario is played on a bridge that switches, once with nothing that disturbs it and once with
each cause alone. What a cause makes is the root mean square of the torque's difference; causes
that do not act on one another add up as squares.
"""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Progress
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.rehearse.bridge import bridged
from oarlock.rehearse.plant import FINEST, believed_plant, ideal_sensing
from oarlock.rehearse.run import outside, set_out
from oarlock.rehearse.scenario import Scenario
from oarlock.simulate import layout as k
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

Array = NDArray[np.float64]
DEAD_TIME, SENSE, GAINS, COUNTS, SWITCHING = (
    "dead time", "current sense", "sensor gains", "position counts", "switching",
)  # fmt: skip
_BITS = 24  # of a converter whose steps nobody sees


@dataclass(frozen=True, slots=True)
class Cause:
    """What one cause makes by itself."""

    name: str
    torque: float  # N·m rms


@dataclass(frozen=True, slots=True, kw_only=True)
class Ripple:
    """Torque that nobody asked for, over the whole scenario."""

    whole: float  # N·m rms, all causes together
    causes: tuple[Cause, ...]  # the largest first

    def share(self, cause: Cause) -> float:
        """Return a cause's part of all squares."""
        squares = sum(one.torque**2 for one in self.causes)
        return cause.torque**2 / squares if squares > 0.0 else 0.0


def ripple_of(
    scenario: Scenario, axis: Axis, *, bridge: Modulation = Modulation.SPACE_VECTOR, seed: int = 0,
    progress: Progress | None = None, cancel: Cancel | None = None,
) -> Ripple:  # fmt: skip
    """Return the torque ripple of a scenario by cause. Work for a job.

    Parameters
    ----------
    bridge : how it switches; averaged: by space vectors

    Raises
    ------
    InputError : as `rehearse`; or the machine does not come to the end of it
    Cancelled : it is not wanted any more

    """
    cancel = cancel or Cancel()
    modulation = Modulation.SPACE_VECTOR if bridge is Modulation.AVERAGED else bridge
    real = bridged(believed_plant(axis), axis, modulation)
    calm = replace(
        real,
        dead_time=0.0,
        adc_bits=_BITS,
        noise=0.0,
        encoder_counts=FINEST,
        sensor=SensorKind.ENCODER.value,
    )
    spread = (1.0 + axis.inverter.gain_a.std, 1.0 + axis.inverter.gain_b.std)
    gains = (*spread, 3.0 - sum(spread))  # the three add up to 3
    alone = {
        DEAD_TIME: replace(calm, dead_time=real.dead_time),
        SENSE: replace(calm, adc_bits=real.adc_bits, noise=real.noise),
        GAINS: replace(calm, gains=gains),
        COUNTS: replace(calm, encoder_counts=real.encoder_counts, sensor=real.sensor),
    }
    played = [calm, replace(real, gains=gains), *alone.values()]
    courses = []
    for n, plant in enumerate(played):
        if progress is not None:
            progress(n / len(played), f"{n} of {len(played)} simulations")
        courses.append(_torque(scenario, axis, plant, seed, cancel))
    (quiet, swing), (whole, all_swing), *others = courses
    causes = [Cause(name, _rms(course - quiet))
              for name, (course, _) in zip(alone, others, strict=True)]  # fmt: skip
    causes.append(Cause(SWITCHING, swing))
    causes.sort(key=lambda one: -one.torque)
    return Ripple(whole=math.hypot(_rms(whole - quiet), all_swing), causes=tuple(causes))


def _rms(torque: Array) -> float:
    return float(np.sqrt(np.mean(torque**2)))


def _torque(
    scenario: Scenario, axis: Axis, plant: PlantParameters, seed: int, cancel: Cancel
) -> tuple[Array, float]:
    """Return the torque (N·m) in the middle of each period, and its rms swing within them."""
    known = ideal_sensing(axis, plant)
    model = set_out(scenario, known, plant, seed=seed)
    whole = round(scenario.duration / plant.Ts)
    middles, swings = [], 0.0
    for first, until, acting in outside(scenario, plant, 0, whole):
        cancel.check()
        acting.acts_on(model)
        model.advance(until - first)
        reach = model.reach(first, model.recorded - first).astype(np.float64)
        if not model.is_running and until < whole:
            break
        i_d, i_q = (0.5 * (reach[:, low] + reach[:, low + 1]) for low in (k.D_LEAST, k.Q_LEAST))
        per = 1.5 * plant.pole_pairs * (plant.psi + (plant.Ld - plant.Lq) * i_d)
        middles.append(per * i_q)
        # From least to most along straight lines: its rms is the range over the root of twelve.
        swings += float(np.sum((per * (reach[:, k.Q_MOST] - reach[:, k.Q_LEAST])) ** 2)) / 12.0
    if model.trip or not middles:
        raise InputError("it does not come to the end of the scenario", place=scenario.name,
                         remedy="Simulate it: the answer says why")  # fmt: skip
    course = np.concatenate(middles)
    return course, math.sqrt(swings / course.size)
