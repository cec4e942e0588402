"""A scenario over what is not known for sure: many machines, the same gains; figures only.

Each uncertain value is drawn about its best estimate, by its standard uncertainty or, where it is
only printed, by a tolerance; the draws fill the space evenly (scrambled Sobol sequence; Owen 1998).
What moves a figure is told one value at a time, at plus and minus two standard uncertainties.
"""

import math
import os
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Progress
from oarlock.lanes.vectors import LANES
from oarlock.machine import Axis
from oarlock.quantities import Estimate
from oarlock.rehearse.beside import goes_beside, rehearse_beside
from oarlock.rehearse.figures import RehearsalFigures, figures_of
from oarlock.rehearse.memory import refuse_too_large
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Rehearsal
from oarlock.rehearse.scenario import Scenario
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.side_by_side import is_compiled

Array = NDArray[np.float64]
# Makes the figures of plants, in their order: the scenario, the axis, the plants, the bridge, what
# ends it, and what it tells how many are done.
Spread = Callable[
    [Scenario, Axis, Sequence[PlantParameters], Modulation, Cancel, Callable[[int], None]],
    list[RehearsalFigures],
]
_PRINTED = 0.05  # of a value that is only printed: half of the usual ±10 %
_FRICTION, _BUS = 0.15, 0.015  # friction changes with heat and wear, the bus with the supply
_LEAST = 0.2  # of a value, however far a draw goes


@dataclass(frozen=True, slots=True)
class Tolerance:
    """One value that is not known for sure."""

    name: str
    std: float  # of its best estimate, ratio


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Study:
    """Figures of many variants, in the order of their draws."""

    tolerances: tuple[Tolerance, ...]
    factors: Array  # (n, k): by what each value was multiplied
    figures: tuple[RehearsalFigures, ...]

    @property
    def done(self) -> int:
        """How many came to their end."""
        return sum(one.ended == "done" for one in self.figures)

    def quantiles(self, name: str, at: tuple[float, ...] = (0.05, 0.5, 0.95)) -> Array:
        """Return quantiles of a figure over the variants that came to their end; NaN without."""
        values = [getattr(one, name) for one in self.figures if one.ended == "done"]
        return np.quantile(values, at) if values else np.full(len(at), math.nan)


@dataclass(frozen=True, slots=True)
class Moved:
    """What a figure becomes as one value goes down and up by two standard uncertainties.

    NaN where the machine does not come to the end of the scenario.
    """

    name: str
    low: float
    high: float


def tolerances(axis: Axis) -> tuple[Tolerance, ...]:
    """Return what is not known for sure, and by how much."""
    m, J = axis.machine, axis.machine.inertia
    found = [
        Tolerance(name, relative(parameter.best))
        for name, parameter in (("R", m.R), ("Ld", m.Ld), ("Lq", m.Lq), ("flux", m.psi))
    ]
    if J is not None:
        found.append(Tolerance("inertia", relative(J.best)))
    if axis.mechanics.coulomb.value > 0.0:
        found.append(Tolerance("friction", _FRICTION))
    return (*found, Tolerance("bus", _BUS))


def relative(best: Estimate) -> float:
    """Return a value's standard uncertainty as a ratio; where it is only printed, a usual one."""
    if best.std is not None and best.value > 0.0 and best.is_measured:
        return best.std / best.value
    return _PRINTED


def varied(plant: PlantParameters, factors: Mapping[str, float]) -> PlantParameters:
    """Return a plant with values multiplied, by the names of `tolerances`."""
    f = {name: max(value, _LEAST) for name, value in factors.items()}
    J, Lq = f.get("inertia", 1.0), f.get("Lq", 1.0)
    return replace(
        plant, R=plant.R * f.get("R", 1.0), Ld=plant.Ld * f.get("Ld", 1.0), Lq=plant.Lq * Lq,
        Lq_saturated=plant.Lq_saturated * Lq, psi=plant.psi * f.get("flux", 1.0),
        inertia=plant.inertia * J, load_inertia=plant.load_inertia * J,
        coulomb=plant.coulomb * f.get("friction", 1.0), bus=plant.bus * f.get("bus", 1.0),
    )  # fmt: skip


def study(
    scenario: Scenario, axis: Axis, many: int, *, seed: int = 0,
    progress: Progress | None = None, cancel: Cancel | None = None,
    bridge: Modulation = Modulation.AVERAGED, spread: Spread | None = None,
    seen: Callable[[int, Rehearsal], None] | None = None,
) -> Study:  # fmt: skip
    """Return the figures of `many` variants. Work for a job; errors as `rehearse`.

    The first is the machine as it is believed.

    Parameters
    ----------
    spread : over what the variants are shared out; None: the cores that are here
    seen : called with each run and its number, in any order and thread; not of a `spread`

    """
    from scipy.stats import norm, qmc

    known = tolerances(axis)
    draws = qmc.Sobol(len(known), scramble=True, seed=seed).random_base2(
        max(math.ceil(math.log2(max(many, 2))), 1)
    )[: many - 1]
    stds = np.array([one.std for one in known])
    factors = np.vstack(
        [np.ones(len(known)), 1.0 + stds * norm.ppf(np.clip(draws, 1e-9, 1 - 1e-9))]
    )
    plants = plants_of(axis, factors)

    def told(done: int) -> None:
        if progress is not None:
            progress(done / len(plants), f"{done} of {len(plants)} variants")

    here = partial(_figures, seen=seen)
    if progress is not None and spread is None and _compiles_first(many, bridge):
        progress(0.0, "compiling the loop for eight machines at a time, once")
    found = (spread or here)(scenario, axis, plants, bridge, cancel or Cancel(), told)
    return Study(tolerances=known, factors=factors, figures=tuple(found))


def plants_of(axis: Axis, factors: Array) -> list[PlantParameters]:
    """Return the plants of a study, by the factors (n, k) of its tolerances."""
    plant, known = believed_plant(axis), tolerances(axis)
    return [varied(plant, {t.name: float(f) for t, f in zip(known, row, strict=True)})
            for row in factors]  # fmt: skip


def _figures(
    scenario: Scenario, axis: Axis, plants: Sequence[PlantParameters], bridge: Modulation,
    cancel: Cancel, told: Callable[[int], None],
    seen: Callable[[int, Rehearsal], None] | None = None,
) -> list[RehearsalFigures]:  # fmt: skip
    """Return the figures of each plant, in their order: eight at a time, on each core."""
    failed = threading.Event()
    cores = os.cpu_count() or 1
    size = _beside(len(plants))
    refuse_too_large(scenario, axis, min(size * cores, len(plants)))
    begins = range(0, len(plants), size)

    def some(first: int) -> list[RehearsalFigures]:
        if failed.is_set():
            return []
        part = plants[first : first + size]
        try:
            runs = rehearse_beside(scenario, axis, part, bridge=bridge, cancel=cancel)
        except BaseException:
            failed.set()
            raise
        if seen is not None:
            for number, run in enumerate(runs, first):
                seen(number, run)
        return [figures_of(run, axis) for run in runs]

    found: list[RehearsalFigures] = []
    with ThreadPoolExecutor(cores, thread_name_prefix="variants") as pool:
        for made in pool.map(some, begins):
            if made:
                found += made
                told(len(found))
    cancel.check()
    return found


def _compiles_first(many: int, bridge: Modulation) -> bool:
    return goes_beside(_beside(many), bridge) and not is_compiled()


def _beside(many: int) -> int:
    """Return how many of some machines are played side by side: few are shared out first."""
    return min(max(many // (os.cpu_count() or 1), 1), LANES)


def tornado(
    scenario: Scenario, axis: Axis, name: str, *,
    progress: Progress | None = None, cancel: Cancel | None = None,
    bridge: Modulation = Modulation.AVERAGED, spread: Spread | None = None,
) -> tuple[Moved, ...]:  # fmt: skip
    """Return what each tolerance makes of a figure: what stops it first, then what moves it most.

    Parameters
    ----------
    name : of the figure, as `RehearsalFigures` has it
    spread : as of `study`

    """
    plant, known = believed_plant(axis), tolerances(axis)
    plants = [varied(plant, {one.name: 1.0 + side * one.std})
              for one in known for side in (-2.0, 2.0)]  # fmt: skip

    def told(done: int) -> None:
        if progress is not None:
            progress(done / len(plants), f"what {known[(done - 1) // 2].name} moves")

    share_out = spread or _figures
    ends = [getattr(made, name) if made.ended == "done" else math.nan
            for made in share_out(scenario, axis, plants, bridge, cancel or Cancel(),
                                  told)]  # fmt: skip
    moved = [Moved(one.name, *ends[2 * n : 2 * n + 2]) for n, one in enumerate(known)]
    return tuple(sorted(moved, key=_rank))


def _rank(moved: Moved) -> float:
    change = abs(moved.high - moved.low)
    return -math.inf if math.isnan(change) else -change
