"""Compiled recursions for what a drag needs at every move of the mouse.

Until `warm` has run (in a thread, after the window stands), the same source runs as plain
Python: slower, same numbers.
"""

import math
import threading
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


def _recur(nums: Array, den: Array, x: Array, state: Array, y: Array) -> None:
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


def _respond(num: Array, den: Array, delta: Complex, opened: Complex, phase: Array) -> None:
    """Fill in the gain of num/den at each δ, highest power first, and its unwrapped phase."""
    turns, before = 0.0, 0.0
    for k in range(delta.size):
        top, bottom = 0j, 0j
        for c in num:
            top = top * delta[k] + c
        for c in den:
            bottom = bottom * delta[k] + c
        opened[k] = top / bottom
        angle = math.atan2(opened[k].imag, opened[k].real)
        if k > 0:
            if angle - before > math.pi:
                turns -= 2.0 * math.pi
            elif angle - before < -math.pi:
                turns += 2.0 * math.pi
        before = angle
        phase[k] = angle + turns


def _gain(num: Array, den: Array, angle: float) -> complex:
    """Return num/den at δ = e^(j·angle) − 1."""
    half = math.sin(0.5 * angle)
    delta = complex(-2.0 * half * half, math.sin(angle))
    top, bottom = 0j, 0j
    for x in num:
        top = top * delta + x
    for x in den:
        bottom = bottom * delta + x
    return top / bottom


def _below(num: Array, den: Array, Ts: float, omega: Array, level: float) -> float:
    """Return where the gain first falls below a level along a grid, rad/s, found by halving.

    Nyquist where it does not, or where it lies below from the first point on.
    """
    for k in range(omega.size):
        if abs(_gain(num, den, omega[k] * Ts)) < level:
            if k == 0:
                break
            low, high = omega[k - 1], omega[k]
            for _ in range(40):
                middle = math.sqrt(low * high)
                if abs(_gain(num, den, middle * Ts)) < level:
                    high = middle
                else:
                    low = middle
            return float(high)
    return math.pi / Ts


def _figure(gain: complex, kind: int) -> float:
    """Return what passes zero where a crossing lies; kinds as in `_refine`."""
    if kind == 0:
        return math.log(abs(gain))
    if kind == 1:
        return float(-gain.imag / abs(gain))
    return float(abs(gain / (1.0 + gain)) - math.sqrt(0.5))


def _refine(num: Array, den: Array, Ts: float, kind: int, low: float, high: float) -> float:
    """Return where a figure passes zero between two frequencies (rad/s), by the Illinois rule.

    kind : 0 open loop's gain at 1, 1 its imaginary part at 0, 2 closed loop's gain at -3 dB
    """
    a, b = low, high
    fa = _figure(_gain(num, den, a * Ts), kind)
    fb = _figure(_gain(num, den, b * Ts), kind)
    for _ in range(60):
        if fa == fb:
            return b
        c = b - fb * (b - a) / (fb - fa)
        fc = _figure(_gain(num, den, c * Ts), kind)
        if abs(c - b) < 1e-11 * b or fc == 0.0:
            return c
        if (fc > 0.0) != (fb > 0.0):
            a, fa = b, fb
        else:
            fa *= 0.5
        b, fb = c, fc
    return b


def _climb(num: Array, den: Array, Ts: float, low: float, high: float) -> float:
    """Return where |1 + L| is least between two frequencies (rad/s), by golden section."""
    ratio = 0.6180339887498949
    a, b = low, high
    c, d = b - ratio * (b - a), a + ratio * (b - a)
    fc, fd = abs(1.0 + _gain(num, den, c * Ts)), abs(1.0 + _gain(num, den, d * Ts))
    for _ in range(48):
        if fc < fd:
            b, d, fd = d, c, fc
            c = b - ratio * (b - a)
            fc = abs(1.0 + _gain(num, den, c * Ts))
        else:
            a, c, fc = c, d, fd
            d = a + ratio * (b - a)
            fd = abs(1.0 + _gain(num, den, d * Ts))
    return 0.5 * (a + b)


def _survey(
    num: Array, den: Array, Ts: float, omega: Array, delta: Complex,
    kinds: Array, at: Array, gains: Complex,
) -> int:  # fmt: skip
    """Find every crossing and every trough of |1 + L| along a grid; return how many.

    kinds, at, gains : filled in with kinds as in `_refine`, 3 for a trough; where, rad/s; the
        open loop's gain there
    """
    n = 0
    before, further = 0.0, 0.0
    values, last = np.zeros(3), np.zeros(3)
    for k in range(omega.size):
        top, bottom = 0j, 0j
        for x in num:
            top = top * delta[k] + x
        for x in den:
            bottom = bottom * delta[k] + x
        gain = top / bottom
        values[0], values[1] = abs(gain) - 1.0, -gain.imag
        values[2] = abs(gain) - math.sqrt(0.5) * abs(1.0 + gain)
        near = abs(1.0 + gain)
        if n + 4 > kinds.size:
            return n
        if k > 0:
            for kind in range(3):
                if (values[kind] < 0.0) != (last[kind] < 0.0):
                    kinds[n] = kind
                    at[n] = _refine(num, den, Ts, kind, omega[k - 1], omega[k])
                    gains[n] = _gain(num, den, at[n] * Ts)
                    n += 1
        if k > 1 and before < further and before <= near:
            kinds[n] = 3
            at[n] = _climb(num, den, Ts, omega[k - 2], omega[k])
            gains[n] = _gain(num, den, at[n] * Ts)
            n += 1
        further, before = before, near
        last[:] = values
    return n


def _inside(row: Array) -> bool:
    """Return whether a polynomial has all its roots in the left half plane (scheme of Routh).

    row : highest power first; changed in place
    """
    n = row.size
    if row[0] < 0.0:
        for i in range(n):
            row[i] = -row[i]
    if not row[0] > 0.0:
        return False
    # Two rows of the scheme lie interleaved; each step eats the first of them.
    for k in range(n - 1):
        if not row[k + 1] > 0.0:
            return False
        ratio = row[k] / row[k + 1]
        for i in range(k + 2, n - 1, 2):
            row[i] -= ratio * row[i + 1]
    return True


_MOST = 256  # crossings and troughs that are looked for
_lock = threading.Lock()
_warm = False


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


def warm() -> None:
    """Compile, or load from the cache, what this module offers.

    Each name is bound anew, callees first: what calls it finds the compiled one from then on.
    """
    global _warm
    with _lock:
        if _warm:
            return
        from oarlock.jit import njit

        one, z = np.ones(1), np.ones(1, dtype=np.complex128)
        arguments: dict[str, tuple[Any, ...]] = {
            "_recur": (one.reshape(1, 1), one, one, np.empty(0), np.empty((1, 1))),
            "_respond": (one, one, z, np.empty(1, dtype=np.complex128), np.empty(1)),
            "_gain": (one, one, 0.5),
            "_below": (one, one, 1e-4, one, 0.5),
            "_figure": (1j, 0),
            "_refine": (one, one, 1e-4, 0, 1.0, 2.0),
            "_inside": (one.copy(),),
            "_climb": (one, one, 1e-4, 1.0, 2.0),
            "_aliased": (z.reshape(1, 1), z.reshape(1, 1), np.ones((1, 5)), z.copy()),
            "_turns": (z, z, 1.0, 1.0),
            "_kept": (z, z, 1.0, 1.0, np.ones(3)),
            "_first_kept": (z, z.reshape(1, 1), z, one, one, np.ones(3)),
            "_survey": (one, one, 1e-4, one, z, np.empty(4), np.empty(4), np.ones(4) + 0j),
        }
        for name, some in arguments.items():
            globals()[name] = njit()(globals()[name])
            globals()[name](*some)
        _warm = True


_ENDLESS = 1e12  # of an answer: one that grows is held there


def filtered(nums: Array, den: Array, x: Array) -> Array:
    """Return `x` filtered by each of num/den in δ, from rest, (ways, samples).

    What grows without end is held at ±1e12: it is finite, and nobody reads it.

    Parameters
    ----------
    nums : (ways, order + 1); den : (order + 1,), highest power first

    """
    y = np.empty((nums.shape[0], x.size))
    if _warm:
        _recur(nums, den, x, np.zeros(den.size - 1), y)
    else:  # compiled code does not warn of what grows
        with np.errstate(over="ignore", invalid="ignore"):
            _recur(nums, den, x, np.zeros(den.size - 1), y)
    if y.size and not all(abs(end) < _ENDLESS for end in y[:, -1].tolist()):
        y = np.clip(np.nan_to_num(y, nan=_ENDLESS), -_ENDLESS, _ENDLESS)
    return y


def response(num: Array, den: Array, delta: Complex) -> tuple[Complex, Array]:
    """Return (gain, unwrapped phase in rad) of num/den in δ, highest power first, at each δ."""
    opened, phase = np.empty_like(delta), np.empty(delta.size)
    _respond(num, den, delta, opened, phase)
    return opened, phase


def gain_at(num: Array, den: Array, angle: float) -> complex:
    """Return the gain of num/den in δ at an angle on the unit circle of z, rad."""
    return complex(_gain(num, den, angle))


def first_below(num: Array, den: Array, Ts: float, omega: Array, level: float) -> float:
    """Return where (rad/s) the gain of num/den in δ first falls below a level; as `_below`."""
    return float(_below(num, den, Ts, omega, level))


def inside(row: Array) -> bool:
    """Return whether a polynomial, highest power first, has all its roots in the left half."""
    return bool(_inside(row))


def survey(
    num: Array, den: Array, Ts: float, omega: Array, delta: Complex
) -> tuple[Array, Array, Complex]:
    """Return (kinds, rad/s, gain) of crossings and troughs along a grid; kinds as in `_survey`."""
    kinds, at, gains = np.empty(_MOST), np.empty(_MOST), np.empty(_MOST, dtype=np.complex128)
    n = _survey(num, den, Ts, omega, delta, kinds, at, gains)
    return kinds[:n], at[:n], gains[:n]


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
