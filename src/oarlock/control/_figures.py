"""Compiled: what is read off responses over time, of a step, a load and a move.

`compiled.warm` compiles it; until it has run it is plain Python, with the same numbers.
"""

import math

import numpy as np
from numpy.typing import NDArray

from oarlock.control._steps import as_compiled

Array = NDArray[np.float64]


def _reached(t: Array, y: Array, level: float) -> float:
    """Return when `y` first reaches a level, between samples along a straight line; NaN: never."""
    for i in range(y.size):
        if y[i] >= level:
            if i == 0:
                return float(t[0])
            return float(t[i - 1] + (level - y[i - 1]) / (y[i] - y[i - 1]) * (t[i] - t[i - 1]))
    return math.nan


def _step_figures(t: Array, y: Array, found: Array) -> None:
    """Fill in when a response reaches 10 % and 90 %, its peak and when, settling, and its end.

    Times in s, ratios of the step; settling into ±2 %, NaN where it does not
    """
    peak, last, n = 0, -1, y.size
    for i in range(n):
        if y[i] > y[peak]:
            peak = i
        if abs(y[i] - 1.0) > 0.02:
            last = i
    settling = 0.0
    if last == n - 1:
        settling = math.nan
    elif last >= 0:
        edge = 1.02 if y[last] > 1.0 else 0.98
        share = (edge - y[last]) / (y[last + 1] - y[last])
        settling = t[last] + share * (t[last + 1] - t[last])
    tenth = max(n // 10, 1)
    found[0], found[1] = _reached(t, y, 0.1), _reached(t, y, 0.9)
    found[2], found[3] = y[peak], t[peak]
    found[4], found[5] = settling, np.mean(y[n - tenth :])


def _move_figures(
    t: Array, asked: Array, position: Array, end: float, window: float, found: Array
) -> None:
    """Fill in what is read off a move: the most that is missing, how far beyond, when it settles.

    found : rad, rad beyond the end, the last sample outside the window (−1: none), and rad that are
        missing where the profile ends (NaN: it is not seen)
    """
    n = t.size
    target = asked[n - 1]
    found[0], found[1], found[2], found[3] = 0.0, 0.0, -1.0, math.nan
    for k in range(n):
        beyond = position[k] - target if target >= 0.0 else target - position[k]
        found[0] = max(found[0], abs(asked[k] - position[k]))
        found[1] = max(found[1], beyond)
        if abs(beyond) > window:
            found[2] = k
        if t[k] >= end and math.isnan(found[3]):
            found[3] = abs(beyond)


def _dip_figures(y: Array, found: Array) -> None:
    """Fill in how far a response goes, when, when it is back for good, and its area.

    In samples; back is within a tenth of the most, NaN: it does not come back
    """
    at, last, area = 0, -1, 0.0
    for k in range(y.size):
        area += abs(y[k])
        if abs(y[k]) > abs(y[at]):
            at = k
    for k in range(y.size):
        if abs(y[k]) > 0.1 * abs(y[at]):
            last = k
    found[0], found[1], found[3] = abs(y[at]), at, area
    found[2] = last + 1 if last < y.size - 1 else math.nan


def arguments() -> dict[str, tuple[object, ...]]:
    """Return what each is compiled for, callees first."""
    one = np.ones(1)
    return {
        "_reached": (one, one, 0.5),
        "_step_figures": (one, one, np.empty(6)),
        "_move_figures": (one, one, one, 0.5, 0.5, np.empty(4)),
        "_dip_figures": (one, np.empty(4)),
    }


def figures_of(t: Array, y: Array) -> tuple[float, float, float, float, float, float]:
    """Return (when at 10 %, when at 90 %, peak, when, settling, end) of a response to a step of 1.

    s and ratios of the step, as in `_step_figures`.
    """
    found = np.empty(6)
    _step_figures(as_compiled(t), as_compiled(y), found)
    low, high, peak, at, settling, end = found.tolist()
    return low, high, peak, at, settling, end


def figures_of_move(
    t: Array, asked: Array, position: Array, end: float, window: float
) -> tuple[float, float, int, float]:
    """Return what `_move_figures` finds."""
    found = np.empty(4)
    t, asked, position = as_compiled(t), as_compiled(asked), as_compiled(position)
    _move_figures(t, asked, position, end, window, found)
    following, overshoot, last, late = found.tolist()
    return following, overshoot, int(last), late


def dip_figures(y: Array) -> tuple[float, float, float, float]:
    """Return (most, when, when it is back, area) of a response that ends at 0, in samples."""
    found = np.empty(4)
    _dip_figures(as_compiled(y), found)
    most, at, back, area = found.tolist()
    return most, at, back, area
