"""R and L seen roughly: against circuits worked out here, and on drives that nobody described."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import random_axis

from oarlock.errors import InputError
from oarlock.experiments.sensing.first_look import (
    _decayed,
    decay_plan,
    is_wanted,
    look,
    wave_plan,
)
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.quantities import Origin
from oarlock.records import Finding
from oarlock.session.adopting import with_finding
from oarlock.session.entries import entered
from oarlock.session.new_project import hollow
from oarlock.session.perform import perform
from oarlock.session.told import told_by, with_told
from oarlock.simulate.plant_parameters import PlantParameters
from tests.model_link import Hasty, ModelLink


def begun(printed: Axis, link: ModelLink) -> Axis:
    """Return an axis with three numbers entered and the drive's facts."""
    m, axis = printed.machine, hollow("own")
    for path, text in (
        ("machine.rated_current", f"{m.rated_current.value:.4g} A peak"),
        ("machine.peak_current", f"{m.peak_current.value:.4g} A peak"),
        ("machine.max_speed", f"{m.max_speed.value:.4g} rad/s"),
    ):
        axis = entered(axis, path, text)[1]
    return with_told(axis, told_by(link))[0]


def drawn(seed: int, sensor: str) -> tuple[Axis, PlantParameters]:
    return random_axis(np.random.default_rng(seed), sensor=sensor)


@pytest.mark.parametrize("share", [0.0, 0.05, 0.3])
@pytest.mark.parametrize("tau", [0.4e-3, 3e-3, 15e-3])
def test_a_current_that_dies_away_tells_R_beside_the_dead_time(tau: float, share: float) -> None:
    R, Ts, first = 0.35, 62.5e-6, 6.0
    volts = share * R * first
    t = Ts * np.arange(250)
    i = (first + volts / R) * np.exp(-t / tau) - volts / R
    part = i > 0.25 * first
    noise = np.random.default_rng(1).normal(0.0, 0.004, int(part.sum()))
    assert _decayed(t[part], i[part] + noise, R * tau) == pytest.approx(R, rel=0.2)


@pytest.mark.parametrize("seed", range(5))
def test_a_winding_of_which_nothing_is_known_is_seen_to_a_quarter(seed: int) -> None:
    printed, plant = drawn(seed, "encoder")
    link = ModelLink(plant, seed=seed)
    axis = begun(printed, link)
    assert is_wanted(axis)
    seen = look(axis, link, Hasty(), lambda _fraction, _doing: None)
    assert pytest.approx(plant.R, rel=0.25) == seen.R
    assert seen.Ld == pytest.approx(plant.Ld, rel=0.25)
    assert seen.Lq == pytest.approx(plant.Lq, rel=0.25)
    assert max(abs(x) for x in link.model.trace[:, 1]) < printed.machine.rated_current.value
    assert not is_wanted(seen.on(axis))


def test_a_motor_that_is_not_connected_is_told() -> None:
    printed, plant = drawn(4, "encoder")
    link = ModelLink(replace(plant, R=1e4, Ld=50.0, Lq=50.0, Lq_saturated=50.0))
    with pytest.raises(InputError, match="make") as caught:
        look(begun(printed, link), link, Hasty(), lambda _fraction, _doing: None)
    assert "Is the motor connected" in caught.value.remedy


@pytest.mark.parametrize(("seed", "sensor"), [(2, "encoder"), (4, "hall"), (6, "resolver")])
def test_pole_pairs_are_counted_where_nobody_said_them(seed: int, sensor: str) -> None:
    printed, plant = drawn(seed, sensor)
    link = ModelLink(plant, seed=seed)
    axis = begun(printed, link)
    assert axis.sensor.kind.value == sensor
    for experiment in (CurrentsAtRest(), TurnByHand(), StandingPulses(), ForcedTurn()):
        done = perform(experiment, axis, link, lambda _f, _d: None, Hasty())
        assert isinstance(done.reading, Finding)
        assert done.reading.holds, (done.run.title, done.reading.failed)
        axis = with_finding(axis, done.reading, done.run)
    assert axis.machine.pole_pairs.value == plant.pole_pairs
    assert axis.machine.pole_pairs.best.origin is Origin.MEASURED
    assert axis.machine.R.best.origin is Origin.ROUGH
    assert axis.sensor.is_found


def test_a_printed_winding_is_not_looked_at(axis: Axis) -> None:
    assert not is_wanted(axis)
    assert math.isclose(
        StandingPulses().movement(axis).seconds, StandingPulses().plan(axis).duration
    )


def test_it_aborts_a_little_beyond_the_current_that_it_needs(axis: Axis) -> None:
    """And as the shaft moves: a quarter of a turn, a quarter of the top speed."""
    for plan, share in ((wave_plan(axis, 5.0, 8, 0.3), 0.45), (decay_plan(axis, 2e-3), 0.8)):
        assert plan.limits.current == pytest.approx(1.3 * share * axis.rated + 0.08 * axis.peak)
        assert plan.limits.travel == pytest.approx(math.tau / 4.0)
        assert plan.limits.speed == pytest.approx(0.25 * axis.top_speed)
        assert plan.limits.time == pytest.approx(plan.duration + 1.0)
