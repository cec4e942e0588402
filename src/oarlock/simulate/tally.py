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
def _columns(rows: Row, n: int, began_at: float, resistance: float, into: Numbers) -> None:
    """Work out each column of one sample."""
    position = np.float64(rows[n, AT]) - began_at
    into[POSITION], into[FOLLOWING] = position, np.float64(rows[n, AT_ASKED]) - position
    for j in range(SPEED, BUS):
        into[j] = rows[n, j]
    i_d, i_q, v_d, v_q = into[KEPT_D], into[KEPT_Q], into[V_D], into[V_Q]
    square = i_d * i_d + i_q * i_q
    into[KEPT_SHAFT], into[KEPT_BUS] = rows[n, SHAFT], rows[n, BUS]
    into[POWER] = np.float64(rows[n, TORQUE]) * into[KEPT_SHAFT] + 1.5 * resistance * square
    into[AMPERES], into[VOLTS] = math.sqrt(square), math.sqrt(v_d * v_d + v_q * v_q)


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
    counts: Whole, sums: Numbers, bin_: Numbers, kept: Numbers, now: Numbers,
) -> None:  # fmt: skip
    """Take samples as they come; the last five arrays are changed in place.

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
    now : (13,), scratch

    """
    switches = reach.shape[0] > 0
    for n in range(first, first + many):
        _columns(rows, n, began_at, resistance, now)
        if counts[FILLED] == 0:
            for j in range(COLUMNS):
                bin_[MEAN, j], bin_[LEAST, j], bin_[MOST, j] = 0.0, math.inf, -math.inf
        for j in range(COLUMNS):
            bin_[MEAN, j] += now[j]
            bin_[LEAST, j] = min(bin_[LEAST, j], now[j])
            bin_[MOST, j] = max(bin_[MOST, j], now[j])
        if switches:
            _widen(bin_, reach, n)
            sums[OF_RIPPLE] += reach[n, RIPPLE]
        sums[OF_CURRENT] += now[AMPERES] * now[AMPERES]
        sums[OF_FOLLOWING] += now[FOLLOWING] * now[FOLLOWING]
        sums[OVER] += 1.0 if now[VOLTS] >= _AT_LIMIT * now[KEPT_BUS] else 0.0
        counts[SAMPLES] += 1
        counts[FILLED] += 1
        if counts[FILLED] == width:
            at = counts[BINS]
            for j in range(COLUMNS):
                kept[MEAN, j, at] = bin_[MEAN, j] / width
                kept[LEAST, j, at], kept[MOST, j, at] = bin_[LEAST, j], bin_[MOST, j]
            counts[BINS] += 1
            counts[FILLED] = 0


def warm_up() -> None:
    """Compile it, or load it from the cache."""
    rows, reach = (np.zeros((0, n), dtype=np.float32) for n in (RECORDED, REACH_SIZE))
    gather(rows, 0, 0, reach, 0.0, 0.0, 1, np.zeros(COUNTS, dtype=np.int64), np.zeros(SUMS),
           np.zeros((3, COLUMNS)), np.zeros((3, COLUMNS, 1)), np.zeros(COLUMNS))  # fmt: skip
