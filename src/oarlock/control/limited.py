"""A step of the speed loop with its limits in it: the bus cuts voltage, the controller its current.

The same samples as the exact loop, stepped one by one, so that both limits act where the drive's
firmware acts: the current's integral and the speed's only move back while they are limited.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.load_observer import load_observer, reference_share
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_plant import SpeedPlant

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


class _Controller:
    """The speed controller with what it remembers from sample to sample."""

    def __init__(self, loop: SpeedLoop) -> None:
        self._gains, self._T = loop.gains, loop.plant.T
        self._observer = load_observer(loop.gains, self._T)
        self._share = reference_share(loop.gains, self._T)
        self._total = self._held = 0.0
        self._asked = self._followed = self._load = 0.0

    def answer(self, reference: float, seen: float, most: float) -> float:
        """Return the current asked for (A), at most `most`, of a speed asked for and one seen."""
        g, observer = self._gains, self._observer
        self._followed += observer.step * (self._held + self._load)
        missed = seen - self._followed
        self._followed += observer.speed * missed
        self._load += observer.load * missed
        self._asked += self._share * (reference - self._asked)
        error = self._asked - seen
        summed = self._total + g.Ki * self._T * error
        held = g.Kp * (g.weight * self._asked - seen) + summed - self._load
        if abs(held) > most:
            outward = error > 0.0 if held > 0.0 else error < 0.0
            summed, held = self._total if outward else summed, math.copysign(most, held)
        self._total, self._held = summed, held
        return held


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
    plant, controller = loop.plant, _Controller(loop)
    weights = plant.measuring.weights(plant.current.plant.Ts)
    ahead, by_push, by_load = _with_angles(plant, weights.size)
    states = ahead.shape[0] - weights.size
    total_at = sum(one.order for one in plant.torque_filters)
    volts_at = total_at + 1
    following = plant.following.matrices if plant.following.order else None
    seen_state = np.zeros(plant.following.order)
    x, pushed = np.zeros(ahead.shape[0]), load * by_load
    speed, asked = np.zeros(samples), np.zeros(samples)
    for k in range(samples):
        speed[k] = float(weights @ x[states:])
        seen = speed[k]
        if following is not None:
            a, b, c, d = following
            seen = float(c @ seen_state) + d * speed[k]
            seen_state = seen_state + a @ seen_state + b * speed[k]
        asked[k] = controller.answer(reference, seen, room.current)
        for j in range(plant.measuring.divider):
            if dead is not None:
                x[volts_at] -= dead.lost(float(x[volts_at + 1]))
            new = ahead @ x + pushed
            if j == 0:  # what was asked for before acts in the first sample
                pushed = asked[k] * by_push + load * by_load
            v = float(new[volts_at])
            if not -room.volts_down <= v <= room.volts:
                error = new[total_at] - x[total_at]  # by what the integral moves
                high = v > room.volts
                if (error > 0.0) == high:
                    new[total_at] = x[total_at]
                new[volts_at] = room.volts if high else -room.volts_down
            x = new
    return speed, asked


def _with_angles(plant: SpeedPlant, many: int) -> tuple[Array, Array, Array]:
    """Return the plant's fine step, and what a current asked for and a load push in it.

    Its state ends with the `many` last angles turned, the newest first.
    """
    step, given, angle, angle_given = plant.fine
    n = step.shape[0]
    ahead, pushes = np.zeros((n + many, n + many)), np.zeros((n + many, 2))
    ahead[:n, :n], ahead[n, :n] = step, angle
    ahead[n + 1 :, n:-1] = np.eye(many - 1)
    pushes[:n], pushes[n] = given[:, :2], angle_given[:2]
    return ahead, pushes[:, 0], pushes[:, 1]
