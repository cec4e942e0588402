"""What the torque turns: one rigid mass, or two on a shaft that twists."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.machine import Axis

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Shaft:
    """Inertia on the motor's side and beyond the shaft; no stiffness: all of it is one mass."""

    motor: float  # kg m²
    load: float = 0.0  # kg m²
    stiffness: float = 0.0  # N·m/rad
    damping: float = 0.0  # N·m s/rad, of the shaft
    viscous: float = 0.0  # N·m s/rad, on the motor's side

    @property
    def inertia(self) -> float:
        """All that turns, kg m²."""
        return self.motor + self.load

    @property
    def twists(self) -> bool:
        """Whether the shaft twists."""
        return self.stiffness > 0.0 and self.load > 0.0

    @property
    def anti_resonance(self) -> float:
        """Where the load swings against a motor that stands, rad/s; 0: it does not."""
        return math.sqrt(self.stiffness / self.load) if self.twists else 0.0

    @property
    def resonance(self) -> float:
        """Where both swing against one another, rad/s; 0: they do not."""
        if not self.twists:
            return 0.0
        return math.sqrt(self.stiffness * (1.0 / self.motor + 1.0 / self.load))

    def moved(self, ratio: float) -> "Shaft":
        """Return it with both of its resonances at other frequencies, all inertia kept."""
        return replace(self, stiffness=self.stiffness * ratio * ratio, damping=self.damping * ratio)

    def matrices(self) -> tuple[Array, Array, Array]:
        """Return (a, torque, load) of x' = a x + torque·u + load·t.

        x is the motor's speed, then, where it twists, twist and the load's speed; u the motor's
        torque, t one that pulls at the far end, both N·m.
        """
        if not self.twists:
            J = self.inertia
            return np.array([[-self.viscous / J]]), np.array([1.0 / J]), np.array([-1.0 / J])
        K, D, Jm, Jl = self.stiffness, self.damping, self.motor, self.load
        a = np.array([
            [-(D + self.viscous) / Jm, -K / Jm, D / Jm],
            [1.0, 0.0, -1.0],
            [D / Jl, K / Jl, -D / Jl],
        ])  # fmt: skip
        return a, np.array([1.0 / Jm, 0.0, 0.0]), np.array([0.0, 0.0, -1.0 / Jl])


def shaft_of(axis: Axis, *, speed: float = 0.0) -> Shaft:
    """Return the axis's shaft by its best estimates.

    Parameters
    ----------
    speed : rad/s, about which a load that grows with the square of the speed damps

    Raises
    ------
    InputError : no inertia is known

    """
    if axis.machine.inertia is None:
        raise InputError("the inertia is not known", place="speed loop",
                         remedy="Measure it in Identify, or enter it in Machine")  # fmt: skip
    J, m = axis.machine.inertia.value, axis.mechanics
    viscous = m.viscous.value + 2.0 * m.load_square.value * abs(speed)
    low, high = m.anti_resonance.value, m.resonance.value
    if not 0.0 < low < high:
        return Shaft(motor=J, viscous=viscous)
    motor = J * (low / high) ** 2
    load = J - motor
    return Shaft(motor=motor, load=load, stiffness=low * low * load,
                 damping=m.shaft_damping.value, viscous=viscous)  # fmt: skip
