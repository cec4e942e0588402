"""Compiled searches for gains: loops on a grid of frequencies, one after another.

`compiled.warm` compiles them; until it has run they are plain Python, with the same numbers.
"""

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


class Seen(NamedTuple):
    """What the controller sees."""

    seen: Complex  # on a grid, (frequencies,)
    others: Complex  # of plants on which a loop has to be stable too, (plants, frequencies)
    summing: Complex  # gain of the controller's sum on the grid, s
    crossovers: Array  # rad/s, rising, at which a loop may cross
    crossing: Complex  # what is seen there


class Swings(NamedTuple):
    """What a dip is made of, on frequencies spaced evenly, without standstill and Nyquist."""

    seen: Complex
    summing: Complex  # s
    load: Complex  # from a load (A) to the speed, rad/(A s)
    turns: Complex  # of the transform, as in `_inverse`
    T: float  # s


class Kept(NamedTuple):
    """What gains have to keep."""

    limits: Array  # as in `_kept`
    most_Kp: float  # A s/rad
    falls: float  # Ki from one set of gains that are tried to the next


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


def _inverse(x: Complex, turns: Complex) -> None:
    """Take the inverse Fourier transform in place, times its length (Cooley and Tukey 1965).

    x : a power of two long; turns : e^(2πj·k/length), for the first half
    """
    n, other = x.size, 0
    for k in range(1, n):
        bit = n >> 1
        while other & bit:
            other ^= bit
            bit >>= 1
        other |= bit
        if k < other:
            x[k], x[other] = x[other], x[k]
    half = 1
    while half < n:
        apart = n // (2 * half)
        for k in range(half):
            turn = turns[k * apart]
            for m in range(k, n, 2 * half):
                a, b = x[m], x[m + half] * turn
                x[m], x[m + half] = a + b, a - b
        half *= 2


def _dip(Kp: float, Ki: float, swings: Swings, work: Complex) -> float:
    """Return the area (rad) of the dip after a step of load of 1 A; `work` is written over."""
    n = work.size
    work[0], work[n // 2] = 0j, 0j
    for k in range(swings.seen.size):
        value = swings.load[k] / (1.0 + swings.seen[k] * (Kp + Ki * swings.summing[k]))
        work[k + 1], work[n - 1 - k] = value, value.conjugate()
    _inverse(work, swings.turns)
    level, area = 0.0, 0.0
    for k in range(n):
        level += work[k].real
        area += abs(level)
    return area / n * swings.T


def _improved(
    seen: Seen, swings: Swings, kept: Kept, crossovers: Array, crossing: Complex,
    margin: float, work: Complex, best: Array,
) -> None:  # fmt: skip
    """Put (area in rad, Kp, Ki, crossover, margin) of better gains of one margin into `best`.

    Of PIs that keep the limits, Ki falling in steps from one that is tried to the next.
    """
    Kp, Ki = np.empty(crossovers.size), np.empty(crossovers.size)
    for n in range(crossovers.size):
        ideal = complex(-math.cos(margin), -math.sin(margin)) / crossing[n]
        each = -2.0 * ideal.imag * math.tan(0.5 * crossovers[n] * swings.T)
        Kp[n], Ki[n] = ideal.real - 0.5 * each, each / swings.T
    last = math.inf
    for _ in range(crossovers.size):
        n = int(np.argmax(Ki))  # of those that are left
        largest = Ki[n]
        if largest * best[0] <= 1.0:
            return
        fits = 0.0 < Kp[n] <= kept.most_Kp and largest <= kept.falls * last
        its = Kp[n : n + 1], Ki[n : n + 1]
        if fits and _first_kept(seen.seen, seen.others, seen.summing, *its, kept.limits) == 0:
            last, area = largest, _dip(Kp[n], largest, swings, work)
            if area < best[0]:
                best[0], best[1], best[2] = area, Kp[n], largest
                best[3], best[4] = crossovers[n], margin
        Ki[n] = -math.inf


def _least_area(
    seen: Seen, swings: Swings, kept: Kept, margins: Array, shares: Array, rounds: int,
    best: Array,
) -> None:  # fmt: skip
    """Put the gains of the least area into `best`, as `_improved` does: all, then closer round it.

    The search is that of `speed_survey.least_area`, with the areas worked out on the way.

    margins : rad; shares : of the way round the best, where it is looked at closer
    """
    work = np.empty(2 * swings.turns.size, dtype=np.complex128)
    for margin in margins:
        _improved(seen, swings, kept, seen.crossovers, seen.crossing, margin, work, best)
    step = seen.crossovers[1] / seen.crossovers[0]
    at, crossing = np.empty(shares.size), np.empty(shares.size, dtype=np.complex128)
    for _ in range(rounds):
        if best[1] == 0.0:
            return
        for n in range(shares.size):
            at[n] = best[3] / step * step ** (2.0 * shares[n])
            right = np.searchsorted(seen.crossovers, at[n])
            right = min(max(right, 1), seen.crossovers.size - 1)
            first, last = seen.crossovers[right - 1], seen.crossovers[right]
            share = math.log(at[n] / first) / math.log(last / first)
            before = seen.crossing[right - 1]
            crossing[n] = before * (seen.crossing[right] / before) ** share
        _improved(seen, swings, kept, at, crossing, best[4], work, best)
        step **= 0.3


def _examples() -> tuple[Seen, Swings, Kept]:
    z = np.ones(2, dtype=np.complex128)
    seen = Seen(z, z.reshape(1, 2), z, np.array([1.0, 2.0]), z)
    return seen, Swings(z[:1], z[:1], z[:1], z, 1.0), Kept(np.ones(3), 1.0, 0.5)


def arguments() -> dict[str, tuple[object, ...]]:
    """Return what each is compiled for, callees first."""
    one, z = np.ones(1), np.ones(1, dtype=np.complex128)
    seen, swings, kept = _examples()
    return {
        "_aliased": (z.reshape(1, 1), z.reshape(1, 1), np.ones((1, 5)), z.copy()),
        "_turns": (z, z, 1.0, 1.0),
        "_kept": (z, z, 1.0, 1.0, np.ones(3)),
        "_first_kept": (z, z.reshape(1, 1), z, one, one, np.ones(3)),
        "_inverse": (z.copy(), z),
        "_dip": (1.0, 1.0, swings, np.ones(4, dtype=np.complex128)),
        "_improved": (seen, swings, kept, one, z[:1], 1.0, np.ones(4) + 0j, np.ones(5)),
        "_least_area": (seen, swings, kept, one, one, 1, np.ones(5)),
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


def least_area(
    seen: Seen, swings: Swings, kept: Kept, margins: Array, shares: Array, rounds: int, most: float
) -> float:
    """Return the least area of a dip (rad for 1 A) below `most`; infinite: no gains give any.

    The integral of the error is 1/Ki, and no area lies below it: what cannot be better is left
    out. First all crossovers, then closer round the best.

    Parameters
    ----------
    margins : rad; shares : of the way round the best, where it is looked at closer

    """
    best = np.array([most, 0.0, 0.0, 0.0, 0.0])
    _least_area(seen, swings, kept, margins, shares, rounds, best)
    return float(best[0]) if best[1] else math.inf
