"""The profile of a move from rest to rest, as a drive plays it: trapezoid of speed, with jerk time.

The speed rises at one acceleration, stays at the top where there is room for it, and falls again;
with a jerk time the trapezoid is averaged over it, so that acceleration builds up in a ramp.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_NO_TIME = 1e-6  # s: a jerk time below counts as none


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """A relative move."""

    distance: float  # rad
    speed: float  # rad/s, the most
    acceleration: float  # rad/s²
    jerk_time: float = 0.0  # s

    @property
    def duration(self) -> float:
        """Seconds from start to end."""
        _, rise, flat = self._shape
        return 2.0 * rise + flat + self.jerk_time

    @property
    def top(self) -> float:
        """The speed that it reaches, rad/s."""
        return self._shape[0]

    @property
    def _shape(self) -> tuple[float, float, float]:
        """Speed reached, time to rise, time at the top."""
        far = abs(self.distance)
        rise = self.speed / self.acceleration
        if far < self.speed * rise:
            rise = math.sqrt(far / self.acceleration)
        top = self.acceleration * rise
        return top, rise, max(far / top - rise, 0.0) if top > 0.0 else 0.0

    def at(self, t: Array) -> tuple[Array, Array, Array]:
        """Return (position, speed, acceleration) at `t`, s from its start; rad, rad/s, rad/s²."""
        side = math.copysign(1.0, self.distance)
        area, x, w, a = self._trapezoid(t)
        if self.jerk_time > _NO_TIME:
            before = self._trapezoid(t - self.jerk_time)
            span = self.jerk_time
            x, w, a = (area - before[0]) / span, (x - before[1]) / span, (w - before[2]) / span
        return side * x, side * w, side * a

    def _trapezoid(self, t: Array) -> tuple[Array, Array, Array, Array]:
        """Return (integral of position, position, speed, acceleration), forward."""
        top, rise, flat = self._shape
        steep, far = self.acceleration, abs(self.distance)
        up = np.clip(t, 0.0, rise)
        level = np.clip(t - rise, 0.0, flat)
        down = np.clip(t - rise - flat, 0.0, rise)
        after = np.maximum(t - 2.0 * rise - flat, 0.0)
        w = steep * (up - down)
        x = 0.5 * steep * up**2 + top * level + top * down - 0.5 * steep * down**2
        at_rise, at_flat = 0.5 * top * rise, 0.5 * top * rise + top * flat
        area = steep * up**3 / 6.0 + at_rise * level + 0.5 * top * level**2
        area += at_flat * down + 0.5 * top * down**2 - steep * down**3 / 6.0 + far * after
        rising = (t >= 0.0) & (t < rise)
        falling = (t >= rise + flat) & (t < 2.0 * rise + flat)
        a = steep * (rising.astype(np.float64) - falling.astype(np.float64))
        return area, x, w, a
