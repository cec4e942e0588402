"""Compiled searches for gains: loops on a grid of frequencies, one after another.

`_kernels.warm` compiles them; until it has run they are plain Python, with the same numbers.
"""

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


def _aliased(back: Complex, part: Complex, sections: Array, total: Complex) -> None:
    """Fill in a response summed over its aliases, each times the sections at its fine z.

    back, part : 1/z and all but the sections, (frequencies, aliases); sections : (n, 5)
    """
    for k in range(back.shape[0]):
        summed = 0j
        for m in range(back.shape[1]):
            b, g = back[k, m], part[k, m]
            for n in range(sections.shape[0]):
                c = sections[n]
                g *= (c[0] + b * (c[1] + b * c[2])) / (1.0 + b * (c[3] + b * c[4]))
            summed += g
        total[k] = summed


def _turns(seen: Complex, summing: Complex, Kp: float, Ki: float) -> bool:
    """Return whether 1 + L ends at 0° with no turn round the origin: a stable loop."""
    angle, before, opened = 0.0, 0.0, 0j
    for k in range(seen.size):
        opened = 1.0 + seen[k] * (Kp + Ki * summing[k])
        now = math.atan2(opened.imag, opened.real)
        if k == 0:
            angle = now if now <= 0.0 else now - 2.0 * math.pi
        else:
            step = now - before
            if step > math.pi:
                step -= 2.0 * math.pi
            elif step < -math.pi:
                step += 2.0 * math.pi
            angle += step
        before = now
    return abs(angle) < 1.0


def _kept(seen: Complex, summing: Complex, Kp: float, Ki: float, limits: Array) -> bool:
    """Return whether a loop on a grid keeps its limits: 1/Ms, margin (rad), gain margin."""
    before = 0j
    for k in range(seen.size):
        now = seen[k] * (Kp + Ki * summing[k])
        if abs(1.0 + now) < limits[0]:
            return False
        if k > 0:
            a, b = abs(before), abs(now)
            if (a >= 1.0) != (b >= 1.0):
                share = math.log(a) / math.log(a / b)
                turned = now / before
                phase = math.atan2(-before.imag, -before.real)
                phase += share * math.atan2(turned.imag, turned.real)
                if abs(phase) < limits[1]:
                    return False
            passes = before.real < 0.0 and (before.imag < 0.0) != (now.imag < 0.0)  # −180°
            if passes and limits[2] * a > 1.0 > max(a, b):
                return False
        before = now
    return _turns(seen, summing, Kp, Ki)


def _first_kept(
    seen: Complex, others: Complex, summing: Complex, Kp: Array, Ki: Array, limits: Array
) -> int:
    """Return the first gains that keep the limits, and are stable on the others too; -1: none.

    seen : (frequencies,) of the plant; others : (plants, frequencies)
    """
    for n in range(Kp.size):
        if not _kept(seen, summing, Kp[n], Ki[n], limits):
            continue
        good = True
        for m in range(others.shape[0]):
            if not _turns(others[m], summing, Kp[n], Ki[n]):
                good = False
                break
        if good:
            return n
    return -1


def arguments() -> dict[str, tuple[Any, ...]]:
    """Return what each is compiled for, callees first."""
    one, z = np.ones(1), np.ones(1, dtype=np.complex128)
    return {
        "_aliased": (z.reshape(1, 1), z.reshape(1, 1), np.ones((1, 5)), z.copy()),
        "_turns": (z, z, 1.0, 1.0),
        "_kept": (z, z, 1.0, 1.0, np.ones(3)),
        "_first_kept": (z, z.reshape(1, 1), z, one, one, np.ones(3)),
    }


def aliased(back: Complex, part: Complex, sections: Array) -> Complex:
    """Return a response summed over its aliases, with second-order sections in each of them."""
    total = np.empty(back.shape[0], dtype=np.complex128)
    _aliased(back, part, sections, total)
    return total


def first_kept(
    seen: Complex, others: Complex, summing: Complex, gains: tuple[Array, Array], limits: Array
) -> int:
    """Return the first of (Kp, Ki) that keep the limits on a grid of frequencies; -1: none do."""
    return int(_first_kept(seen, others, summing, gains[0], gains[1], limits))
