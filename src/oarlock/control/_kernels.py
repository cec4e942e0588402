"""Compiled recursions for what a drag needs at every move of the mouse.

Until `warm` has run (in a thread, after the window stands), the same source runs as plain
Python: slower, same numbers.
"""

import math
import threading
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


def _recur(b: Array, a: Array, x: Array, y: Array) -> None:
    n = a.size
    for k in range(x.size):
        total = 0.0
        for j in range(min(n, k + 1)):
            total += b[j] * x[k - j]
        for j in range(1, min(n, k + 1)):
            total -= a[j] * y[k - j]
        y[k] = total / a[0]


def _respond(num: Array, den: Array, z: Complex, opened: Complex, phase: Array) -> None:
    """Fill in the gain of num/den at each z, highest power first, and its unwrapped phase."""
    turns, before = 0.0, 0.0
    for k in range(z.size):
        top, bottom = 0j, 0j
        for c in num:
            top = top * z[k] + c
        for c in den:
            bottom = bottom * z[k] + c
        opened[k] = top / bottom
        angle = math.atan2(opened[k].imag, opened[k].real)
        if k > 0:
            if angle - before > math.pi:
                turns -= 2.0 * math.pi
            elif angle - before < -math.pi:
                turns += 2.0 * math.pi
        before = angle
        phase[k] = angle + turns


def _refine(  # noqa: C901 - compiled: one function
    num: Array, den: Array, Ts: float, kind: int, low: float, high: float
) -> float:
    """Return where a figure passes zero between two frequencies (rad/s), by the Illinois rule.

    kind : 0 open loop's gain at 1, 1 its phase at -180 degrees, 2 closed loop's gain at -3 dB
    """
    w, values = np.array([low, high]), np.zeros(2)
    c, fc = low, 0.0
    for turn in range(62):
        at = w[turn] if turn < 2 else c
        z = complex(math.cos(at * Ts), math.sin(at * Ts))
        top, bottom = 0j, 0j
        for x in num:
            top = top * z + x
        for x in den:
            bottom = bottom * z + x
        gain = top / bottom
        if kind == 0:
            fc = math.log(abs(gain))
        elif kind == 1:
            fc = -gain.imag / abs(gain)
        else:
            fc = abs(gain / (1.0 + gain)) - math.sqrt(0.5)
        if turn < 2:
            values[turn] = fc
        elif abs(c - w[1]) < 1e-11 * w[1] or fc == 0.0:
            return c
        else:
            if (fc > 0.0) != (values[1] > 0.0):
                w[0], values[0] = w[1], values[1]
            else:
                values[0] *= 0.5
            w[1], values[1] = c, fc
        if turn >= 1:
            if values[0] == values[1]:
                return float(w[1])
            c = w[1] - values[1] * (w[1] - w[0]) / (values[1] - values[0])
    return float(w[1])


_compiled: dict[str, Callable[..., Any]] = {}
_lock = threading.Lock()


def warm() -> None:
    """Compile, or load from the cache, what this module offers."""
    with _lock:
        if _compiled:
            return
        from oarlock.jit import njit

        made: dict[str, Callable[..., Any]] = {
            "_recur": njit()(_recur),
            "_respond": njit()(_respond),
            "_refine": njit()(_refine),
        }
        one, z = np.ones(1), np.ones(1, dtype=np.complex128)
        made["_recur"](one, one, one, np.empty(1))
        made["_respond"](one, one, z, np.empty(1, dtype=np.complex128), np.empty(1))
        made["_refine"](one, one, 1e-4, 0, 1.0, 2.0)
        _compiled.update(made)


def filtered(b: Array, a: Array, x: Array) -> Array:
    """Return `x` filtered by b(1/z)/a(1/z); both of one length, from z^0 down."""
    y = np.empty_like(x)
    _compiled.get("_recur", _recur)(b, a, x, y)
    return y


def response(num: Array, den: Array, z: Complex) -> tuple[Complex, Array]:
    """Return (gain, unwrapped phase in rad) of num/den, highest power first, at each z."""
    opened, phase = np.empty_like(z), np.empty(z.size)
    _compiled.get("_respond", _respond)(num, den, z, opened, phase)
    return opened, phase


def refined(num: Array, den: Array, Ts: float, kind: int, low: float, high: float) -> float:
    """Return the crossing of a figure between two frequencies, rad/s; kinds as in `_refine`."""
    return float(_compiled.get("_refine", _refine)(num, den, Ts, kind, low, high))
