"""What is read off a loop's frequency response: every crossing, every peak, margins both ways.

A grid alone steps over the narrow peak of a lightly damped pole. Here it is made dense round
each such pole and zero of the open loop, to within a fraction of its own width: between two
points the loop is smooth, and what lies there is refined on the exact loop.
"""

import math
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from oarlock.control._kernels import survey
from oarlock.control.discrete import (
    FEW,
    Coefficients,
    Discrete,
    grid,
    into_left,
    on_circle,
    roots,
)

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_GRID = 140
_LOWEST = 1e-5  # of Nyquist, where the grid begins
_REAL = 2  # coefficients of a polynomial whose root is real
_LIGHT = 0.35  # damping ratio below which a root bends the response within the grid's spacing
# Where a light root wants points: in widths of its peak to each side.
_WIDTHS = np.array([0.0, 0.12, 0.3, 0.6, 1.0, 1.6, 2.5, 4.0, 7.0, 12.0, 20.0, 35.0])
_AROUND = np.concatenate([-_WIDTHS[:0:-1], _WIDTHS])


@dataclass(frozen=True, slots=True)
class Crossing:
    """Where the open loop's gain passes 1."""

    omega: float  # rad/s
    phase_margin: float  # rad, 180° + phase, between ±180°


@dataclass(frozen=True, slots=True)
class Turn:
    """Where the open loop's phase passes ±180°."""

    omega: float  # rad/s
    gain: float  # ratio


@dataclass(frozen=True, slots=True, kw_only=True)
class Margins:
    """Frequencies in rad/s, angles in rad, gains as ratios."""

    crossings: tuple[Crossing, ...]  # rising in frequency
    turns: tuple[Turn, ...]
    crossover: float  # the crossing nearest to -180°
    phase_margin: float
    phase_crossover: float  # the turn that limits the gain upward; Nyquist where none does
    gain_margin: float  # by which the gain may rise; infinite where nothing limits it
    gain_reduction: float  # by which it may fall, below 1; zero where nothing limits it
    bandwidth: float  # closed loop at -3 dB the first time; Nyquist where it never falls so far
    Ms: float  # largest sensitivity
    Ms_at: float
    stable: bool


@lru_cache(maxsize=128)
def margins(loop: Discrete) -> Margins:
    """Return the margins of an open loop, each found on the exact loop.

    With several crossings, `crossover` is the one whose phase is nearest to -180°.
    """
    (num, den), into = loop.arrays, into_left(loop.order)
    stable, kinds, at, gains = survey(num, den, into, loop.Ts, *dense(loop))
    if loop.order > FEW:
        stable = loop.feedback().is_stable
    return margins_of(kinds, at, gains, loop.Ts, stable=stable)


def margins_of(kinds: Array, at: Array, gains: Complex, Ts: float, *, stable: bool) -> Margins:
    """Return the margins that lie in what `_kernels.survey` finds of an open loop."""
    nyquist = math.pi / Ts
    found: list[list[tuple[float, complex]]] = [[], [], [], []]
    for kind, w, gain in zip(kinds.tolist(), at.tolist(), gains.tolist(), strict=True):
        found[int(kind)].append((w, gain))
    crossings = tuple(Crossing(w, _margin(gain)) for w, gain in found[0])
    turns = tuple(Turn(w, abs(gain)) for w, gain in found[1] if gain.real < 0.0)
    worst = _worst(crossings, stable=stable)
    up = min((t for t in turns if t.gain < 1.0), key=lambda t: 1.0 / t.gain, default=None)
    Ms, Ms_at = max((1.0 / abs(1.0 + gain), w) for w, gain in found[3])
    return Margins(
        crossings=crossings,
        turns=turns,
        crossover=worst.omega,
        phase_margin=worst.phase_margin,
        phase_crossover=up.omega if up else nyquist,
        gain_margin=1.0 / up.gain if up else math.inf,
        gain_reduction=max((1.0 / t.gain for t in turns if t.gain > 1.0), default=0.0),
        bandwidth=found[2][0][0] if found[2] else nyquist,
        Ms=Ms,
        Ms_at=Ms_at,
        stable=stable,
    )


def _margin(gain: complex) -> float:
    """Return 180° + phase, between ±180° (rad): how far the phase is from -180°."""
    return math.atan2(-gain.imag, -gain.real)


def _worst(crossings: tuple[Crossing, ...], *, stable: bool) -> Crossing:
    """Return the crossing nearest to -1; on a stable loop its margin counts either way round."""
    none = Crossing(math.nan, math.inf)
    if not stable:
        return min(crossings, key=lambda c: c.phase_margin, default=none)
    near = min(crossings, key=lambda c: abs(c.phase_margin), default=none)
    return Crossing(near.omega, abs(near.phase_margin))


def dense(loop: Discrete) -> tuple[Array, Complex]:
    """Return a grid that resolves the loop: (rad/s, δ); kept while no light root moves."""
    near = [_near(one, loop.Ts) for piece in loop.pieces for one in piece if len(one) > _REAL]
    return _grid(loop.Ts, tuple(chain.from_iterable(near)))


@lru_cache(maxsize=64)
def _grid(Ts: float, wanted: tuple[float, ...]) -> tuple[Array, Complex]:
    """Return the usual grid with what is wanted beside it, rad/s and δ."""
    low = math.pi / Ts * _LOWEST
    omega, delta = grid(Ts, low, _GRID)
    inside = [w for w in wanted if low < w < omega[-1]]
    if inside:
        omega = np.unique(np.concatenate([omega, inside]))
        delta = on_circle(omega * Ts)
    return omega, delta


@lru_cache(maxsize=256)
def _near(coefficients: Coefficients, Ts: float) -> tuple[float, ...]:
    """Return frequencies round a polynomial's light roots, spaced by the width of their peaks."""
    found = np.array(roots(coefficients), dtype=complex)
    upper = found[found.imag > 0.0]
    if not upper.size:
        return ()
    s = np.log1p(upper) / Ts
    light = s[np.abs(s.real) < _LIGHT * np.abs(s)]
    width = np.maximum(np.abs(light.real), 1e-9 * np.abs(light))
    around: list[float] = (light.imag[:, None] + width[:, None] * _AROUND).ravel().tolist()
    return tuple(around)
