"""How a row leads to where it asks: a move, a piece of a path, a ramp of speed."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.layout import (
    A_REF,
    ACCELERATION,
    DISTANCE,
    JERK_TIME,
    MODE,
    MODE_PATH,
    REF_W,
    ROW_SAMPLE,
    SAMPLES,
    W_FROM,
    W_REF,
    W_TO,
    X_FROM,
    X_REF,
    X_TO,
    Numbers,
    Row,
    Whole,
)

_jit = njit(inline=True)


@_jit
def _trapezoid(t: float, far: float, top: float, steep: float) -> tuple[float, float, float, float]:
    """Return (integral of position, position, speed, acceleration) at `t` of a move by `far` > 0.

    The speed rises at `steep`, stays at `top` where there is room for it, and falls again.
    """
    rise = top / steep
    if far < top * rise:  # no room for the top speed
        rise = math.sqrt(far / steep)
        top = steep * rise
    flat = far / top - rise
    whole = 2.0 * rise + flat
    if t <= 0.0:
        return 0.0, 0.0, 0.0, 0.0
    if t < rise:
        return steep * t**3 / 6.0, 0.5 * steep * t * t, steep * t, steep
    area, x = steep * rise**3 / 6.0, 0.5 * top * rise
    if t < rise + flat:
        u = t - rise
        return area + x * u + 0.5 * top * u * u, x + top * u, top, 0.0
    area += x * flat + 0.5 * top * flat * flat
    x += top * flat
    if t < whole:
        u = t - rise - flat
        gone = area + x * u + 0.5 * top * u * u - steep * u**3 / 6.0
        return gone, x + top * u - 0.5 * steep * u * u, top - steep * u, -steep
    area += x * rise + 0.5 * top * rise * rise - steep * rise**3 / 6.0
    return area + far * (t - whole), far, 0.0, 0.0


@_jit
def move(row: Row, t: float) -> tuple[float, float, float]:
    """Return (position, speed, acceleration) at `t` of the row's move, from rest to rest.

    With a jerk time the trapezoid is averaged over it: its corners become ramps of acceleration.
    """
    far, top = abs(np.float64(row[DISTANCE])), abs(np.float64(row[REF_W]))
    steep = np.float64(row[ACCELERATION])
    if far == 0.0 or top <= 0.0 or steep <= 0.0:
        return np.float64(row[DISTANCE]) if far > 0.0 else 0.0, 0.0, 0.0
    side = math.copysign(1.0, np.float64(row[DISTANCE]))
    area, x, w, a = _trapezoid(t, far, top, steep)
    span = np.float64(row[JERK_TIME])
    if span > 0.0:
        area_before, x_before, w_before, _ = _trapezoid(t - span, far, top, steep)
        x, w, a = (area - area_before) / span, (x - x_before) / span, (w - w_before) / span
    return side * x, side * w, side * a


@_jit
def path(row: Row, begun: float, t: float, Ts: float) -> tuple[float, float, float]:
    """Return (position, speed, acceleration) at `t` of the row's piece of a path.

    A cubic from where and how fast the row before ended to the row's distance and speed at its own
    end: position and speed are continuous.

    Parameters
    ----------
    begun : rad/s at the row's beginning

    """
    whole = max(np.float64(row[SAMPLES]), 1.0) * Ts
    far, ends = np.float64(row[DISTANCE]), np.float64(row[REF_W])
    two = (3.0 * far / whole - 2.0 * begun - ends) / whole
    three = (begun + ends - 2.0 * far / whole) / whole / whole
    return (
        t * (begun + t * (two + t * three)),
        begun + t * (2.0 * two + 3.0 * t * three),
        2.0 * two + 6.0 * t * three,
    )


@_jit
def ramp(row: Row, before: float, rising: float, Ts: float) -> tuple[float, float]:
    """Return (speed, rad/s, acceleration, rad/s²) a sample further on the way to the row's speed.

    With a jerk time the acceleration builds up and goes down again within it, from whatever it is:
    it is never more than what can be taken back at that rate before the speed is reached.

    Parameters
    ----------
    before : rad/s, in the sample before
    rising : rad/s², likewise
    Ts : s

    """
    wanted: float = np.float64(row[REF_W])
    steep: float = np.float64(row[ACCELERATION])
    if steep <= 0.0:
        return wanted, 0.0
    change = steep / max(np.float64(row[JERK_TIME]), Ts) * Ts  # of acceleration in a sample
    if change >= steep:
        nearer = min(max(wanted, before - steep * Ts), before + steep * Ts)
        return nearer, math.copysign(steep, nearer - before) if nearer != before else 0.0
    left, half = wanted - before, 0.5 * change
    most = math.sqrt(half * half + 2.0 * change / Ts * abs(left)) - half
    most = math.copysign(min(most, steep), left)
    rising = min(max(most, rising - change), rising + change)
    if abs(left) > abs(rising) * Ts or abs(rising) > 2.0 * change:
        return before + rising * Ts, rising
    return wanted, 0.0


@_jit
def follow(state: Numbers, meta: Whole, row: Row, Ts: float) -> None:
    """Work out position, speed and acceleration of this sample of a move, or of a path."""
    if meta[ROW_SAMPLE] == 0:
        state[X_FROM], state[W_FROM] = state[X_TO], state[W_TO]
    t = meta[ROW_SAMPLE] * Ts
    if int(row[MODE]) == MODE_PATH:
        x, w, a = path(row, state[W_FROM], t, Ts)
        state[X_TO], state[W_TO] = state[X_FROM] + row[DISTANCE], row[REF_W]
    else:
        x, w, a = move(row, t)
        state[X_TO], state[W_TO] = state[X_FROM] + x, 0.0
    state[X_REF], state[W_REF], state[A_REF] = state[X_FROM] + x, w, a
