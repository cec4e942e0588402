"""Compiled: what a speed loop makes of a step, of a load and of its sensor's errors.

`compiled.warm` compiles it; until it has run it is plain Python, with the same numbers.
"""

import numpy as np
from numpy.typing import NDArray

from oarlock.control import _kernels, _steps
from oarlock.control._steps import ENDLESS, held, quietly

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
# Answers by the rows of controller and plant that their numerators are made of.
SPEED, SAG = np.array([(2, 2)]), np.array([(0, 3)])  # after a step that is asked for, and of load
CURRENTS = np.array([(2, 0), (1, 4), (1, 5)])  # after both of them, and after an error of the speed
OPENED = np.array([(1, 1), (0, 0)])  # numerator and denominator of the open loop
FIRST = np.concatenate([SPEED, CURRENTS, SAG])


def _answered(
    controller: Array, plant: Array, taken: Array, first: Array, sag: Array, told: Array
) -> None:
    """Fill in the answers of a loop to a step of 1 that is asked for, and to those that disturb.

    controller, plant : as of `_steps.close`, six rows of the plant
    taken : by what the errors of the angle, that are shared by samples, count in each
    first : (5, samples), as `FIRST`; sag : (more samples,), its last row taken further
    told : (4,), the most current that is asked for, the area of the sag (in samples), and the power
        of the current by a single error of the speed and by one that counts as `taken`
    """
    nums, closed = _steps.close(controller, plant, FIRST)
    state, one, n = np.zeros(closed.size - 1), np.ones(sag.size), first.shape[1]
    further = np.empty((1, sag.size - n))
    _steps.recur(nums, closed, one[:n], state, first)
    _steps.recur(nums[4:], closed, one[n:], state, further)
    sag[:n], sag[n:] = first[4], further[0]
    push, unrest = first[1], first[3]
    told[:] = 0.0
    for k in range(sag.size):
        told[1] += abs(sag[k])
    for k in range(n):
        told[0] = max(told[0], abs(push[k]))
        counted = 0.0
        for i in range(min(taken.size, k + 1)):
            pulse = unrest[k - i] - (unrest[k - i - 1] if k > i else 0.0)
            counted += taken[i] * pulse
            if i == 0:
                told[2] += pulse * pulse
        told[3] += counted * counted


def _looked(
    controller: Array, plant: Array, into: Array, Ts: float, omega: Array, delta: Complex,
    kinds: Array, at: Array, gains: Complex,
) -> tuple[bool, int]:  # fmt: skip
    """Fill in what `_kernels.look` finds of the open loop."""
    nums, _ = _steps.close(controller, plant, OPENED)
    return _kernels.look(nums[0], nums[1], into, Ts, omega, delta, kinds, at, gains)


def _tracking(
    controller: Array, plant: Array, Ts: float, omega: Array, level: float
) -> float:  # fmt: skip
    """Return where the speed falls below a share of what is asked for."""
    nums, closed = _steps.close(controller, plant, SPEED)
    return _kernels.falls_below(nums[0], closed, Ts, omega, level)


def arguments() -> dict[str, tuple[object, ...]]:
    """Return what each is compiled for, callees first."""
    one = np.ones(1)
    return {
        "_answered": (np.ones((3, 1)), np.ones((6, 1)), one, np.empty((5, 1)), np.empty(2),
                      np.empty(4)),
        "_looked": (np.ones((2, 1)), np.ones((2, 1)), one.reshape(1, 1), 1e-4, one, one + 0j,
                    np.empty(4), np.empty(4), np.ones(4) + 0j),
        "_tracking": (np.ones((3, 1)), np.ones((6, 1)), 1e-4, one, 0.5),
    }  # fmt: skip


def answered(
    controller: Array, plant: Array, taken: Array, samples: tuple[int, int]
) -> tuple[Array, Array, tuple[float, float, float, float]]:
    """Return (first, sag, told) as `_answered` fills them in, over so many samples each.

    Those of a loop that swings up are held as `_steps.filtered` holds them.
    """
    first, sag, told = np.empty((5, samples[0])), np.empty(samples[1]), np.empty(4)
    with quietly():
        _answered(controller, plant, taken, first, sag, told)
    most, area, alone, shared = (x if x < ENDLESS else ENDLESS for x in told.tolist())
    return held(first), held(sag), (most, area, alone, shared)


def looked(
    controller: Array, plant: Array, into: Array, Ts: float, omega: Array, delta: Complex
) -> tuple[bool, Array, Array, Complex]:
    """Return what `_kernels.survey` does of the open loop, of rows as of `_steps.close`."""
    kinds, at, gains = _kernels.room()
    stable, n = _looked(controller, plant, into, Ts, omega, delta, kinds, at, gains)
    return stable, kinds[:n], at[:n], gains[:n]


def tracking(controller: Array, plant: Array, Ts: float, omega: Array, level: float) -> float:
    """Return where (rad/s) the speed falls below a share of what is asked for, along a grid."""
    return float(_tracking(controller, plant, Ts, omega, level))
