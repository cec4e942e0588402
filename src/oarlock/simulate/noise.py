"""Random numbers that depend on seed, clock and stream alone: a run is the same in any portions.

Normal numbers by the ziggurat of 128 layers, its layer and its place from different bits of one
number (Doornik, "An improved ziggurat method to generate normal random samples", 2005).
"""

import math

import numpy as np

from oarlock.jit import njit

_jit = njit(inline=True)
_LAYERS, _LAST, _AREA = 128, 3.442619855899, 9.91256303526217e-3  # where the tail begins
_STREAMS = 1 << 20  # from one try to the next, so that none meets another's


def _edges() -> list[float]:
    """Return where the layers end, from the base on; all have the same area."""
    edges = [_AREA / math.exp(-0.5 * _LAST * _LAST), _LAST]
    while len(edges) < _LAYERS:
        high = math.exp(-0.5 * edges[-1] * edges[-1])
        edges.append(math.sqrt(-2.0 * math.log(_AREA / edges[-1] + high)))
    return [*edges, 0.0]


EDGES = np.array(_edges())
INNER = EDGES[1:] / EDGES[:-1]  # of a layer, that lies below the curve all over


@_jit
def _bits(seed: int, clock: int, stream: int) -> np.uint64:
    """Return 64 bits that depend on the three arguments alone."""
    x = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(clock)
    x = x * np.uint64(0xBF58476D1CE4E5B9) + np.uint64(stream)
    for _ in range(2):
        x ^= x >> np.uint64(30)
        x *= np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(27)
        x *= np.uint64(0x94D049BB133111EB)
        x ^= x >> np.uint64(31)
    return x


@_jit
def _share(x: np.uint64) -> float:
    """Return a number in (0, 1) by the upper 53 bits."""
    return (float(x >> np.uint64(11)) + 0.5) / 9007199254740992.0


@_jit
def uniform(seed: int, clock: int, stream: int) -> float:
    """Return a uniform number in (0, 1) that depends on its three arguments alone."""
    return _share(_bits(seed, clock, stream))


@njit()
def _beside(seed: int, clock: int, stream: int, layer: int, u: float) -> float:
    """Return a normal number where the first try may lie above the curve: one in eighty."""
    at = stream
    while True:
        if layer == 0:  # the tail
            x, y = 0.0, 0.0
            while True:
                at += _STREAMS
                x = math.log(uniform(seed, clock, at)) / _LAST
                at += _STREAMS
                y = math.log(uniform(seed, clock, at))
                if -2.0 * y >= x * x:
                    break
            return x - _LAST if u < 0.0 else _LAST - x
        x = u * EDGES[layer]
        low = math.exp(-0.5 * (EDGES[layer] * EDGES[layer] - x * x))
        high = math.exp(-0.5 * (EDGES[layer + 1] * EDGES[layer + 1] - x * x))
        at += _STREAMS
        if high + uniform(seed, clock, at) * (low - high) < 1.0:
            return float(x)
        at += _STREAMS
        bits = _bits(seed, clock, at)
        layer, u = int(bits & np.uint64(_LAYERS - 1)), 2.0 * _share(bits) - 1.0
        if abs(u) < INNER[layer]:
            return float(u * EDGES[layer])


@_jit
def normal(seed: int, clock: int, stream: int) -> float:
    """Return a normal number of unit spread that depends on its three arguments alone."""
    bits = _bits(seed, clock, 2 * stream)
    layer, u = int(bits & np.uint64(_LAYERS - 1)), 2.0 * _share(bits) - 1.0
    if abs(u) < INNER[layer]:
        return float(u * EDGES[layer])
    return _beside(seed, clock, 2 * stream, layer, u)
