"""Compiled recursions: what a loop makes of a sequence of inputs, and of a step.

`compiled.warm` compiles them; until it has run they are plain Python, with the same numbers.
"""

from contextlib import AbstractContextManager, nullcontext
from types import FunctionType

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Pairs = NDArray[np.int64]
_DOUBLE = np.dtype(np.float64)
ENDLESS = 1e12  # of an answer: one that grows is held there


def recur(nums: Array, den: Array, x: Array, state: Array, y: Array) -> None:
    """Fill in each of num/den in δ applied to `x`, from rest: a chain of summers.

    nums : (ways, order + 1), highest power first as `den`; state : (order,), zeros;
    y : (ways, samples)
    """
    n, back = den.size - 1, den[1:] / den[0]
    direct = nums[:, 0] / den[0]
    ahead = nums[:, 1:] / den[0]
    for m in range(nums.shape[0]):
        ahead[m] -= direct[m] * back
    for k in range(x.size):
        for m in range(nums.shape[0]):
            total = direct[m] * x[k]
            for i in range(n):
                total += ahead[m, i] * state[i]
            y[m, k] = total
        fed = x[k]
        for i in range(n):
            fed -= back[i] * state[i]
        for i in range(n - 1, 0, -1):
            state[i] += state[i - 1]
        if n:
            state[0] += fed


def close(controller: Array, plant: Array, ways: Pairs) -> tuple[Array, Array]:
    """Return (numerators, denominator) of the ways of a loop that is closed, highest power first.

    controller : (rows, n + 1), the first its denominator, the second its numerator of the error;
    plant : (rows, m + 1), the first the denominator, the second the numerator of what is seen;
    ways : (ways, 2), by which row of the controller and of the plant a numerator is made
    """
    n, m = controller.shape[1], plant.shape[1]
    nums, closed = np.zeros((ways.shape[0], n + m - 1)), np.zeros(n + m - 1)
    for i in range(n):
        for j in range(m):
            closed[i + j] += controller[0, i] * plant[0, j] + controller[1, i] * plant[1, j]
            for w in range(ways.shape[0]):
                nums[w, i + j] += controller[ways[w, 0], i] * plant[ways[w, 1], j]
    return nums, closed


def _stepped(controller: Array, plants: Array, ways: Pairs, y: Array) -> None:
    """Fill in what a step of 1 makes of loops that one controller closes round several plants.

    controller, ways : as of `close`; plants : (plants, rows, m + 1); y : (plants, ways, samples)
    """
    one = np.ones(y.shape[2])
    for p in range(plants.shape[0]):
        nums, closed = close(controller, plants[p], ways)
        recur(nums, closed, one, np.zeros(closed.size - 1), y[p])


def arguments() -> dict[str, tuple[object, ...]]:
    """Return what each is compiled for, callees first."""
    one = np.ones(1)
    rows, ways = np.ones((2, 1)), np.zeros((1, 2), dtype=np.int64)
    return {
        "recur": (one.reshape(1, 1), one, one, np.empty(0), np.empty((1, 1))),
        "close": (rows, rows, ways),
        "_stepped": (rows, rows.reshape(1, 2, 1), ways, np.empty((1, 1, 1))),
    }


def filtered(nums: Array, den: Array, x: Array) -> Array:
    """Return `x` filtered by each of num/den in δ, from rest, (ways, samples).

    What grows without end is held at ±1e12: it is finite, and nobody reads it.

    Parameters
    ----------
    nums : (ways, order + 1); den : (order + 1,), highest power first

    """
    x, y = as_compiled(x), np.empty((nums.shape[0], x.size))
    with quietly():
        recur(nums, den, x, np.zeros(den.size - 1), y)
    return held(y)


def stepped(controller: Array, plants: Array, ways: Pairs, samples: int) -> Array:
    """Return the answers, (plants, ways, samples), to a step of 1; held as in `filtered`.

    Parameters
    ----------
    controller, plants, ways : as in `close`, polynomials in δ, highest power first

    """
    y = np.empty((plants.shape[0], ways.shape[0], samples))
    with quietly():
        _stepped(controller, plants, ways, y)
    return held(y)


def rows(*some: tuple[float, ...]) -> Array:
    """Return polynomials as rows of one length, (rows, order + 1), highest power first."""
    most = max(len(one) for one in some)
    return np.array([(0.0,) * (most - len(one)) + one for one in some])


def as_compiled(x: Array) -> Array:
    """Return an array as kernels are compiled for: doubles in one piece, not locked as records'.

    Any other kind would be compiled for when it first comes, which takes a second.
    """
    return x if x.dtype is _DOUBLE and x.flags.carray else np.array(x, dtype=np.float64)


def quietly() -> AbstractContextManager[object]:
    """Have plain Python say nothing of what grows; compiled code does not."""
    plain = isinstance(recur, FunctionType)
    return np.errstate(over="ignore", invalid="ignore") if plain else nullcontext()


def held(y: Array) -> Array:
    """Return answers, (..., samples); what grows without end held."""
    if y.size and not all(abs(end) < ENDLESS for end in y[..., -1].ravel().tolist()):
        return np.clip(np.nan_to_num(y, nan=ENDLESS), -ENDLESS, ENDLESS)
    return y
