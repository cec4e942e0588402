"""The inertia that a few sines round the crossover show, while the axis runs with its loops closed.

Where the shaft turns as one mass, what is measured differs from its model by one real factor: the
inertia's. What is left over tells whether that is so. Held against one another are speed and the
current that flowed: of the current asked for, small ones lose a part to the inverter's dead time.
"""

import math
from dataclasses import dataclass, replace

import numpy as np

from oarlock.control.measured_loop import PlantPoints, plant_response
from oarlock.control.shaft import Shaft
from oarlock.control.speed_plant import SpeedPlant


@dataclass(frozen=True, slots=True, kw_only=True)
class SeenInertia:
    """What the points say of all that turns."""

    ratio: float  # of the model's inertia
    std: float  # of that ratio, relative
    late: float  # rad, by which the plant turns the phase more than its model
    misfit: float  # rms that is left of the points, as a ratio
    points: int


def seen_inertia(points: PlantPoints, plant: SpeedPlant) -> SeenInertia:
    """Return the inertia's ratio to the model's, over the trusted points; NaN where none is.

    Parameters
    ----------
    points : speed over the current that flowed
    plant : as it is known

    """
    keep = points.trusted
    many = int(keep.sum())
    if not many:
        return SeenInertia(ratio=math.nan, std=math.inf, late=math.nan, misfit=math.inf, points=0)
    omega = points.omega[keep]
    follows = plant.current.closed.response(omega)[0]
    ratio = np.log(points.gain[keep] * follows / plant_response(plant, omega))
    std = np.maximum(points.std[keep], 1e-4)
    weights = 1.0 / std**2
    mean = complex(np.sum(weights * ratio) / np.sum(weights))
    left = ratio - mean
    misfit = math.sqrt(float(np.sum(weights * np.abs(left) ** 2) / np.sum(weights)))
    scatter = max(1.0 / math.sqrt(float(np.sum(weights))), misfit / math.sqrt(many))
    return SeenInertia(
        ratio=math.exp(-mean.real), std=scatter, late=-mean.imag, misfit=misfit, points=many
    )


def with_load(shaft: Shaft, inertia: float) -> Shaft | None:
    """Return the shaft with so much inertia in all by another load; None: there is none.

    Stiffness and motor stay, so that both resonances move.
    """
    load = inertia - shaft.motor
    if not shaft.twists:
        return replace(shaft, motor=inertia)
    return replace(shaft, load=load) if load > 0.0 else None
