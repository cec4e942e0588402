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
    parts = np.pad(y, (0, many * each - x.size), mode="edge").reshape(many, each)
    places = np.sort(np.stack([parts.argmin(axis=1), parts.argmax(axis=1)], axis=1), axis=1)
    kept = np.minimum((places + each * np.arange(many)[:, np.newaxis]).ravel(), x.size - 1)
    kept = np.concatenate([[0], kept, [x.size - 1]])
    return x[kept], y[kept]
