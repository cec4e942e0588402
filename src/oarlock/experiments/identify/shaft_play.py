"""Whether a shaft has play: it answers a frequency alike at every amplitude, or it does not.

Where coupling or gear have play, a small torque finds the motor alone and a large one the motor
with its load: the resonance moves with amplitude, and what is found at one is wrong at another.
"""

import math

import numpy as np

from oarlock.experiments.identify.two_mass import Points
from oarlock.records import Check

AMPLITUDES = (1.0, 0.5, 0.25)  # of the experiment's, for each frequency that tells play
_LOW, _MIDDLE, _OF_RANGE = 25.0, 60.0, (0.2, 0.5)  # Hz; of the dip, or of the highest played
_FLANK = 0.92  # of the peak, where its gain is steep
_ALLOWED = (1.0, 3.0)  # dB apart: of the lowest frequency, of every other one
_DB = 20.0 / math.log(10.0)
_MOVES = 0.005  # of the resonance, for each dB on its flank


def telling_play(top: float, peak: float = 0.0) -> tuple[float, ...]:
    """Return the frequencies (Hz) that tell play.

    Parameters
    ----------
    top : Hz, the dip, or the highest frequency that was played
    peak : Hz, where there is one

    """
    low, middle = min(_LOW, _OF_RANGE[0] * top), min(_MIDDLE, _OF_RANGE[1] * top)
    return (low, middle, _FLANK * peak) if peak else (low, middle)


def play_share(points: Points) -> float:
    """Return by what share play may have moved the resonance; nothing beyond the scatter: 0."""
    if points.f.size < 3 * len(AMPLITUDES):
        return 0.0
    apart, scatter = _apart(points, 2 * len(AMPLITUDES))
    return _MOVES * apart if apart > 2.0 * scatter else 0.0


def play_check(points: Points, torque: float) -> list[Check]:
    """Return the check of all these frequencies; no points: none.

    Parameters
    ----------
    torque : N·m, of the sines
    points : as many of the first frequency as there are amplitudes, then of the next

    """
    if points.f.size < 2 * len(AMPLITUDES):
        return []
    found = []
    for first in range(0, points.f.size, len(AMPLITUDES)):
        apart, scatter = _apart(points, first)
        allowed = _ALLOWED[first > 0] + 2.0 * scatter
        found.append((apart - allowed, apart, allowed, float(points.f[first])))
    beyond, apart, allowed, hertz = max(found)
    why = (
        ": play in coupling or gear moves the resonance with amplitude. Measure again with the "
        f"shaft loaded to one side by far more than {torque:.2g} N·m"
    )
    return [
        Check(
            code="play",
            passed=beyond <= 0.0,
            sentence=f"At {hertz:.0f} Hz several amplitudes are answered "
            f"{apart:.1f} dB apart ({allowed:.1f} allowed){why if beyond > 0.0 else ''}",
        )
    ]


def _apart(points: Points, first: int) -> tuple[float, float]:
    """Return (dB between the two gains that differ most surely, their scatter) of one frequency."""
    gain = np.abs(points.gain[first : first + len(AMPLITUDES)])
    std = points.std[first : first + len(AMPLITUDES)]
    if not np.all(gain > 0.0) or not np.all(np.isfinite(std)):
        return 0.0, math.inf
    dB = 20.0 * np.log10(gain)
    pairs = [(abs(float(dB[i] - dB[j])), _DB * math.hypot(std[i], std[j]))
             for i in range(len(AMPLITUDES)) for j in range(i)]  # fmt: skip
    return max(pairs, key=lambda pair: pair[0] - 2.0 * pair[1])
