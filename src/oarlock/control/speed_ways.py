"""Ways round a shaft's resonance: a notch that is sought, a slower loop, a stiffer shaft.

A notch that sits on the resonance alone breaks where the resonance lies a little elsewhere than
believed. So each candidate has to be stable on plants whose resonance is off to either side too,
and what decides between those that are is the area of the speed's dip after a step of load.
"""

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.filters import section
from oarlock.control.speed import LoadFigures, SpeedLoop, load_figures
from oarlock.control.speed_gains import is_stable_on, stiffest
from oarlock.control.speed_plant import SpeedPlant
from oarlock.control.speed_survey import Survey, Wanted
from oarlock.errors import InputError
from oarlock.machine.filters import Filter, FilterKind

Array = NDArray[np.float64]
OFF = 0.10  # share by which a resonance may lie elsewhere
_DEPTHS = (0.05, 0.2, 0.5)
# Of the resonance: notches on it, and wide shallow ones beyond, which lead.
_COARSE = (((0.8, 0.95, 1.1), (0.5, 1.3, 3.5)), ((1.5, 2.0, 2.7), (1.5, 4.0, 9.0)))
_SECOND = ((0.6, 0.95, 1.4, 2.5), (0.6, 2.0))
_STEPS = (0.06, 0.35, 0.5)  # of the simplex, in the logarithms
# Two of them (place, width, depth of each), as the best often are: close round the resonance, or
# beyond it.
_PAIRS = (((0.9, 1.7, 0.03), (1.35, 2.2, 0.3)), ((1.4, 1.9, 0.3), (3.0, 5.0, 0.23)),
          ((2.0, 1.0, 0.8), (3.1, 6.0, 0.25)), ((2.75, 0.33, 0.9), (3.3, 4.2, 0.43)))  # fmt: skip
_TRIES, _TRIES_OF_A_PAIR, _TRIES_OF_TWO = 34, 40, 100
_WIDER, _NEAR = (0.0, 0.12, 0.3), 1.1  # in the logarithm; times the area that a grid told
_EARNS = 1.05  # times the stiffness, that a second notch has to bring
_WIDE = 4.0  # ratio to which a resonance is followed
_SAMPLES = 1200
_ENDS, _ALL = (-1.0, 1.0), (-1.0, -0.5, 0.5, 1.0)  # of what a resonance may be off


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Way:
    """One way: filters, the loop with them, and what it gives under a load of 1 A."""

    title: str
    filters: tuple[Filter, ...]
    loop: SpeedLoop
    sag: Array  # rad/s for each A, over the speed's samples
    load: LoadFigures
    bears: tuple[float, float]  # rad/s, between which the resonance may lie
    stiffer: float = 1.0  # times the shaft's stiffness that it needs


def with_filters(bare: SpeedPlant, filters: tuple[Filter, ...]) -> SpeedPlant:
    """Return a plant with these filters of the torque instead of its own.

    Raises
    ------
    InputError : one lies out of range

    """
    Ts = bare.current.plant.Ts
    return replace(bare, torque_filters=tuple(section(one, Ts) for one in filters))


def moved(plant: SpeedPlant, ratio: float) -> SpeedPlant:
    """Return a plant whose shaft has its resonances elsewhere."""
    return replace(plant, shaft=plant.shaft.moved(ratio))


def members(
    plant: SpeedPlant, off: float = OFF, shares: tuple[float, ...] = (-1.0, -0.5, 0.5, 1.0)
) -> list[SpeedPlant]:
    """Return the plants on which a loop has to be stable besides; none where nothing twists."""
    if not plant.shaft.twists or off <= 0.0:
        return []
    return [moved(plant, 1.0 + share * off) for share in shares]


def way_of(title: str, filters: tuple[Filter, ...], loop: SpeedLoop, stiffer: float = 1.0) -> Way:
    """Return a way with its figures."""
    t = np.arange(_SAMPLES, dtype=np.float64) * loop.plant.T
    sag = loop.loaded.step(_SAMPLES)
    return Way(title=title, filters=filters, loop=loop, sag=sag, load=load_figures(t, sag),
               bears=bears(loop), stiffer=stiffer)  # fmt: skip


def stiffest_with(
    bare: SpeedPlant, filters: tuple[Filter, ...], wanted: Wanted, off: float = OFF
) -> SpeedLoop | None:
    """Return the stiffest loop with these filters that stands a resonance which is off."""
    try:
        plant = with_filters(bare, filters)
    except InputError:
        return None
    return stiffest(plant, wanted, members(plant, off))


def proposed_notches(
    bare: SpeedPlant, wanted: Wanted, *, off: float = OFF, check: Callable[[], None] = lambda: None,
) -> Way | None:  # fmt: skip
    """Return one notch or two for the shaft's resonance, that give the least area under load.

    A coarse search over place, width and depth of one, then of a second beside it and of pairs,
    and a simplex from the best of each (Nelder and Mead 1965), all in bulk on a grid; what is best
    there is tried exactly. A second one has to earn its place.

    Parameters
    ----------
    bare : without filters
    check : called before each candidate; what it raises ends the search

    """
    at = bare.shaft.resonance
    if not at:
        return None
    survey = Survey(bare, members(bare, off, _ENDS), wanted)

    def area(x: Array, most: float = math.inf) -> float:
        check()
        return survey.area([_notch(at, tuple(one)) for one in x.reshape(-1, 3)], min(most, 1e9))

    singles = [_simplex(area, _best(area, _grid_of(*one)), _TRIES) for one in _COARSE]
    known = [x for x in singles if x is not None]
    if not known:
        return None
    one = min(known, key=area)
    beside = [np.concatenate([one, second]) for second in (*known, *_grid_of(*_SECOND))]
    pairs = [np.log(np.ravel(pair)) for pair in _PAIRS]
    begun = [_simplex(area, _best(area, some), _TRIES_OF_A_PAIR) for some in (beside, pairs)]
    nearest = min((x for x in begun if x is not None), key=area, default=None)
    two = _simplex(area, nearest, _TRIES_OF_TWO)
    tried = [_exact(bare, at, x, area(x), wanted, off, check)
             for x in (*known, two) if x is not None]  # fmt: skip
    found = [each for each in tried if each is not None]
    if not found:
        return None
    _, filters, loop = min(found, key=lambda each: each[0] * _EARNS ** len(each[1]))
    return way_of("Notch" if len(filters) == 1 else "Two notches", filters, loop)


def _grid_of(places: Sequence[float], widths: Sequence[float]) -> list[Array]:
    """Return the logarithms of place, width and depth that are tried first."""
    return [np.log(one) for one in itertools.product(places, widths, _DEPTHS)]


def _best(area: Callable[[Array, float], float], candidates: Sequence[Array]) -> Array | None:
    """Return the candidate with the least area; None: none has any."""
    found, least = None, 1e9
    for one in candidates:
        value = area(one, least)
        if value < least:
            found, least = one, value
    return found


def _simplex(area: Callable[[Array], float], start: Array | None, tries: int) -> Array | None:
    """Return what a simplex makes of a start."""
    from scipy.optimize import minimize

    if start is None:
        return None
    corners = np.vstack([start, start + np.diag(np.tile(_STEPS, start.size // 3))])
    found = minimize(lambda x: math.log(area(x)), start, method="Nelder-Mead",
                     options={"maxfev": tries, "initial_simplex": corners})  # fmt: skip
    return np.asarray(found.x)


def _exact(
    bare: SpeedPlant, at: float, x: Array, told: float, wanted: Wanted, off: float,
    check: Callable[[], None],
) -> tuple[float, tuple[Filter, ...], SpeedLoop] | None:  # fmt: skip
    """Return (area, notches, the stiffest exact loop with them), near the area that was told.

    A grid judges what lies right at a limit now and then too well: then they are tried a little
    wider too.
    """
    best: tuple[float, tuple[Filter, ...], SpeedLoop] | None = None
    for wider in _WIDER:
        check()
        filters = tuple(_notch(at, (a, b + wider, c)) for a, b, c in x.reshape(-1, 3))
        loop = stiffest_with(bare, filters, wanted, off)
        if loop is None:
            continue
        tried = (loop.dip_area, filters, loop)
        best = tried if best is None or tried[0] < best[0] else best
        if best[0] <= _NEAR * told:
            break
    return best


def _notch(resonance: float, logs: tuple[float, ...]) -> Filter:
    place, width, depth = (math.exp(x) for x in logs)
    return Filter(
        path="torque", kind=FilterKind.NOTCH, frequency=place * resonance,
        width=min(max(width, 0.05), 12.0), depth=min(max(depth, 0.005), 0.95),
    )  # fmt: skip


def slower(bare: SpeedPlant, wanted: Wanted, *, off: float = OFF) -> Way | None:
    """Return the stiffest loop without any filter."""
    loop = stiffest(bare, wanted, members(bare, off))
    return way_of("No filter", (), loop) if loop is not None else None


def stiffer_shaft(
    bare: SpeedPlant, wanted: Wanted, dip: float, *, check: Callable[[], None] = lambda: None
) -> Way | None:
    """Return what a stiffer shaft gives without any filter: the least that beats a dip.

    Parameters
    ----------
    dip : rad/s for each A, to be undercut
    check : called before each shaft; what it raises ends the search

    """
    for times in (2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0, 25.0):
        check()
        plant = moved(bare, math.sqrt(times))
        loop = stiffest(plant, wanted, members(plant))
        if loop is None:
            continue
        made = way_of("Stiffer shaft", (), loop, times)
        if made.load.dip < dip:
            return made
    return None


def bears(loop: SpeedLoop) -> tuple[float, float]:
    """Return between which frequencies (rad/s) the resonance may lie with the loop stable.

    (0, ∞) where nothing twists, an end of 0 or ∞ where a quarter or four times of it still is.
    """
    at = loop.plant.shaft.resonance
    if not at or not loop.margins.stable:
        return (0.0, math.inf) if not at else (at, at)

    def holds(ratio: float) -> bool:
        return is_stable_on(loop.gains, [moved(loop.plant, ratio)])

    return _edge(holds, 1.0 / _WIDE, 0.0) * at, _edge(holds, _WIDE, math.inf) * at


def _edge(holds: Callable[[float], bool], far: float, beyond: float) -> float:
    """Return the ratio up to which something holds, from 1 towards `far`."""
    step, good = far**0.05, 1.0
    for _ in range(20):
        if not holds(good * step):
            break
        good *= step
    else:
        return beyond
    bad = good * step
    for _ in range(7):
        middle = math.sqrt(good * bad)
        good, bad = (middle, bad) if holds(middle) else (good, middle)
    return good
