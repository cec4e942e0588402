"""What a row of the step table adds to a reference, the profile of a move, the ramp to a speed."""

import math

from oarlock.jit import njit
from oarlock.simulate.layout import (
    ACCELERATION,
    AMPLITUDE,
    DISTANCE,
    END_FREQUENCY,
    FREQUENCY,
    JERK_TIME,
    PHASE,
    REF_W,
    SAMPLES,
    TAU,
    WAVE,
    WAVE_CHIRP,
    WAVE_LINES,
    WAVE_NONE,
    WAVE_SINE,
    WAVE_SQUARE,
    WAVE_STEP,
    Numbers,
    Row,
)
from oarlock.simulate.noise import uniform

_jit = njit(inline=True)


@_jit
def wave(row: Row, lines: Numbers, k: int, seed: int, clock: int, Ts: float) -> float:
    """Return what is added at the row's sample `k`, in the target's unit."""
    kind, size = int(row[WAVE]), float(row[AMPLITUDE])
    if kind == WAVE_NONE:
        return 0.0
    phase = row[FREQUENCY] * k * Ts + row[PHASE] / (2.0 * math.pi)
    if kind == WAVE_SINE:
        return size * math.sin(2.0 * math.pi * (phase - math.floor(phase)))
    if kind == WAVE_SQUARE:
        return size if phase - math.floor(phase) < 0.5 else -size
    if kind == WAVE_STEP:
        return size
    if kind == WAVE_CHIRP:
        return size * _chirp(row, k * Ts, Ts)
    if kind == WAVE_LINES:
        total, low, high = 0.0, float(row[FREQUENCY]), float(row[END_FREQUENCY])
        for n in range(lines.shape[0]):
            if high > 0.0 and not low <= lines[n, 0] <= high:
                continue
            turns = lines[n, 0] * k * Ts
            total += lines[n, 1] * math.sin(TAU * (turns - math.floor(turns)) + lines[n, 2])
        return float(size * total)
    return size * (2.0 * uniform(seed, clock, 97) - 1.0)


@_jit
def _chirp(row: Row, t: float, Ts: float) -> float:
    """Return a sine whose frequency goes from the first to the last by one ratio a second."""
    whole = float(row[SAMPLES]) * Ts
    low, high = float(row[FREQUENCY]), float(row[END_FREQUENCY])
    ratio = math.log(high / low) if low > 0.0 and high > 0.0 else 0.0
    turns = low * t
    if abs(ratio) > 1e-9:
        turns = low * whole / ratio * math.expm1(ratio * t / whole)
    return math.sin(TAU * (turns - math.floor(turns)) + float(row[PHASE]))


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
    far, top, steep = abs(float(row[DISTANCE])), abs(float(row[REF_W])), float(row[ACCELERATION])
    if far == 0.0 or top <= 0.0 or steep <= 0.0:
        return float(row[DISTANCE]) if far > 0.0 else 0.0, 0.0, 0.0
    side = math.copysign(1.0, float(row[DISTANCE]))
    area, x, w, a = _trapezoid(t, far, top, steep)
    span = float(row[JERK_TIME])
    if span > 0.0:
        area_before, x_before, w_before, _ = _trapezoid(t - span, far, top, steep)
        x, w, a = (area - area_before) / span, (x - x_before) / span, (w - w_before) / span
    return side * x, side * w, side * a


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
    wanted, steep = float(row[REF_W]), float(row[ACCELERATION])
    if steep <= 0.0:
        return wanted, 0.0
    change = steep / max(float(row[JERK_TIME]), Ts) * Ts  # of acceleration in a sample
    if change >= steep:
        now = min(max(wanted, before - steep * Ts), before + steep * Ts)
        return now, math.copysign(steep, now - before) if now != before else 0.0
    left, half = wanted - before, 0.5 * change
    most = math.sqrt(half * half + 2.0 * change / Ts * abs(left)) - half
    most = math.copysign(min(most, steep), left)
    rising = min(max(most, rising - change), rising + change)
    if abs(left) > abs(rising) * Ts or abs(rising) > 2.0 * change:
        return before + rising * Ts, rising
    return wanted, 0.0
