"""What gains and filters of the speed loop come to, in bulk: the loop on a grid, without poles.

Gains are held against all limits many at a time; stability is told by the turns of 1 + L. What is
found here is only where to look: it is tried exactly after.

A filter runs at the current's rate, the loop N times slower. What the slower loop sees of it is a
sum over N aliases of the fine frequency (Franklin, Powell and Workman, Digital Control of Dynamic
Systems, 3rd ed., section 11.4), and all but the filter in each term is known beforehand: a set of
filters costs one small sum.
"""

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control._sought import Kept, Seen, Swings, aliased, first_kept
from oarlock.control._sought import least_area as in_bulk
from oarlock.control.filters import coefficients
from oarlock.control.speed_plant import SpeedPlant
from oarlock.errors import InputError
from oarlock.machine.filters import Filter

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_GRID, _CLOSE = 110, 0.006  # frequencies; share from one to the next round the resonance
_AROUND = (0.82, 1.22)  # of the resonance
MORE = (0.0, 0.15, 0.35, 0.6)  # rad beyond the margin: where another limit holds first
_ALIASES = (0, -1, 1)  # the others are far behind the shaft
_CROSSOVERS = 48  # that are tried
_SHARES = np.linspace(0.0, 1.0, 7)  # of the way round the best, where it is looked at closer
_ROUNDS = 2  # in which filters are looked at closer
_FALLS = 0.85  # Ki from one set of gains that are looked at to the next
_SAMPLES = 1024  # of the speed loop, over which the dip's area is told
_NONE = 1e9  # rad: of filters that no gains go with


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What a loop has to keep."""

    margin: float  # rad
    gain_margin: float = 2.0  # ratio
    Ms: float = 2.0
    most_Kp: float = math.inf  # A s/rad: beyond, the sensor's steps shake the torque

    def limits(self, fine: int = 1) -> Array:
        """As the kernel takes them: what lies between two points of a grid is known that well."""
        slack = 3e-3 / fine**2
        return np.array([(1.0 - 1e-6) / self.Ms, self.margin - slack,
                         self.gain_margin * (1.0 - slack)])  # fmt: skip


def frequencies(plant: SpeedPlant, fine: int = 1) -> Array:
    """Return the grid (rad/s) on which a loop is looked at: close where its shaft swings.

    Parameters
    ----------
    fine : times as many points as usual

    """
    top, at = 0.98 * math.pi / plant.T, plant.shaft.resonance
    omega = np.geomspace(1e-3 / plant.T, top, fine * _GRID)
    if not at:
        return omega
    many = round(fine * math.log(_AROUND[1] / _AROUND[0]) / _CLOSE)
    close = at * np.geomspace(*_AROUND, many)
    return np.sort(np.concatenate([omega, close[close < top]]))


def summing(omega: Array, T: float) -> Complex:
    """Return the gain of the controller's sum, s."""
    return np.asarray(T / (1.0 - np.exp(-1j * omega * T)), dtype=np.complex128)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Look:
    """What the controller sees of a plant, and of others on which a loop has to be stable too."""

    T: float  # s, of the speed loop
    summed: Complex  # gain of the controller's sum on the grid
    seen: Complex  # on the grid, (frequencies,)
    others: Complex  # likewise, (plants, frequencies)
    crossovers: Array  # rad/s, rising, at which a loop may cross
    crossing: Complex  # what is seen there
    fine: int = 1  # times the usual number of points

    def between(self, low: float, high: float) -> "Look":
        """Return it with crossovers from `low` to `high` alone, close together."""
        at = low * (high / low) ** _SHARES
        right = np.clip(np.searchsorted(self.crossovers, at), 1, self.crossovers.size - 1)
        first, last = self.crossovers[right - 1], self.crossovers[right]
        share = np.log(at / first) / np.log(last / first)
        before = self.crossing[right - 1]
        crossing = before * (self.crossing[right] / before) ** share
        return replace(self, crossovers=at, crossing=crossing)

    def candidates(
        self, margin: float, wanted: Wanted, least: float
    ) -> Iterator[tuple[float, float, float]]:
        """Go through (Kp, Ki, crossover) of PIs that keep what is wanted, Ki falling in steps.

        Parameters
        ----------
        margin : rad, that a loop has where it is meant to cross
        least : A/rad, an integral gain below which none is wanted

        """
        ideal = np.exp(1j * (margin - math.pi)) / self.crossing
        each = -2.0 * ideal.imag * np.tan(0.5 * self.crossovers * self.T)  # Ki·T
        Kp = ideal.real - 0.5 * each
        fits = np.flatnonzero((each > least * self.T) & (Kp > 0.0) & (Kp <= wanted.most_Kp))
        order = fits[np.argsort(-each[fits])]
        Kp, Ki, crossovers = Kp[order], each[order] / self.T, self.crossovers[order]
        at = 0
        while at < Ki.size:
            gains = Kp[at:], Ki[at:]
            found = first_kept(self.seen, self.others, self.summed, gains, wanted.limits(self.fine))
            if found < 0:
                return
            at += found
            yield float(Kp[at]), float(Ki[at]), float(crossovers[at])
            at = int(np.searchsorted(-Ki, -_FALLS * Ki[at], side="left"))


def least_area(
    look: Look,
    wanted: Wanted,
    area: Callable[[float, float], float],
    *,
    most: float = math.inf,
    rounds: int = 2,
) -> tuple[float, float, float] | None:
    """Return (area, Kp, Ki) of the gains whose dip has the least area, below `most`; None: none.

    The integral of the error is 1/Ki, and no area lies below it: what cannot be better is left
    out. First all crossovers, then closer round the best.

    Parameters
    ----------
    area : of a dip with Kp and Ki, rad for 1 A; infinite: these gains are none
    rounds : how many times it is looked closer

    """
    best: tuple[float, float, float] | None = None
    margin, crossover = 0.0, 0.0

    def try_all(view: Look, margins: Sequence[float]) -> None:
        nonlocal best, most, margin, crossover
        for one in margins:
            for Kp, Ki, at in view.candidates(one, wanted, 1.0 / most):
                if Ki * most <= 1.0:
                    break
                told = area(Kp, Ki)
                if told < most:
                    best, most, margin, crossover = (told, Kp, Ki), told, one, at

    try_all(look, [wanted.margin + more for more in MORE])
    step = float(look.crossovers[1] / look.crossovers[0])
    for _ in range(rounds):
        if best is None:
            return None
        try_all(look.between(crossover / step, crossover * step), [margin])
        step **= 0.3
    return best


@dataclass(frozen=True, slots=True, eq=False)
class _Table:
    """One plant's aliases on a grid: the fine 1/z, and all but the filters in each term."""

    back: Complex  # (frequencies, N)
    part: Complex

    def response(self, sections: Array) -> Complex:
        """Return what the controller sees, with filters (n, 5) of the torque."""
        return aliased(self.back, self.part, sections)


def _table(plant: SpeedPlant, omega: Array) -> _Table:
    N, Ts = plant.measuring.divider, plant.current.plant.Ts
    aliases = np.array(sorted({m % N for m in _ALIASES}))
    back = np.exp(-1j * (omega[:, None] * plant.T + math.tau * aliases) / N)
    step, given, turned, turned_given = plant.fine
    n, flat = step.shape[0], 1.0 / back.ravel()
    b = np.broadcast_to(given[:, 1][:, None], (flat.size, n, 1))
    states = np.linalg.solve(flat[:, None, None] * np.eye(n) - step, b)[:, :, 0]
    increments = (states @ turned + turned_given[1]).reshape(back.shape)
    speed = np.zeros_like(back)
    for weight in plant.measuring.weights(Ts)[::-1]:
        speed = weight + back * speed
    held = (1.0 - back**N) / (1.0 - back)
    following = plant.following.response(omega)[0]
    part = held * back**2 * increments * speed / N * following[:, None]
    return _Table(np.ascontiguousarray(back), np.ascontiguousarray(part))


class Survey:
    """Judges filters on one bare plant, and on others on which a loop has to be stable too."""

    def __init__(self, bare: SpeedPlant, others: Sequence[SpeedPlant], wanted: Wanted) -> None:
        self._Ts = bare.current.plant.Ts
        self._omega = frequencies(bare)
        crossovers = np.geomspace(2e-3 / bare.T, 0.6 * math.pi / bare.T, _CROSSOVERS)
        self._nominal = _table(bare, np.concatenate([self._omega, crossovers]))
        self._others = [_table(one, self._omega) for one in others]
        nothing = np.zeros(0, dtype=np.complex128)
        self._seen = Seen(seen=nothing, others=nothing, summing=summing(self._omega, bare.T),
                          crossovers=crossovers, crossing=nothing)  # fmt: skip
        even = math.tau / (_SAMPLES * bare.T) * np.arange(1.0, _SAMPLES // 2)
        self._even = _table(bare, even)
        self._swings = Swings(
            seen=nothing, summing=summing(even, bare.T), load=bare.load.response(even)[0],
            turns=np.exp(2j * math.pi / _SAMPLES * np.arange(_SAMPLES // 2)), T=bare.T,
        )  # fmt: skip
        self._kept = Kept(wanted.limits(), wanted.most_Kp, _FALLS)
        self._margins = wanted.margin + np.array(MORE)

    def area(self, filters: Sequence[Filter], most: float = _NONE) -> float:
        """Return the least area (rad for 1 A) of the dip that these filters allow, below `most`.

        Where no gains keep what is wanted, or none below `most`, it is 1e9.
        """
        try:
            sections = np.array([coefficients(one, self._Ts) for one in filters]).reshape(-1, 5)
        except InputError:
            return _NONE
        whole, n = self._nominal.response(sections), self._omega.size
        rows = [table.response(sections) for table in self._others]
        others = np.array(rows, dtype=np.complex128).reshape(-1, n)
        seen = self._seen._replace(seen=whole[:n], others=others, crossing=whole[n:])
        swings = self._swings._replace(seen=self._even.response(sections))
        found = in_bulk(seen, swings, self._kept, self._margins, _SHARES, _ROUNDS, most)
        return min(found, _NONE)
