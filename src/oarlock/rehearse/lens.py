"""A few periods of the carrier at one moment of a rehearsal: switching over averaged."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.machine import Axis
from oarlock.rehearse.bridge import bridged
from oarlock.rehearse.plant import ideal_sensing
from oarlock.rehearse.run import Rehearsal, outside, set_out
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation

Array = NDArray[np.float64]
_SETTLED = 8  # control periods before the window in which the bridge switches already
_STRETCHES = 40  # in a control period, at most


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Lens:
    """Phase currents and legs between two moments; s from the first of them."""

    begun: float  # s into the scenario
    seconds: float
    periods: float  # of the carrier
    t: Array  # (n,) ends of stretches
    currents: Array  # (n, 3) A
    legs: Array  # (n, 3) V of each leg in the stretch that ends there
    averaged_t: Array  # (m,) samples
    averaged: Array  # (m, 3) A
    ripple: float  # A rms of a phase
    swing: float  # A, of phase a, from the lowest to the highest of what switching adds
    bus: float  # V
    dead_time: float  # s


def look_closer(
    run: Rehearsal, axis: Axis, at: float, *, periods: int = 4,
    modulation: Modulation = Modulation.SPACE_VECTOR, cancel: Cancel | None = None,
) -> Lens:  # fmt: skip
    """Return what a switching bridge does about a moment of a rehearsal. Work for a job.

    Parameters
    ----------
    axis : as the rehearsal was made with
    periods : of the carrier
    modulation : of the bridge; the rehearsal's own where that switches

    Raises
    ------
    InputError : control and carrier do not fit
    Cancelled : it is not wanted any more

    """
    Ts = run.plant.Ts
    own = run.plant.switches
    plant = run.plant if own else bridged(run.plant, axis, modulation)
    many = max(math.ceil(2 * periods / plant.halves), 1)
    last = max(run.samples - many, 0)
    first = min(max(round(at / Ts) - many // 2, 0), last)
    begin = max(first - _SETTLED, 0)
    ideal = ideal_sensing(axis, run.plant)
    before = set_out(run.scenario, ideal, run.plant)
    moment = max((m for m in run.moments if m.sample <= begin), key=lambda m: m.sample)
    before.go_back(moment.state)
    _play(before, run, moment.sample, begin, cancel)
    switching, averaged = (set_out(run.scenario, ideal, one) for one in
                           (plant, bridged(run.plant, axis, Modulation.AVERAGED)))  # fmt: skip
    switching.go_back(before.remembered())
    _play(switching, run, begin, first, cancel)
    averaged.go_back(switching.remembered())
    switching.mark_edges(_STRETCHES * many)
    sampled, since = [averaged.phase_currents], switching.clock
    recorded = switching.recorded
    for n in range(many):
        _play(switching, run, first + n, first + n + 1, cancel)
        _play(averaged, run, first + n, first + n + 1, cancel)
        sampled.append(averaged.phase_currents)
    edges = switching.edges
    t, currents = edges[:, 0] - since, edges[:, 1:4]
    at_samples = np.arange(many + 1, dtype=np.float64) * Ts
    beside = currents[:, 0] - np.interp(t, at_samples, np.array(sampled)[:, 0])
    made = switching.reach(recorded, switching.recorded - recorded)[:, k.RIPPLE]
    return Lens(
        begun=first * Ts, seconds=many * Ts, periods=0.5 * many * plant.halves, t=t,
        currents=currents, legs=edges[:, 4:],
        averaged_t=at_samples, averaged=np.array(sampled), bus=switching.bus,
        ripple=math.sqrt(float(np.mean(made)) / 2.0) if made.size else 0.0,
        swing=float(np.ptp(beside)) if beside.size else 0.0, dead_time=plant.dead_time,
    )  # fmt: skip


def _play(model: DriveModel, run: Rehearsal, first: int, until: int, cancel: Cancel | None) -> None:
    """Advance from one sample of the scenario to another, its loads as they come."""
    for begin, end, acting in outside(run.scenario, run.plant, first, until):
        if cancel is not None:
            cancel.check()
        acting.acts_on(model)
        model.advance(end - begin)
