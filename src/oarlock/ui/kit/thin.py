"""A long curve as a screen can show it: least and most of what falls on each of its columns."""

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_ENOUGH = 4  # samples on a column, up to which all are drawn


def thinned(x: Array, y: Array, low: float, high: float, columns: int) -> tuple[Array, Array]:
    """Return the part of a curve that is seen, no more of it than a picture holds.

    Where many samples fall on a column the least and the most of them are kept, in their order: no
    peak is lost.

    Parameters
    ----------
    x, y : (n,), x rising
    low, high : range of x that is seen; one sample beyond it on each side is kept
    columns : of the screen, px

    """
    begin = max(int(np.searchsorted(x, low)) - 1, 0)
    end = min(int(np.searchsorted(x, high, side="right")) + 1, x.size)
    x, y = x[begin:end], y[begin:end]
    if x.size <= _ENOUGH * columns:
        return x, y
    each = -(-x.size // columns)
    many = -(-x.size // each)
    whole = np.full(many * each, y[-1])
    whole[: y.size] = y
    parts, first = whole.reshape(many, each), each * np.arange(many)
    kept = np.empty(2 * many + 2, dtype=np.intp)
    kept[0], kept[-1] = 0, x.size - 1
    least, most = parts.argmin(axis=1), parts.argmax(axis=1)
    kept[1:-1:2], kept[2:-1:2] = first + np.minimum(least, most), first + np.maximum(least, most)
    np.minimum(kept, x.size - 1, out=kept)
    return x[kept], y[kept]
