"""What a row of the step table adds to a reference."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.layout import (
    AMPLITUDE,
    END_FREQUENCY,
    FREQUENCY,
    PHASE,
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
    kind, size = int(row[WAVE]), np.float64(row[AMPLITUDE])
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
        total, low, high = 0.0, np.float64(row[FREQUENCY]), np.float64(row[END_FREQUENCY])
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
    whole = np.float64(row[SAMPLES]) * Ts
    low, high = np.float64(row[FREQUENCY]), np.float64(row[END_FREQUENCY])
    ratio = math.log(high / low) if low > 0.0 and high > 0.0 else 0.0
    turns = low * t
    if abs(ratio) > 1e-9:
        turns = low * whole / ratio * math.expm1(ratio * t / whole)
    return math.sin(TAU * (turns - math.floor(turns)) + np.float64(row[PHASE]))
