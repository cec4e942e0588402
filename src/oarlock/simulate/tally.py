"""What is kept of a run as its samples come: each column over bins, and sums over all of them."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.layout import (
    D_LEAST,
    D_MOST,
    Q_LEAST,
    Q_MOST,
    REACH_SIZE,
    RIPPLE,
    SIZE_MOST,
    Numbers,
    Row,
    Whole,
)

# Of a recorded sample: rad, rad/s, A, V, N·m.
(AT, AT_ASKED, SPEED, SPEED_ASKED, I_D, I_Q, V_D, V_Q, BUS, SHAFT, TORQUE) = range(11)
RECORDED = 11
# What is kept of it: what the bus gives is the shaft's power and the copper's loss.
(POSITION, FOLLOWING) = range(2)
(KEPT_D, KEPT_Q, KEPT_SHAFT, POWER, AMPERES, VOLTS, KEPT_BUS) = (4, 5, 8, 9, 10, 11, 12)
COLUMNS = 13
(MEAN, LEAST, MOST) = range(3)
# Counted: samples in the bin that is begun, bins, samples.
(FILLED, BINS, SAMPLES) = range(3)
COUNTS = 3
# Summed over all samples: squares, and those with the voltage at its limit.
(OF_CURRENT, OF_FOLLOWING, OF_RIPPLE, OVER) = range(4)
SUMS = 4
_AT_LIMIT = 0.999 / math.sqrt(3.0)  # of the bus, that a voltage vector has

_part = njit(inline=True)


@_part
def _take(bin_: Numbers, j: int, total: float, least: float, most: float) -> None:
    """Put down what a column has come to."""
    bin_[MEAN, j], bin_[LEAST, j], bin_[MOST, j] = total, least, most


@_part
def _recorded(rows: Row, of: int, at: int, until: int, bin_: Numbers, j: int) -> None:
    """Take a column as it was recorded."""
    total, least, most = bin_[MEAN, j], bin_[LEAST, j], bin_[MOST, j]
    for n in range(at, until):
        x = np.float64(rows[n, of])
        total += x
        least, most = min(least, x), max(most, x)
    _take(bin_, j, total, least, most)


@_part
def _places(
    rows: Row, at: int, until: int, began_at: float, bin_: Numbers, sums: Numbers
) -> None:  # fmt: skip
    """Take where the shaft is, and how far behind."""
    total, least, most = bin_[MEAN, POSITION], bin_[LEAST, POSITION], bin_[MOST, POSITION]
    behind = bin_[MEAN, FOLLOWING]
    nearest, furthest = bin_[LEAST, FOLLOWING], bin_[MOST, FOLLOWING]
    squares = sums[OF_FOLLOWING]
    for n in range(at, until):
        x = np.float64(rows[n, AT]) - began_at
        total += x
        least, most = min(least, x), max(most, x)
        late = np.float64(rows[n, AT_ASKED]) - x
        behind += late
        nearest, furthest = min(nearest, late), max(furthest, late)
        squares += late * late
    _take(bin_, POSITION, total, least, most)
    _take(bin_, FOLLOWING, behind, nearest, furthest)
    sums[OF_FOLLOWING] = squares


@_part
def _amounts(
    rows: Row, at: int, until: int, resistance: float, bin_: Numbers, sums: Numbers
) -> None:  # fmt: skip
    """Take current, voltage and power."""
    power, least, most = bin_[MEAN, POWER], bin_[LEAST, POWER], bin_[MOST, POWER]
    amperes, i_least, i_most = bin_[MEAN, AMPERES], bin_[LEAST, AMPERES], bin_[MOST, AMPERES]
    volts, v_least, v_most = bin_[MEAN, VOLTS], bin_[LEAST, VOLTS], bin_[MOST, VOLTS]
    squares, over = sums[OF_CURRENT], sums[OVER]
    for n in range(at, until):
        i_d, i_q = np.float64(rows[n, I_D]), np.float64(rows[n, I_Q])
        v_d, v_q = np.float64(rows[n, V_D]), np.float64(rows[n, V_Q])
        square = i_d * i_d + i_q * i_q
        i, v = math.sqrt(square), math.sqrt(v_d * v_d + v_q * v_q)
        shaft = np.float64(rows[n, TORQUE]) * np.float64(rows[n, SHAFT])
        p = shaft + 1.5 * resistance * square
        power += p
        least, most = min(least, p), max(most, p)
        amperes += i
        i_least, i_most = min(i_least, i), max(i_most, i)
        volts += v
        v_least, v_most = min(v_least, v), max(v_most, v)
        squares += i * i
        over += 1.0 if v >= _AT_LIMIT * np.float64(rows[n, BUS]) else 0.0
    _take(bin_, POWER, power, least, most)
    _take(bin_, AMPERES, amperes, i_least, i_most)
    _take(bin_, VOLTS, volts, v_least, v_most)
    sums[OF_CURRENT], sums[OVER] = squares, over


@_part
def _widen(bin_: Numbers, reach: Row, n: int) -> None:
    """Have least and most go as far as a switching bridge drives the currents until the next."""
    bin_[LEAST, KEPT_D] = min(bin_[LEAST, KEPT_D], reach[n, D_LEAST])
    bin_[MOST, KEPT_D] = max(bin_[MOST, KEPT_D], reach[n, D_MOST])
    bin_[LEAST, KEPT_Q] = min(bin_[LEAST, KEPT_Q], reach[n, Q_LEAST])
    bin_[MOST, KEPT_Q] = max(bin_[MOST, KEPT_Q], reach[n, Q_MOST])
    bin_[MOST, AMPERES] = max(bin_[MOST, AMPERES], reach[n, SIZE_MOST])


@njit()
def gather(
    rows: Row, first: int, many: int, reach: Row, began_at: float, resistance: float, width: int,
    counts: Whole, sums: Numbers, bin_: Numbers, kept: Numbers,
) -> None:  # fmt: skip
    """Take samples as they come; the last four arrays are changed in place.

    Parameters
    ----------
    rows : (n, 11), what was recorded, in the order above; `first` to `first + many` are taken
    reach : (n, 6) of a bridge that switches, see `layout`; (0, 6) of one that does not
    began_at : rad, which counts as position zero
    resistance : ohm, of the winding
    width : samples in a bin
    counts, sums : (3,) and (4,)
    bin_ : (3, 13), sum, least and most of the bin that is begun
    kept : (3, 13, bins), mean, least and most of each

    """
    at, end = first, first + many
    for _ in range((counts[FILLED] + many + width - 1) // width):
        until = min(at + width - counts[FILLED], end)
        if counts[FILLED] == 0:
            for j in range(COLUMNS):
                bin_[MEAN, j], bin_[LEAST, j], bin_[MOST, j] = 0.0, math.inf, -math.inf
        _places(rows, at, until, began_at, bin_, sums)
        for j in range(SPEED, BUS):
            _recorded(rows, j, at, until, bin_, j)
        _recorded(rows, BUS, at, until, bin_, KEPT_BUS)
        _recorded(rows, SHAFT, at, until, bin_, KEPT_SHAFT)
        _amounts(rows, at, until, resistance, bin_, sums)
        if reach.shape[0] > 0:
            for n in range(at, until):
                _widen(bin_, reach, n)
                sums[OF_RIPPLE] += reach[n, RIPPLE]
        counts[SAMPLES] += until - at
        counts[FILLED] += until - at
        at = until
        if counts[FILLED] == width:
            into = counts[BINS]
            for j in range(COLUMNS):
                kept[MEAN, j, into] = bin_[MEAN, j] / width
                kept[LEAST, j, into], kept[MOST, j, into] = bin_[LEAST, j], bin_[MOST, j]
            counts[BINS] += 1
            counts[FILLED] = 0


def warm_up() -> None:
    """Compile it, or load it from the cache."""
    rows, reach = (np.zeros((0, n), dtype=np.float32) for n in (RECORDED, REACH_SIZE))
    gather(rows, 0, 0, reach, 0.0, 0.0, 1, np.zeros(COUNTS, dtype=np.int64), np.zeros(SUMS),
           np.zeros((3, COLUMNS)), np.zeros((3, COLUMNS, 1)))  # fmt: skip
