"""Filters of the torque and of the measured speed, as the drive runs them.

Each is one section by Tustin's rule, bent so that it is exact at the filter's own frequency
(Franklin, Powell and Workman, Digital Control of Dynamic Systems, 3rd ed., section 6.1).
"""

import math

from oarlock.control.discrete import Coefficients, Discrete
from oarlock.errors import InputError
from oarlock.machine.filters import Filter, FilterKind

Section = tuple[float, float, float, float, float]  # b0 b1 b2 a1 a2, of z⁻¹
_HIGHEST = 0.9  # of Nyquist: beyond, the bent scale has no room left


def section(one: Filter, Ts: float) -> Discrete:
    """Return a filter sampled each `Ts` seconds.

    Raises
    ------
    InputError : it lies too near to half the sampling, or above

    """
    most = _HIGHEST * math.pi / Ts
    if not 0.0 < one.frequency <= most:
        cause, limit = f"a filter at {one.frequency / math.tau:.0f} Hz", most / math.tau
        raise InputError(cause, place=f"{one.path} filter",
                         remedy=f"At this rate it may lie up to {limit:.0f} Hz")  # fmt: skip
    top, bottom = _analog(one)
    scale = 1.0 / math.tan(0.5 * one.frequency * Ts)  # ω over its own frequency
    return Discrete(_bent(top, scale), _bent(bottom, scale), Ts)


def _analog(one: Filter) -> tuple[Coefficients, Coefficients]:
    """Return numerator and denominator in s over the filter's frequency, highest power first."""
    if one.kind is FilterKind.NOTCH:
        return (1.0, one.depth * one.width, 1.0), (1.0, one.width, 1.0)
    if one.kind is FilterKind.LEAD_LAG:
        root = math.sqrt(one.ratio)
        return (root, 1.0), (1.0 / root, 1.0)
    if one.poles == 1:
        return (0.0, 1.0), (1.0, 1.0)
    return (0.0, 0.0, 1.0), (1.0, 2.0 * one.damping, 1.0)


def _bent(coefficients: Coefficients, scale: float) -> Coefficients:
    """Return a polynomial in s as one in δ: s is scale·δ/(δ + 2), all times (δ + 2)^n."""
    n = len(coefficients) - 1
    total = [0.0] * (n + 1)
    for power, c in zip(range(n, -1, -1), coefficients, strict=True):
        # c·scale^power · δ^power · (δ + 2)^(n − power)
        for k in range(n - power + 1):
            at = n - (power + k)  # index of δ^(power + k), highest first
            total[at] += c * scale**power * math.comb(n - power, k) * 2.0 ** (n - power - k)
    return tuple(total)


def coefficients(one: Filter, Ts: float) -> Section:
    """Return a filter's numbers as a drive holds them, b0 b1 b2 a1 a2 of z⁻¹.

    Raises
    ------
    InputError : as `section`

    """
    b0, b1, b2, _, a1, a2 = section(one, Ts).sections()[0].tolist()
    return b0, b1, b2, a1, a2


def phase_cost(one: Filter, Ts: float, omega: float) -> float:
    """Return by how much (rad) a filter lowers the phase at `omega`, rad/s."""
    gain = section(one, Ts).at(omega)
    return -math.atan2(gain.imag, gain.real)
