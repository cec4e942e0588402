"""Compiled: what a drag reads off a loop at every move of the mouse.

`compiled.warm` compiles it; until it has run it is plain Python, with the same numbers.
"""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


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


def _spread(
    controller: Array, delta: Complex, plant: Complex, turned: Array, gains: Array, phase: Array
) -> None:
    """Fill in what is drawn of a loop over frequency.

    controller : (3 or more, order + 1), its denominator, and its numerators of the error and of
        what is asked for;
    plant : (3, frequencies), what the controller sees, what is controlled, and what would be seen
        without filters;
    turned : rad, unwrapped phase of the first;
    gains : (3, frequencies), dB, of the open and the closed loop, and of the open one unfiltered;
    phase : degrees, of the open loop, unwrapped
    """
    turns, before = 0.0, 0.0
    for k in range(delta.size):
        den, error, asked = 0j, 0j, 0j
        for i in range(controller.shape[1]):
            den = den * delta[k] + controller[0, i]
            error = error * delta[k] + controller[1, i]
            asked = asked * delta[k] + controller[2, i]
        passed = error / den
        opened = passed * plant[0, k]
        gains[0, k] = _decibels(opened)
        gains[1, k] = _decibels(asked / den * plant[1, k] / (1.0 + opened))
        gains[2, k] = _decibels(passed * plant[2, k])
        angle = math.atan2(passed.imag, passed.real)
        if k > 0 and abs(angle - before) > math.pi:
            turns += math.copysign(2.0 * math.pi, before - angle)
        before = angle
        phase[k] = angle + turns + turned[k]
        if k == 0:
            turns = math.atan2(opened.imag, opened.real) - phase[0]
            phase[0] += turns
    for k in range(delta.size):
        phase[k] *= 180.0 / math.pi


def _decibels(gain: complex) -> float:
    return 10.0 * math.log10(max(gain.real * gain.real + gain.imag * gain.imag, 1e-18))


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


def falls_below(num: Array, den: Array, Ts: float, omega: Array, level: float) -> float:
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


def look(
    num: Array, den: Array, into: Array, Ts: float, omega: Array, delta: Complex,
    kinds: Array, at: Array, gains: Complex,
) -> tuple[bool, int]:  # fmt: skip
    """Return whether a loop is stable once it is closed, and what `_survey` returns of it.

    into : as of `_inside`
    """
    closed, late = den.copy(), den.size - num.size
    for k in range(num.size):
        closed[late + k] += num[k]
    stable = _inside(into, closed)
    return stable, _survey(num, den, Ts, omega, delta, kinds, at, gains)


def _survey(
    num: Array, den: Array, Ts: float, omega: Array, delta: Complex,
    kinds: Array, at: Array, gains: Complex,
) -> int:  # fmt: skip
    """Find every crossing and every trough of |1 + L| along a grid; return how many.

    kinds, at, gains : filled in with kinds as in `_refine`, 3 for a trough, as which both ends
        count; where, rad/s; the open loop's gain there
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
        size = gain.real * gain.real + gain.imag * gain.imag  # squares pass zero where these do
        near = size + 2.0 * gain.real + 1.0
        values[0], values[1], values[2] = size - 1.0, -gain.imag, size - 0.5 * near
        if n + 5 > kinds.size:
            return n
        if k == 0 or k == omega.size - 1:
            kinds[n], at[n], gains[n] = 3, omega[k], gain
            n += 1
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


def _inside(into: Array, coefficients: Array) -> bool:
    """Return whether a polynomial has all its roots in the left half plane (scheme of Routh).

    into : what each coefficient adds to those of that polynomial, highest power first
    """
    n = coefficients.size
    row = np.zeros(n)
    for i in range(n):
        for j in range(n):
            row[i] += into[i, j] * coefficients[j]
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


def arguments() -> dict[str, tuple[object, ...]]:
    """Return what each is compiled for, callees first."""
    one, z = np.ones(1), np.ones(1, dtype=np.complex128)
    return {
        "_respond": (one, one, z, np.empty(1, dtype=np.complex128), np.empty(1)),
        "_decibels": (1j,),
        "_spread": (
            np.ones((3, 1)),
            z,
            z.repeat(3).reshape(3, 1),
            one,
            np.empty((3, 1)),
            np.empty(1),
        ),
        "_gain": (one, one, 0.5),
        "falls_below": (one, one, 1e-4, one, 0.5),
        "_figure": (1j, 0),
        "_refine": (one, one, 1e-4, 0, 1.0, 2.0),
        "_inside": (one.reshape(1, 1), one),
        "_climb": (one, one, 1e-4, 1.0, 2.0),
        "_survey": (one, one, 1e-4, one, z, np.empty(4), np.empty(4), np.ones(4) + 0j),
        "look": (
            one,
            one,
            one.reshape(1, 1),
            1e-4,
            one,
            z,
            np.empty(4),
            np.empty(4),
            np.ones(4) + 0j,
        ),
    }


def response(num: Array, den: Array, delta: Complex) -> tuple[Complex, Array]:
    """Return (gain, unwrapped phase in rad) of num/den in δ, highest power first, at each δ."""
    opened, phase = np.empty_like(delta), np.empty(delta.size)
    _respond(num, den, delta, opened, phase)
    return opened, phase


def spread(controller: Array, delta: Complex, plant: Complex, turned: Array) -> tuple[Array, Array]:
    """Return gains (dB, three rows) and unwrapped phase (degrees) of a loop, as `_spread` does."""
    gains, phase = np.empty(plant.shape), np.empty(delta.size)
    _spread(controller, delta, plant, turned, gains, phase)
    return gains, phase


def gain_at(num: Array, den: Array, angle: float) -> complex:
    """Return the gain of num/den in δ at an angle on the unit circle of z, rad."""
    return complex(_gain(num, den, angle))


def inside(into: Array, coefficients: Array) -> bool:
    """Return whether `into` @ coefficients, highest power first, has all its roots on the left."""
    return bool(_inside(into, coefficients))


def room() -> tuple[Array, Array, Complex]:
    """Return where `look` fills in what it finds."""
    return np.empty(_MOST), np.empty(_MOST), np.empty(_MOST, dtype=np.complex128)


def survey(
    num: Array, den: Array, into: Array, Ts: float, omega: Array, delta: Complex
) -> tuple[bool, Array, Array, Complex]:
    """Return whether an open loop is stable closed, and (kinds, rad/s, gain) of what is on a grid.

    Those are crossings and troughs, kinds as in `_survey`.

    Parameters
    ----------
    into : as in `inside`, of the closed loop's coefficients

    """
    kinds, at, gains = room()
    stable, n = look(num, den, into, Ts, omega, delta, kinds, at, gains)
    return stable, kinds[:n], at[:n], gains[:n]
