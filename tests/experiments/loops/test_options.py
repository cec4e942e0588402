"""Options of the speed controller on a simulated drive: each does what the loop says of it."""

import math
from dataclasses import replace

import pytest

from oarlock.control.position_design import design_position, friction_of
from oarlock.control.speed_design import (
    MARGIN,
    Turning,
    known_inertia,
    loop_in_use,
    usual_speed,
)
from oarlock.experiments.loops.position_move import PositionMove
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.loop import alike
from oarlock.machine.parameter import Parameter
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.holding import holding
from oarlock.views.commission import numbers
from oarlock.views.screen import SpeedSettings
from oarlock.views.speed_asked import with_observer, with_option
from oarlock.views.speed_proposal import with_way
from oarlock.views.speed_ways import question, ways
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch

PLANT = draw("winch", 0)


def gains_of(axis: Axis) -> SpeedGains:
    found = axis.loops[KEY].gains
    assert isinstance(found, SpeedGains)
    return found


@pytest.fixture(scope="module")
def observing() -> Axis:
    axis = tuned_winch()
    return with_observer(axis, gains_of(axis), True, usual_speed(axis))


def played(test: SpeedStep | LoadStep, axis: Axis) -> SpeedResult:
    found = read(play_on_model(test, axis, PLANT), axis)
    assert isinstance(found, SpeedResult)
    return found


def test_with_a_load_observer_step_load_and_sweep_are_as_predicted(observing: Axis) -> None:
    speed = usual_speed(observing)
    step = played(SpeedStep(speed=speed, amplitude=usual_step(observing, speed)), observing)
    assert step.holds, step.said
    load = played(LoadStep(speed=speed, torque=usual_load(observing)), observing)
    assert load.holds, load.said
    assert load.load is not None
    assert load.load_predicted is not None
    assert load.load.dip == pytest.approx(load.load_predicted.dip, rel=0.08)
    assert abs(load.speed[-30:].mean()) < 0.03 * load.load.dip  # it holds without an integral
    sweep = SpeedSweep(speed=speed, torque=0.3 * usual_load(observing), low=8.0, high=120.0,
                       count=9)  # fmt: skip
    swept = read(play_on_model(sweep, observing, PLANT), observing)
    assert isinstance(swept, SweepResult)
    assert swept.holds, swept.said


def test_a_way_round_the_resonance_keeps_the_observer_that_is_in_use(observing: Axis) -> None:
    speed = usual_speed(observing)
    asked = question(observing, SpeedSettings())
    assert asked is not None
    way = next(one for one in ways(asked) if one.filters)
    taken = with_way(observing, way, speed)
    assert taken.loops[KEY].filters == way.filters
    assert gains_of(taken).Ki == 0.0
    assert gains_of(taken).observer > 0.0
    loop = loop_in_use(taken, turning=Turning(speed=speed))
    assert loop.margins.phase_margin >= MARGIN - 1e-3
    plain = with_way(tuned_winch(), way, speed)
    assert (gains_of(plain).Ki, gains_of(plain).observer) == (way.loop.gains.Ki, 0.0)


def test_gains_that_hold_on_all_machines_slow_the_observer_with_them(observing: Axis) -> None:
    inertia = observing.machine.inertia
    assert inertia is not None
    vague = replace(inertia, adopted=replace(inertia.best, std=0.15 * inertia.value))
    found = holding(observing.with_parameter("machine.inertia", vague), 16, seed=1)
    assert found.worst < found.nominal
    assert found.gains is not None
    factor = found.gains.Kp / gains_of(observing).Kp
    assert factor < 1.0
    assert found.gains.observer == pytest.approx(factor * gains_of(observing).observer)
    assert found.gains.Ki == 0.0


def test_what_an_action_would_take_away_is_listed(observing: Axis) -> None:
    plain = tuned_winch()
    rows = {row.name: (row.old, row.new) for row in numbers(observing, plain)}
    assert rows["speed load observer"][1] == "–"
    back = {row.name: (row.old, row.new) for row in numbers(plain, observing)}
    assert back["speed load observer"][0] == "–"


def test_a_step_through_a_lagging_reference_rises_later_as_predicted(observing: Axis) -> None:
    speed = usual_speed(observing)
    plain = played(SpeedStep(speed=speed, amplitude=usual_step(observing, speed)), observing)
    slow = observing.with_loop_gains(KEY, replace(gains_of(observing), reference=8e-3))
    found = played(SpeedStep(speed=speed, amplitude=usual_step(slow, speed)), slow)
    assert found.holds, found.said
    assert plain.step is not None
    assert found.step is not None
    assert found.step.rise > 1.8 * plain.step.rise
    assert usual_step(slow, speed) > 1.5 * usual_step(observing, speed)  # it asks for less current


@pytest.mark.parametrize("observes", [False, True])
def test_friction_that_is_asked_ahead_does_not_hold_a_move_back(observes: bool) -> None:
    axis, rubbing = tuned_winch(), replace(PLANT, coulomb=1.4, stiction=1.0)
    known = Estimate(value=rubbing.coulomb, std=0.0, unit="N m", origin=Origin.MEASURED)
    axis = axis.with_parameter("mechanics.coulomb", Parameter(printed=known, adopted=known))
    if observes:
        axis = with_observer(axis, gains_of(axis), True, usual_speed(axis))
    fed = replace(gains_of(axis), acceleration=known_inertia(axis))
    off = []
    for friction in (0.0, friction_of(axis)):
        ready = axis.with_loop_gains(KEY, replace(fed, friction=friction))
        ready = ready.with_loop_gains(POSITION, design_position(ready).gains)
        test = PositionMove(distance=2.0, speed=10.0, acceleration=100.0, jerk_time=0.03)
        found = read(play_on_model(test, ready, rubbing), ready)
        assert isinstance(found, MoveResult)
        assert found.holds, found.said
        off.append(found.measured.following)
        assert math.isfinite(found.measured.settling)
    assert off[1] < 0.8 * off[0]  # the rest is what the sensor tells


def test_an_observer_that_is_typed_takes_the_place_of_the_integral_and_is_another_loop() -> None:
    axis = tuned_winch()
    plain = gains_of(axis)
    typed = gains_of(with_option(axis, plain, "observer", "12"))
    assert (typed.Ki, typed.weight) == (0.0, 1.0)
    assert typed.observer == pytest.approx(12.0 * math.tau)
    beside = replace(typed, Ki=7.0)
    again = gains_of(with_option(axis, beside, "observer", "9"))
    assert again.Ki == 7.0  # who has both keeps both
    fed = replace(plain, friction=0.2)
    for one, other in ((plain, fed), (fed, plain), (plain, beside), (beside, plain)):
        assert not alike(one, other)
    assert alike(fed, replace(plain, friction=0.2 * (1.0 + 1e-12)))
