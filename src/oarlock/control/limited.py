"""A step of the speed loop with its limits in it: the bus cuts voltage, the controller its current.

The same samples as the exact loop, stepped one by one, so that both limits act where the drive's
firmware acts: the current's integral and the speed's only move back while they are limited.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.speed import SpeedLoop

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """What the limits leave, from where the axis works."""

    current: float  # A to each side of the current asked for before
    volts: float  # V upward of the voltage before
    volts_down: float  # V downward


@dataclass(frozen=True, slots=True, kw_only=True)
class DeadTime:
    """What the inverter loses against the current's sign, about the current that flows before."""

    volts: float  # V along q
    bias: float  # A
    knee: float  # A, over which the sign turns

    def lost(self, amperes: float) -> float:
        """Return the voltage (V) that is lost besides the one before, at a current beside it."""
        now = math.tanh((self.bias + amperes) / self.knee)
        return self.volts * (now - math.tanh(self.bias / self.knee))


def limited_step(
    loop: SpeedLoop, room: Room, samples: int, *, reference: float = 0.0, load: float = 0.0,
    dead: DeadTime | None = None,
) -> tuple[Array, Array]:  # fmt: skip
    """Return (plain measured speed, current asked for) after a step, from rest, (samples,) each.

    Parameters
    ----------
    reference : rad/s, of the speed asked for
    load : A, added behind the filters
    dead : of the inverter; None: it loses nothing

    """
    plant, g = loop.plant, loop.gains
    step, given, angle, angle_given = plant.fine
    N, T = plant.measuring.divider, plant.T
    weights = plant.measuring.weights(plant.current.plant.Ts)
    total_at = sum(one.order for one in plant.torque_filters)
    volts_at = total_at + 1
    following = plant.following.matrices if plant.following.order else None
    seen_state = np.zeros(plant.following.order)
    x, turned = np.zeros(step.shape[0]), np.zeros(weights.size)
    total = push = held = 0.0
    speed, asked = np.zeros(samples), np.zeros(samples)
    for k in range(samples):
        speed[k] = float(weights @ turned)
        seen = speed[k]
        if following is not None:
            a, b, c, d = following
            seen = float(c @ seen_state) + d * speed[k]
            seen_state = seen_state + a @ seen_state + b * speed[k]
        e = reference - seen
        summed = total + g.Ki * T * e
        held = g.Kp * (g.weight * reference - seen) + summed
        if abs(held) > room.current:
            outward = e > 0.0 if held > 0.0 else e < 0.0
            summed, held = total if outward else summed, float(np.copysign(room.current, held))
        total, asked[k] = summed, held
        for j in range(N):
            inputs = np.array([push if j == 0 else held, load, 0.0])
            turned[1:] = turned[:-1].copy()
            if dead is not None:
                x[volts_at] -= dead.lost(float(x[volts_at + 1]))
            turned[0] = float(angle @ x + angle_given @ inputs)
            new = step @ x + given @ inputs
            v = float(new[volts_at])
            if not -room.volts_down <= v <= room.volts:
                error = new[total_at] - x[total_at]  # by what the integral moves
                high = v > room.volts
                if (error > 0.0) == high:
                    new[total_at] = x[total_at]
                new[volts_at] = room.volts if high else -room.volts_down
            x = new
        push = held
    return speed, asked
