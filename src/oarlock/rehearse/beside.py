"""Several variants of a scenario side by side: eight at a time cost little more than one.

They come to the same bits as one after another. Those that cannot go together (a bridge that
switches, one that trips) are played alone, from where they had come.
"""

from collections.abc import Sequence

from oarlock.cancel import Cancel
from oarlock.lanes.vectors import LANES
from oarlock.machine import Axis
from oarlock.rehearse.memory import refuse_too_large
from oarlock.rehearse.run import Rehearsal, Run, outside
from oarlock.rehearse.scenario import Scenario
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.side_by_side import ROWS, Lanes, LaneTally, can_go_together

_WORTH_IT = 3  # variants, from which on eight lanes are faster than one after another


def rehearse_beside(
    scenario: Scenario, axis: Axis, plants: Sequence[PlantParameters], *,
    bridge: Modulation = Modulation.AVERAGED, cancel: Cancel | None = None, seed: int = 0,
) -> list[Rehearsal]:  # fmt: skip
    """Play a scenario on up to eight plants, in their order. Work for a job; errors as `rehearse`.

    Lanes that are left over play the last plant again.
    """
    together = goes_beside(len(plants), bridge)
    refuse_too_large(scenario, axis, LANES if together else len(plants))
    runs = [Run(scenario, axis, plant, bridge=bridge, seed=seed) for plant in plants]
    if together:
        spare = [Run(scenario, axis, plants[-1], bridge=bridge, seed=seed)
                 for _ in range(LANES - len(runs))]  # fmt: skip
        _together([*runs, *spare], cancel)
    for run in runs:
        run.play_on(cancel=cancel)
    return [run.result() for run in runs]


def goes_beside(many: int, bridge: Modulation) -> bool:
    """Return whether so many variants are played side by side."""
    return _WORTH_IT <= many <= LANES and bridge is Modulation.AVERAGED


def _together(runs: Sequence[Run], cancel: Cancel | None) -> None:
    """Play runs as far as they can go together."""
    models = [run.model for run in runs]
    if not can_go_together(models):
        return
    bins = runs[0].bins
    lanes, tally, at = Lanes(models), LaneTally(bins.width, bins.most, models), 0
    chunks = [outside(run.scenario, run.plant, 0, run.whole) for run in runs]
    for acting in zip(*chunks, strict=True):
        if cancel is not None:
            cancel.check()
        first, until, _ = acting[0]
        for model, (_, _, acts) in zip(models, acting, strict=True):
            acts.acts_on(model)
        at = first + _stretch(lanes, tally, until - first)
        if at < until:
            break
    lanes.put_back()
    for lane, run in enumerate(runs):
        run.at = at
        run.bins.take_lane(tally, lane)


def _stretch(lanes: Lanes, tally: LaneTally, samples: int) -> int:
    """Play on; return how many of the samples they went together."""
    for done in range(0, samples, ROWS):
        since = lanes.recorded
        if not lanes.is_running or not lanes.advance(min(ROWS, samples - done)):
            return done
        tally.take(lanes, since)
    return samples
