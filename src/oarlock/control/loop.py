"""The exact discrete current loop: plant held over a sample, one sample of delay, PI.

All loops are ratios of polynomials in z. Margins, bandwidth and step responses come from
these, never from the continuous approximation (Franklin, Powell & Workman, Digital Control of
Dynamic Systems, 3rd ed., ch. 6 and 7).
"""

import cmath
import math
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._kernels import filtered

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
        total = np.polyadd(self.denominator, self.numerator)
        return total.astype(np.float64)

    @cached_property
    def is_stable(self) -> bool:
        """Whether all closed-loop poles lie inside the unit circle."""
        return bool(np.all(np.abs(np.roots(self.characteristic)) < 1.0))

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
        opened: Complex = np.polyval(self.numerator, z) / np.polyval(self.denominator, z)
        return opened, opened / (1.0 + opened)

    def on_grid(self, low: float, points: int) -> tuple[Array, Complex, Complex]:
        """Return (rad/s, open loop, closed loop) from `low` to just below Nyquist.

        The grid is kept between calls: a drag asks for the same one again and again.
        """
        omega, z = _grid(self.plant.Ts, low, points)
        return omega, *self._at(z)

    def step(self, samples: int) -> tuple[Array, Array]:
        """Return (current, voltage) for a reference step of 1 A at sample 0."""
        num_c, _, _, den_g = self._parts
        one = np.ones(samples)
        current = _padded(self.numerator, self.characteristic, one)
        voltage = _padded(np.convolve(num_c, den_g), self.characteristic, one)
        return current, voltage

    def noise_gain(self, samples: int = 2000) -> tuple[float, float]:
        """Return (A, V) rms of current and voltage for 1 A rms of white sense noise."""
        num_c, _, _, den_g = self._parts
        pulse = np.zeros(samples)
        pulse[0] = 1.0
        current = _padded(self.numerator, self.characteristic, pulse)
        voltage = _padded(np.convolve(num_c, den_g), self.characteristic, pulse)
        return float(np.sqrt(np.sum(current**2))), float(np.sqrt(np.sum(voltage**2)))


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
    omega, opened, closed = loop.on_grid(nyquist * 1e-5, _GRID)
    gain, phase = np.abs(opened), np.unwrap(np.angle(opened))
    phase -= math.tau * round((phase[0] + 0.5 * math.pi) / math.tau)

    def log_gain(w: float) -> float:
        return math.log(abs(loop.open(w)))

    def beyond_minus_one(w: float) -> float:
        # The imaginary part of -L: through zero where the phase is -180°.
        value = loop.open(w)
        return -value.imag / abs(value)

    def below_bandwidth(w: float) -> float:
        value = loop.open(w)
        return abs(value / (1.0 + value)) - math.sqrt(0.5)

    crossings = [_root(log_gain, omega, i) for i in _changes(np.log(gain))]
    left = [(math.pi + _wrapped(cmath.phase(loop.open(w))), w) for w in crossings]
    margin, crossover = min(left) if left else (math.inf, math.nan)
    turns = _changes(phase + math.pi)
    phase_crossover = _root(beyond_minus_one, omega, turns[0]) if turns else nyquist
    falls = _changes(np.abs(closed) - math.sqrt(0.5))
    return Margins(
        crossover=crossover,
        phase_margin=margin,
        phase_crossover=phase_crossover,
        gain_margin=1.0 / abs(loop.open(phase_crossover)) if turns else math.inf,
        bandwidth=_root(below_bandwidth, omega, falls[0]) if falls else nyquist,
        Ms=float(np.max(1.0 / np.abs(1.0 + opened))),
        stable=loop.is_stable,
    )


def _wrapped(phase: float) -> float:
    return phase - math.tau if phase > 0.0 else phase


def _changes(values: Array) -> list[int]:
    """Return the indices after which `values` changes its sign."""
    return [int(i) for i in np.flatnonzero(np.diff(np.signbit(values)))]


def _root(function: Callable[[float], float], omega: Array, index: int) -> float:
    """Return the root of `function` between two grid points, by the Illinois rule."""
    a, b = float(omega[index]), float(omega[index + 1])
    fa, fb = function(a), function(b)
    for _ in range(60):
        if fa == fb:
            break
        c = b - fb * (b - a) / (fb - fa)
        fc = function(c)
        if abs(c - b) < 1e-11 * b or fc == 0.0:
            return float(c)
        if (fc > 0.0) != (fb > 0.0):
            a, fa = b, fb
        else:
            fa *= 0.5
        b, fb = c, fc
    return float(b)
