"""Compiled recursions for what a drag needs at every move of the mouse.

Until `warm` has run (in a thread, after the window stands), the same source runs as plain
Python: slower, same numbers.
"""

import threading
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def _recur(b: Array, a: Array, x: Array, y: Array) -> None:
    n = a.size
    for k in range(x.size):
        total = 0.0
        for j in range(min(n, k + 1)):
            total += b[j] * x[k - j]
        for j in range(1, min(n, k + 1)):
            total -= a[j] * y[k - j]
        y[k] = total / a[0]


_compiled: Callable[[Array, Array, Array, Array], None] | None = None
_lock = threading.Lock()


def warm() -> None:
    """Compile, or load from the cache, what this module offers."""
    global _compiled
    with _lock:
        if _compiled is not None:
            return
        from oarlock.jit import njit

        fast = njit()(_recur)
        one = np.ones(1)
        fast(one, one, one, np.empty(1))
        _compiled = fast


def filtered(b: Array, a: Array, x: Array) -> Array:
    """Return `x` filtered by b(1/z)/a(1/z); both of one length, from z^0 down."""
    y = np.empty_like(x)
    (_compiled or _recur)(b, a, x, y)
    return y
