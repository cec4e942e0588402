"""Random numbers that depend on seed, clock and stream alone: a run is the same in any portions."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.elementary import cos_sin

_jit = njit(inline=True)


@_jit
def uniform(seed: int, clock: int, stream: int) -> float:
    """Return a uniform number in (0, 1) that depends on its three arguments alone."""
    x = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(clock)
    x = x * np.uint64(0xBF58476D1CE4E5B9) + np.uint64(stream)
    for _ in range(2):
        x ^= x >> np.uint64(30)
        x *= np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(27)
        x *= np.uint64(0x94D049BB133111EB)
        x ^= x >> np.uint64(31)
    return (float(x >> np.uint64(11)) + 0.5) / 9007199254740992.0


@_jit
def normal(seed: int, clock: int, stream: int) -> float:
    """Return a normal number of unit spread that depends on its three arguments alone."""
    u, v = uniform(seed, clock, 2 * stream), uniform(seed, clock, 2 * stream + 1)
    along, _ = cos_sin(2.0 * math.pi * v)
    return math.sqrt(-2.0 * math.log(u)) * along
