"""A linear loop of any order in discrete time, as a ratio of polynomials.

The polynomials are in δ = z − 1, highest power first. Poles and zeros of sampled plants crowd
round z = 1, where coefficients in z lose all digits of what tells them apart; in δ they keep
them (Middleton and Goodwin, Digital Control and Estimation, 1990, ch. 5). Builders such as
`control.current` give the ratio; margins, figures and plots know nothing of which loop it is.
"""

import math
from dataclasses import dataclass, field
from functools import cached_property, lru_cache, reduce

import numpy as np
from numpy.typing import NDArray

from oarlock.control._kernels import gain_at, inside, response
from oarlock.control._steps import filtered, rows

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
Coefficients = tuple[float, ...]
FEW = 14  # poles up to which the scheme of Routh is as good as finding them


@dataclass(frozen=True)
class Discrete:
    """A ratio of two polynomials in δ = z − 1, sampled each `Ts` seconds."""

    num: Coefficients  # highest power first
    den: Coefficients
    Ts: float  # s
    # What it was put together of, (numerator, denominator) each: their roots are known better.
    parts: tuple[tuple[Coefficients, Coefficients], ...] = field(
        default=(), compare=False, repr=False
    )

    def __post_init__(self) -> None:
        if not self.den or self.den[0] == 0.0 or len(self.num) > len(self.den):
            raise ValueError("a loop needs a denominator, and no more zeros than poles")

    # Making one of others

    def series(self, other: "Discrete") -> "Discrete":
        """Return this followed by `other`, of the same sample time."""
        self._same_time(other)
        num, den = times(self.num, other.num), product(self.den, other.den)
        return Discrete(num, den, self.Ts, self.pieces + other.pieces)

    @property
    def pieces(self) -> tuple[tuple[Coefficients, Coefficients], ...]:
        """What it was put together of, or itself."""
        return self.parts or ((self.num, self.den),)

    def feedback(self, back: "Discrete | None" = None) -> "Discrete":
        """Return the loop closed over this, with `back` (default 1) in the way back, negative."""
        if back is None:
            return self._fed_back
        self._same_time(back)
        return Discrete(
            times(self.num, back.den),
            add(times(self.den, back.den), times(self.num, back.num)),
            self.Ts,
        )

    @cached_property
    def _fed_back(self) -> "Discrete":
        return Discrete(self.num, add(self.den, self.num), self.Ts)

    def parallel(self, other: "Discrete") -> "Discrete":
        """Return the sum of this and `other`."""
        self._same_time(other)
        top = add(times(self.num, other.den), times(other.num, self.den))
        return Discrete(top, times(self.den, other.den), self.Ts)

    def scaled(self, gain: float) -> "Discrete":
        """Return this times a number."""
        return self.series(Discrete((gain,), (1.0,), self.Ts))

    def resampled(self, n: int) -> "Discrete":
        """Return what a loop sampled `n` times slower sees: its output held over n samples.

        Exact, by the state matrices taken n steps on with the input held (Franklin, Powell and
        Workman, Digital Control of Dynamic Systems, 3rd ed., section 11.4).
        """
        if n < 1:
            raise ValueError(f"resampled by {n}")
        if n == 1:
            return self
        a, b, c, d = self.matrices
        step, push = _steps_on(a, b, n)
        return from_matrices(step, push, c, d, n * self.Ts)

    def _same_time(self, other: "Discrete") -> None:
        if abs(other.Ts - self.Ts) > 1e-9 * self.Ts:
            raise ValueError(f"sampled each {self.Ts:g} s and each {other.Ts:g} s")

    # What it is

    @property
    def order(self) -> int:
        """How many poles it has."""
        return len(self.den) - 1

    @cached_property
    def poles(self) -> Complex:
        """Poles in δ; those in z are one more."""
        return np.array([root for _, den in self.pieces for root in roots(den)], dtype=complex)

    @cached_property
    def zeros(self) -> Complex:
        """Zeros in δ."""
        return np.array([root for num, _ in self.pieces for root in roots(num)], dtype=complex)

    @cached_property
    def is_stable(self) -> bool:
        """Whether all its poles lie inside the unit circle of z."""
        if self.order <= FEW:
            return all_inside(self.den)
        # |z| < 1 is 2 Re δ + |δ|² < 0, which keeps its digits near z = 1.
        return bool(np.all(2.0 * self.poles.real + np.abs(self.poles) ** 2 < 0.0))

    @cached_property
    def arrays(self) -> tuple[Array, Array]:
        """Numerator and denominator in δ, as arrays."""
        return np.array(self.num), np.array(self.den)

    @cached_property
    def matrices(self) -> tuple[Array, Array, Array, float]:
        """State matrices (A − 1, b, c, d) in δ, scaled so that no state is far from the others."""
        from scipy.linalg import matrix_balance

        n, lead = self.order, self.den[0]
        den = np.array(self.den) / lead
        num = np.zeros(n + 1)
        num[n + 1 - len(self.num) :] = np.array(self.num) / lead
        d = float(num[0])
        a = np.zeros((n, n))
        a[0] = -den[1:]
        a[np.arange(1, n), np.arange(n - 1)] = 1.0
        b, c = np.zeros(n), num[1:] - d * den[1:]
        b[0] = 1.0
        a, (scale, _) = matrix_balance(a, permute=False, separate=True)
        return a, b / scale, c * scale, d

    def sections(self) -> Array:
        """Return its pieces as second-order sections, (pieces, 6): b0 b1 b2 1 a1 a2 of z⁻¹.

        Raises
        ------
        ValueError : a piece of more than two poles; build it of smaller ones

        """
        rows = np.zeros((len(self.pieces), 6))
        for row, (num, den) in zip(rows, self.pieces, strict=True):
            if len(den) > 3:
                raise ValueError(f"a section of {len(den) - 1} poles")
            a, b = in_z(den), in_z((*(0.0,) * (len(den) - len(num)), *num))
            row[: len(b)] = np.array(b) / a[0]
            row[3 : 3 + len(a)] = np.array(a) / a[0]
        return rows

    # What it does

    def at(self, omega: float) -> complex:
        """Return its gain at `omega` (rad/s, up to Nyquist)."""
        num, den = self.arrays
        return gain_at(num, den, omega * self.Ts)

    def response(self, omega: Array) -> tuple[Complex, Array]:
        """Return (gain, unwrapped phase in rad) at each `omega`, rad/s."""
        num, den = self.arrays
        return response(num, den, on_circle(omega * self.Ts))

    def on_grid(self, low: float, points: int) -> tuple[Array, Complex, Array]:
        """Return (rad/s, gain, unwrapped phase in rad) from `low` up to Nyquist.

        The grid is kept between calls, and on it what each piece of the loop makes of it: a drag
        asks for the same ones again and again, and changes one piece.
        """
        omega, delta = grid(self.Ts, low, points)
        if not self.parts:
            return omega, *response(*self.arrays, delta)
        gain, phase = np.ones(points, dtype=np.complex128), np.zeros(points)
        for num, den in self.parts:
            passed, turned = _on_grid(num, den, self.Ts, low, points)
            gain, phase = gain * passed, phase + turned
        first = math.atan2(gain[0].imag, gain[0].real)
        return omega, gain, phase + (first - phase[0])

    def output(self, given: Array) -> Array:
        """Return the output for a sequence of inputs, from rest, (samples,)."""
        only: Array = filtered(rows(self.den, self.num)[1:], np.array(self.den), given)[0]
        return only

    def step(self, samples: int) -> Array:
        """Return the answer to a step of 1 at sample 0, (samples,)."""
        return self.output(np.ones(samples))

    def pulse(self, samples: int) -> Array:
        """Return the answer to a single 1 at sample 0, (samples,)."""
        given = np.zeros(samples)
        given[0] = 1.0
        return self.output(given)


def from_z(num: Coefficients, den: Coefficients, Ts: float) -> Discrete:
    """Return the ratio of two polynomials in z, highest power first."""
    return Discrete(in_delta(num), in_delta(den), Ts)


def from_matrices(a: Array, b: Array, c: Array, d: float, Ts: float) -> Discrete:
    """Return the ratio of x' = x + a x + b u, y = c x + d u.

    The numerator is the denominator times the series of what one pulse leaves behind.

    Parameters
    ----------
    a : (n, n), what one sample adds to the state
    b, c : (n,)

    """
    den = np.real(np.poly(np.linalg.eigvals(a)))
    left, push = [d], b
    for _ in range(a.shape[0]):
        left.append(float(c @ push))
        push = a @ push
    num = np.convolve(den, left)[: a.shape[0] + 1]
    return Discrete(tuple(num.tolist()), tuple(den.tolist()), Ts)


def unity(Ts: float) -> Discrete:
    """Return what passes everything on."""
    return Discrete((1.0,), (1.0,), Ts)


def delay(samples: int, Ts: float) -> Discrete:
    """Return a delay by whole samples."""
    den: Coefficients = (1.0,)
    for _ in range(samples):
        den = times(den, (1.0, 1.0))
    return Discrete((1.0,), den, Ts)


def in_delta(coefficients: Coefficients) -> Coefficients:
    """Return a polynomial in z as one in δ = z − 1 (Horner's shift)."""
    return _shifted(coefficients, 1.0)


def in_z(coefficients: Coefficients) -> Coefficients:
    """Return a polynomial in δ as one in z."""
    return _shifted(coefficients, -1.0)


def _shifted(coefficients: Coefficients, by: float) -> Coefficients:
    """Return p(x + by) of p(x), highest power first."""
    a = list(coefficients)
    for stop in range(len(a), 1, -1):
        for i in range(1, stop):
            a[i] += by * a[i - 1]
    return tuple(a)


def times(a: Coefficients, b: Coefficients) -> Coefficients:
    """Return the product of two polynomials."""
    short, long = (a, b) if len(a) <= len(b) else (b, a)
    if len(short) == 1:
        return tuple([short[0] * y for y in long])
    out = [0.0] * (len(a) + len(b) - 1)
    for i, x in enumerate(short):
        for at, y in enumerate(long, i):
            out[at] += x * y
    return tuple(out)


@lru_cache(maxsize=256)
def product(*some: Coefficients) -> Coefficients:
    """Return the product of polynomials, kept: of a plant it is asked for with every gain."""
    return reduce(times, some, (1.0,))


def add(a: Coefficients, b: Coefficients) -> Coefficients:
    """Return the sum of two polynomials."""
    long, short = (a, b) if len(a) >= len(b) else (b, a)
    head = len(long) - len(short)
    return (*long[:head], *(x + y for x, y in zip(long[head:], short, strict=True)))


@lru_cache(maxsize=256)
def roots(coefficients: Coefficients) -> tuple[complex, ...]:
    """Return the roots of a real polynomial, highest power first; those at 0 exactly.

    Kept between calls: a search asks for the same plant's again and again.
    """
    a = list(coefficients)
    while a and a[0] == 0.0:
        a.pop(0)
    at_zero = 0
    while len(a) > 1 and a[-1] == 0.0:
        a.pop()
        at_zero += 1
    if len(a) < 2:
        found = []
    elif len(a) == 2:
        found = [complex(-a[1] / a[0])]
    elif len(a) == 3:
        found = _of_a_quadratic(*a)
    else:
        found = [complex(root) for root in np.roots(a)]
    return (*found, *(0j,) * at_zero)


def _of_a_quadratic(a: float, b: float, c: float) -> list[complex]:
    """Return both roots, the smaller one by what the larger leaves: no digits are lost."""
    inside = b * b - 4.0 * a * c
    if inside < 0.0:
        root = complex(-b, math.sqrt(-inside)) / (2.0 * a)
        return [root, root.conjugate()]
    large = -0.5 * (b + math.copysign(math.sqrt(inside), b))
    return [complex(large / a), complex(c / large)]


def all_inside(coefficients: Coefficients) -> bool:
    """Return whether 1 + each root of a real polynomial in δ lies inside the unit circle.

    δ = 2w/(1 − w) takes the circle to the left half plane of w and z = 1 to w = 0, where no
    digits are lost; there the scheme of Routh counts (Jury, Theory and Application of the
    z-Transform Method, 1964, ch. 3).
    """
    return inside(into_left(len(coefficients) - 1), np.array(coefficients))


@lru_cache(maxsize=32)
def into_left(n: int) -> Array:
    """Return what each coefficient in δ (column) adds to each power of w (row), for degree `n`.

    δ^(n − k) becomes (2w)^(n − k) (1 − w)^k, all times (1 − w)^n.
    """
    rows: list[Coefficients] = []
    power: Coefficients = (1.0,)  # (1 − w)^k
    for k in range(n + 1):
        rows.append((*(2.0 ** (n - k) * x for x in power), *(0.0,) * (n - k)))
        power = times(power, (-1.0, 1.0))
    return np.array(rows).T.copy()


def on_circle(angle: Array) -> Complex:
    """Return δ = e^(j·angle) − 1 without losing digits at small angles."""
    half = np.sin(0.5 * angle)
    return -2.0 * half * half + 1j * np.sin(angle)


@lru_cache(maxsize=16)
def grid(Ts: float, low: float, points: int) -> tuple[Array, Complex]:
    """Return (rad/s, δ) of points spaced by one ratio, from `low` up to Nyquist."""
    omega = np.geomspace(low, math.pi / Ts * (1.0 - 1e-9), points)
    return omega, on_circle(omega * Ts)


@lru_cache(maxsize=64)
def _on_grid(
    num: Coefficients, den: Coefficients, Ts: float, low: float, points: int
) -> tuple[Complex, Array]:
    """Return (gain, unwrapped phase in rad) of one piece on a grid; not to be changed."""
    return response(np.array(num), np.array(den), grid(Ts, low, points)[1])


def _steps_on(a: Array, b: Array, n: int) -> tuple[Array, Array]:
    """Return ((1 + a)^n − 1, Σ (1 + a)^k b for k < n) by doubling."""
    one = np.eye(a.shape[0])
    step, push = np.zeros_like(a), np.zeros_like(b)  # of no sample
    for bit in bin(n)[2:]:
        push = push + (one + step) @ push
        step = 2.0 * step + step @ step
        if bit == "1":
            push = push + step @ b + b
            step = step + a + step @ a
    return step, push
