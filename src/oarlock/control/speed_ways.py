"""Ways round a shaft's resonance: a notch that is sought, a slower loop, a stiffer shaft.

A notch that sits on the resonance alone breaks where the resonance lies a little elsewhere than
believed. So each candidate has to be stable on plants whose resonance is off to either side too,
and what decides between those that are is the area of the speed's dip after a step of load.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.filters import section
from oarlock.control.speed import LoadFigures, SpeedLoop, load_figures
from oarlock.control.speed_gains import Wanted, is_stable_on, stiffest
from oarlock.control.speed_plant import SpeedPlant
from oarlock.errors import InputError
from oarlock.machine.filters import Filter, FilterKind

Array = NDArray[np.float64]
OFF = 0.10  # share by which a resonance may lie elsewhere
_WIDTHS = (0.5, 1.0, 2.0, 4.0)
_DEPTHS = (0.05, 0.2, 0.5)
_PLACES = (0.8, 0.95, 1.1, 1.8, 2.5)  # of the resonance
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
    bare: SpeedPlant, filters: tuple[Filter, ...], wanted: Wanted, off: float = OFF, *,
    least: float = 0.0, rounds: int = 3,
) -> SpeedLoop | None:  # fmt: skip
    """Return the stiffest loop with these filters that stands a resonance which is off."""
    try:
        plant = with_filters(bare, filters)
    except InputError:
        return None
    # While it is sought both ends are enough; what is told has been tried in between too.
    shares = _ENDS if rounds < 3 else _ALL
    return stiffest(plant, wanted, members(plant, off, shares), least=least, rounds=rounds)


def proposed_notch(
    bare: SpeedPlant, wanted: Wanted, *, off: float = OFF, tries: int = 36,
    check: Callable[[], None] = lambda: None,
) -> Way | None:  # fmt: skip
    """Return the notch for the shaft's resonance that gives the least area under load.

    A coarse search over place, width and depth, then a simplex from the best of it (Nelder and
    Mead 1965).

    Parameters
    ----------
    bare : without filters
    tries : of the simplex
    check : called before each candidate; what it raises ends the search

    """
    from scipy.optimize import minimize

    at = bare.shaft.resonance
    if not at:
        return None
    start, least = None, 0.0
    for place in _PLACES:
        for width in _WIDTHS:
            for depth in _DEPTHS:
                check()
                logs = (math.log(place), math.log(width), math.log(depth))
                loop = stiffest_with(bare, (_notch(at, logs),), wanted, off, least=least, rounds=1)
                if loop is not None:
                    start, least = logs, loop.gains.Ki
    if start is None:
        return None

    def misfit(x: Array) -> float:
        check()
        return math.log(_area(bare, _notch(at, tuple(x)), wanted, off))

    found = minimize(
        misfit, start,
        method="Nelder-Mead", options={"maxfev": tries, "initial_simplex": _simplex(start)},
    )  # fmt: skip
    filters = (_notch(at, tuple(found.x)),)
    loop = stiffest_with(bare, filters, wanted, off)
    return way_of("Notch", filters, loop) if loop is not None else None


def _simplex(start: tuple[float, float, float]) -> Array:
    corners = [start]
    for n, step in enumerate((0.06, 0.35, 0.5)):
        corner = list(start)
        corner[n] += step
        corners.append((corner[0], corner[1], corner[2]))
    return np.array(corners)


def _notch(resonance: float, logs: tuple[float, ...]) -> Filter:
    place, width, depth = (math.exp(x) for x in logs)
    return Filter(
        path="torque", kind=FilterKind.NOTCH, frequency=place * resonance,
        width=min(max(width, 0.05), 12.0), depth=min(max(depth, 0.005), 0.95),
    )  # fmt: skip


def _area(bare: SpeedPlant, notch: Filter, wanted: Wanted, off: float) -> float:
    """Return the area of the dip under 1 A, rad; infinite where no gains do."""
    loop = stiffest_with(bare, (notch,), wanted, off, rounds=2)
    if loop is None:
        return 1e9
    return float(np.sum(np.abs(loop.loaded.step(_SAMPLES)))) * loop.plant.T


def slower(bare: SpeedPlant, wanted: Wanted, *, off: float = OFF) -> Way | None:
    """Return the stiffest loop without any filter."""
    loop = stiffest(bare, wanted, members(bare, off))
    return way_of("No filter", (), loop) if loop is not None else None


def stiffer_shaft(bare: SpeedPlant, wanted: Wanted, dip: float) -> Way | None:
    """Return what a stiffer shaft gives without any filter: the least that beats a dip.

    Parameters
    ----------
    dip : rad/s for each A, to be undercut

    """
    for times in (2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0, 25.0):
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
    for _ in range(10):
        middle = math.sqrt(good * bad)
        good, bad = (middle, bad) if holds(middle) else (good, middle)
    return good
