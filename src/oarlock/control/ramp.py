"""How the speed follows a ramp: a steady acceleration that builds up and goes down again.

A ramp of speed is a move one derivative further down: what is there position, is here speed.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.profile import Move
from oarlock.control.speed import SpeedLoop

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Ramp:
    """From one speed to another."""

    change: float  # rad/s
    acceleration: float  # rad/s², the most
    jerk_time: float = 0.0  # s, over which that builds up

    @property
    def duration(self) -> float:
        """Seconds from start to end."""
        move = self._move
        return move.duration if move else abs(self.change) / self.acceleration

    @property
    def _move(self) -> Move | None:
        """The same profile as a move; None without a jerk time."""
        if not self.jerk_time > 0.0:
            return None
        return Move(distance=self.change, speed=self.acceleration,
                    acceleration=self.acceleration / self.jerk_time)  # fmt: skip

    def at(self, t: Array) -> tuple[Array, Array]:
        """Return (speed, acceleration) at `t`, s from its start; rad/s from before, rad/s²."""
        move = self._move
        if move is not None:
            speed, acceleration, _ = move.at(t)
            return speed, acceleration
        side = math.copysign(1.0, self.change)
        speed = np.clip(self.acceleration * t, 0.0, abs(self.change))
        rising = np.where((t >= 0.0) & (t < self.duration), self.acceleration, 0.0)
        return side * speed, side * rising


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Ramped:
    """A ramp as it is followed, deviations from before, at the loop's samples, (n,)."""

    speed: Array  # rad/s
    push: Array  # A


def ramped(loop: SpeedLoop, asked: Array, rising: Array) -> Ramped:
    """Return how a loop follows a speed asked for and the current that is fed ahead of it.

    Parameters
    ----------
    asked : rad/s, (n,), at the loop's samples
    rising : rad/s², (n,), its acceleration then

    """
    feed = loop.gains.acceleration * rising
    return Ramped(
        speed=loop.closed.output(asked) + loop.ahead.output(feed),
        push=loop.effort.output(asked) + loop.ahead_effort.output(feed),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class RampFigures:
    """What people read off a ramp."""

    behind: float  # rad/s, the most that the speed lags what is asked
    beyond: float  # rad/s, by which it goes past its end


def ramp_figures(asked: Array, speed: Array) -> RampFigures:
    """Return the figures of a ramp whose last value is its end; rad/s from before."""
    end = float(asked[-1])
    side = math.copysign(1.0, end)
    return RampFigures(
        behind=float(np.max(side * (asked - speed))),
        beyond=max(float(np.max(side * (speed - end))), 0.0),
    )
