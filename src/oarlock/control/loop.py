"""The exact discrete current loop: plant held over a sample, one sample of delay, PI.

All loops are ratios of polynomials in z. Margins, bandwidth and step responses come from
these, never from the continuous approximation (Franklin, Powell & Workman, Digital Control of
Dynamic Systems, 3rd ed., ch. 6 and 7).
"""

import cmath
import math
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._kernels import filtered, refined, response

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


class IntegralRule(StrEnum):
    """How the firmware sums up the error."""

    BACKWARD = "backward"  # the sum includes the newest error
    FORWARD = "forward"  # it does not
    TRAPEZOIDAL = "trapezoidal"


@dataclass(frozen=True, slots=True, kw_only=True)
class Plant:
    """One winding axis behind the inverter."""

    R: float  # ohm
    L: float  # H
    Ts: float  # s

    @property
    def pole(self) -> float:
        """Where the electrical pole lies in z."""
        return math.exp(-self.R * self.Ts / self.L)

    @property
    def gain(self) -> float:
        """A for each V held over one sample: (1 - a)/R."""
        return -math.expm1(-self.R * self.Ts / self.L) / self.R


@dataclass(frozen=True, slots=True, kw_only=True)
class PI:
    """Parallel PI controller."""

    Kp: float  # V/A
    Ki: float  # V/(A s)
    rule: IntegralRule = IntegralRule.BACKWARD

    def polynomials(self, Ts: float) -> tuple[Array, Array]:
        """Return (numerator, denominator) in z, highest power first."""
        k = self.Ki * Ts
        numerator = {
            IntegralRule.BACKWARD: (self.Kp + k, -self.Kp),
            IntegralRule.FORWARD: (self.Kp, k - self.Kp),
            IntegralRule.TRAPEZOIDAL: (self.Kp + 0.5 * k, 0.5 * k - self.Kp),
        }[self.rule]
        return np.array(numerator), np.array([1.0, -1.0])


@dataclass(frozen=True)
class CurrentLoop:
    """Plant and controller, closed over one sample of delay."""

    plant: Plant
    pi: PI

    @cached_property
    def _parts(self) -> tuple[Array, Array, Array, Array]:
        num_c, den_c = self.pi.polynomials(self.plant.Ts)
        num_g = np.array([self.plant.gain])
        den_g = np.array([1.0, -self.plant.pole, 0.0])  # z (z - a)
        return num_c, den_c, num_g, den_g

    @cached_property
    def numerator(self) -> Array:
        """Of the open loop, in z, highest power first."""
        num_c, _, num_g, _ = self._parts
        return np.convolve(num_c, num_g)

    @cached_property
    def denominator(self) -> Array:
        """Of the open loop."""
        _, den_c, _, den_g = self._parts
        return np.convolve(den_c, den_g)

    @cached_property
    def characteristic(self) -> Array:
        """Denominator of the closed loop."""
        total: Array = self.denominator.astype(np.float64)
        total[total.size - self.numerator.size :] += self.numerator
        return total

    @cached_property
    def is_stable(self) -> bool:
        """Whether all closed-loop poles lie inside the unit circle."""
        return inside_unit_circle(self.characteristic.tolist())

    def open(self, omega: float) -> complex:
        """Return the open loop's gain at `omega` (rad/s, below Nyquist)."""
        z = cmath.exp(1j * omega * self.plant.Ts)
        numerator, denominator = self._plain
        return _horner(numerator, z) / _horner(denominator, z)

    @cached_property
    def _plain(self) -> tuple[list[float], list[float]]:
        return self.numerator.tolist(), self.denominator.tolist()

    def frequency_response(self, omega: Array) -> tuple[Complex, Complex]:
        """Return (open loop, closed loop) at each `omega`, rad/s."""
        return self._at(np.exp(1j * omega * self.plant.Ts))

    def _at(self, z: Complex) -> tuple[Complex, Complex]:
        opened, _ = response(self.numerator, self.denominator, z)
        return opened, opened / (1.0 + opened)

    def on_grid(self, low: float, points: int) -> tuple[Array, Complex, Complex, Array]:
        """Return (rad/s, open loop, closed loop, open loop's phase in rad) up to Nyquist.

        The grid is kept between calls: a drag asks for the same one again and again.
        """
        omega, z = _grid(self.plant.Ts, low, points)
        opened, phase = response(self.numerator, self.denominator, z)
        return omega, opened, opened / (1.0 + opened), phase

    def step(self, samples: int) -> tuple[Array, Array]:
        """Return (current, voltage) for a reference step of 1 A at sample 0."""
        one = np.ones(samples)
        current = _padded(self.numerator, self.characteristic, one)
        voltage = _padded(self._voltage, self.characteristic, one)
        return current, voltage

    @cached_property
    def _voltage(self) -> Array:
        """Numerator from the reference to the voltage."""
        num_c, _, _, den_g = self._parts
        return np.convolve(num_c, den_g)

    def noise_gain(self, samples: int = 2000) -> tuple[float, float]:
        """Return (A, V) rms of current and voltage for 1 A rms of white sense noise."""
        num_c, _, _, den_g = self._parts
        pulse = np.zeros(samples)
        pulse[0] = 1.0
        current = _padded(self.numerator, self.characteristic, pulse)
        voltage = _padded(np.convolve(num_c, den_g), self.characteristic, pulse)
        return float(np.sqrt(np.sum(current**2))), float(np.sqrt(np.sum(voltage**2)))


def inside_unit_circle(coefficients: list[float]) -> bool:
    """Return whether all roots of a real polynomial, highest power first, lie inside the circle.

    By the recursion of Schur and Cohn (Jury, Theory and Application of the z-Transform Method,
    1964, chapter 3): each step takes one power away, and its first coefficient must stay larger
    than its last.
    """
    a = list(coefficients)
    while len(a) > 1:
        if not abs(a[-1]) < abs(a[0]):
            return False
        k = a[-1] / a[0]
        a = [x - k * y for x, y in zip(a[:-1], reversed(a[1:]), strict=True)]
    return True


def _horner(coefficients: list[float], z: complex) -> complex:
    total = 0j
    for c in coefficients:
        total = total * z + c
    return total


def _padded(numerator: Array, denominator: Array, x: Array) -> Array:
    """Filter `x` by a ratio in z; the numerator is brought to the denominator's length."""
    b = np.zeros_like(denominator)
    b[denominator.size - numerator.size :] = numerator
    return filtered(b, denominator, x)


@dataclass(frozen=True, slots=True, kw_only=True)
class Margins:
    """What can be read off a loop's frequency response; frequencies in rad/s, angles in rad."""

    crossover: float
    phase_margin: float
    phase_crossover: float  # where the open loop's phase passes -180°
    gain_margin: float  # ratio
    bandwidth: float  # closed loop at -3 dB; Nyquist where it never falls so far
    Ms: float  # largest sensitivity
    stable: bool


_GRID = 140


@lru_cache(maxsize=16)
def _grid(Ts: float, low: float, points: int) -> tuple[Array, Complex]:
    omega = np.geomspace(low, math.pi / Ts * (1.0 - 1e-9), points)
    return omega, np.exp(1j * omega * Ts)


@lru_cache(maxsize=64)
def margins(loop: CurrentLoop) -> Margins:
    """Return the margins of a loop, each found on the exact loop to 1e-10.

    With several crossovers, the one with the least phase margin is reported.
    """
    nyquist = math.pi / loop.plant.Ts
    omega, opened, closed, phase = loop.on_grid(nyquist * 1e-5, _GRID)
    phase = phase - math.tau * round((phase[0] + 0.5 * math.pi) / math.tau)

    def crossing(kind: int, index: int) -> float:
        low, high = float(omega[index]), float(omega[index + 1])
        return refined(loop.numerator, loop.denominator, loop.plant.Ts, kind, low, high)

    crossings = [crossing(0, i) for i in _changes(np.abs(opened) - 1.0)]
    left = [(math.pi + _wrapped(cmath.phase(loop.open(w))), w) for w in crossings]
    margin, crossover = min(left) if left else (math.inf, math.nan)
    turns = _changes(phase + math.pi)
    phase_crossover = crossing(1, turns[0]) if turns else nyquist
    falls = _changes(np.abs(closed) - math.sqrt(0.5))
    return Margins(
        crossover=crossover,
        phase_margin=margin,
        phase_crossover=phase_crossover,
        gain_margin=1.0 / abs(loop.open(phase_crossover)) if turns else math.inf,
        bandwidth=crossing(2, falls[0]) if falls else nyquist,
        Ms=float(np.max(1.0 / np.abs(1.0 + opened))),
        stable=loop.is_stable,
    )


def _wrapped(phase: float) -> float:
    return phase - math.tau if phase > 0.0 else phase


def _changes(values: Array) -> list[int]:
    """Return the indices after which `values` changes its sign."""
    below = values < 0.0
    return [int(i) for i in np.flatnonzero(below[1:] != below[:-1])]
