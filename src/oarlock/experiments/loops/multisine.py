"""Which lines of a multisine sound, and at what phases, so that its peak stays low."""

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

_CLIPS, _CLIPPED = 300, 0.9  # times that a wave is clipped, to which share of its peak


def odd_bins(low: float, high: float, count: int) -> tuple[int, ...]:
    """Return odd numbers from low to high, about evenly spread over their logarithm."""
    near = 2 * np.floor(0.5 * np.geomspace(max(low, 1.0), high, count)) + 1
    return tuple(int(k) for k in np.unique(near) if low <= k <= high)


def with_gaps(bins: tuple[int, ...]) -> tuple[int, ...]:
    """Return odd bins without every third of those in a row: each has a quiet odd one beside it.

    What bends both ways alike, as dead time and backlash do, shows at odd multiples alone.
    """
    kept: list[int] = []
    for k in bins:
        if kept[-2:] != [k - 4, k - 2]:
            kept.append(k)
    return tuple(kept)


def peak_of(bins: tuple[int, ...], sines: NDArray[np.complex128]) -> float:
    """Return the most that a sum of sines reaches.

    Parameters
    ----------
    bins : multiples of the period's frequency
    sines : of each its amplitude, and its phase as the argument

    """
    at = np.array(bins)
    points = 1 << math.ceil(math.log2(8 * at[-1]))
    spectrum = np.zeros(points // 2 + 1, dtype=np.complex128)
    spectrum[at] = -0.5j * points * sines
    return float(np.max(np.abs(np.fft.irfft(spectrum, points))))


@lru_cache(maxsize=16)
def quiet_phases(
    bins: tuple[int, ...], sizes: tuple[float, ...] | None = None
) -> tuple[tuple[float, ...], float]:
    """Return phases (rad) whose sum of sines has a low peak, and that peak.

    From phases that fall with the square of a line's number (Schroeder 1970), by clipping the wave
    again and again and keeping the phases of what is left (Van der Ouderaa, Schoukens and Renneboog
    1988).

    Parameters
    ----------
    bins : multiples of the period's frequency
    sizes : amplitude of each sine; without: one

    """
    at = np.array(bins)
    each = np.ones(at.size) if sizes is None else np.array(sizes)
    points = 1 << math.ceil(math.log2(8 * at[-1]))
    phases = -math.pi * np.arange(at.size) ** 2 / at.size
    best, peak = phases, math.inf
    for _ in range(_CLIPS):
        spectrum = np.zeros(points // 2 + 1, dtype=np.complex128)
        spectrum[at] = 0.5 * points * each * np.exp(1j * (phases - 0.5 * math.pi))
        wave = np.fft.irfft(spectrum, points)
        most = float(np.max(np.abs(wave)))
        if most < peak:
            best, peak = phases, most
        clipped = np.clip(wave, -_CLIPPED * most, _CLIPPED * most)
        phases = np.angle(np.fft.rfft(clipped)[at]) + 0.5 * math.pi
    return tuple(best.tolist()), peak
