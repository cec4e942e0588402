"""Moves on a simulated drive, against the exact loop; and moves gone wrong."""

from dataclasses import replace

import pytest

from oarlock.control.position_design import design_position
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.position_loop import KEY, PositionTarget
from oarlock.practice.truth import draw
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    tuned = tuned_winch()
    return tuned.with_loop_gains(KEY, design_position(tuned).gains)


def _test(axis: Axis, **changes: float) -> PositionMove:
    move = replace(usual_move(axis), **changes)
    return PositionMove(distance=move.distance, speed=move.speed, acceleration=move.acceleration,
                        jerk_time=move.jerk_time)  # fmt: skip


def _played(test: PositionMove, axis: Axis) -> MoveResult:
    found = read(play_on_model(test, axis, draw("winch", 0)), axis)
    assert isinstance(found, MoveResult)
    return found


def test_a_move_is_followed_as_predicted(axis: Axis) -> None:
    found = _played(_test(axis), axis)
    assert found.holds, found.said
    assert found.measured.following == pytest.approx(found.expected.following, rel=0.15)
    assert found.measured.settling == pytest.approx(found.expected.settling, abs=0.015)
    assert found.position[-1] == pytest.approx(found.asked[-1], abs=3e-3)


def test_a_move_without_the_speed_ahead_lags_by_speed_over_gain(axis: Axis) -> None:
    gains = replace(design_position(axis).gains, speed_share=0.0)
    slow = axis.with_loop_gains(KEY, gains)
    found = _played(_test(axis, distance=20.0), slow)
    assert found.measured.following == pytest.approx(_test(axis).speed / gains.Kp, rel=0.08)


def test_a_move_that_runs_out_of_torque_is_told(axis: Axis) -> None:
    found = _played(_test(axis, acceleration=2600.0, speed=90.0, jerk_time=0.0), axis)
    assert "linear" in {c.code for c in found.checks if not c.passed}
    assert "ask for less acceleration" in found.said


def test_a_gain_beyond_the_quiet_one_overshoots_as_predicted(axis: Axis) -> None:
    found = []
    for crossover in (0.9 * 222.0, 0.3 * 222.0):
        gains = design_position(axis, PositionTarget(crossover=crossover)).gains
        gains = replace(gains, speed_share=0.0)
        sharp = _test(axis, distance=0.1, acceleration=1500.0, jerk_time=0.0)
        found.append(_played(sharp, axis.with_loop_gains(KEY, gains)))
    assert found[0].expected.overshoot > 0.01
    assert found[1].expected.overshoot < 0.004
    for one in found:
        assert one.measured.overshoot == pytest.approx(one.expected.overshoot, abs=5e-3)


def test_it_says_what_moves_and_refuses_what_is_no_move(axis: Axis) -> None:
    assert "turns 1 turn and back" in announced(_test(axis), axis)
    plan = _test(axis).plan(axis)
    assert not problems(plan, axis)
    assert plan.position.Kp == pytest.approx(design_position(axis).gains.Kp)
    with pytest.raises(InputError, match="a move needs a distance"):
        replace(_test(axis), acceleration=0.0).plan(axis)
    with pytest.raises(InputError, match="no gains of the position loop"):
        _test(axis).plan(axis.with_loop_gains(KEY, None))
    short = replace(_test(axis), distance=600.0)
    printed = replace(axis.machine.pole_pairs.printed, value=3.0)
    three = replace(axis.machine.pole_pairs, printed=printed)
    limited = axis.with_parameter("mechanics.max_turns", three)
    assert any("turn" in p.sentence for p in problems(short.plan(limited), limited))


def test_a_slow_and_gentle_move_is_a_move(axis: Axis) -> None:
    slow = PositionMove(distance=0.3, speed=0.4, acceleration=0.4)
    assert slow.plan(axis).steps
    nothing = (
        replace(slow, distance=0.0),
        replace(slow, speed=0.0),
        replace(slow, acceleration=0.0),
    )
    for none in nothing:
        with pytest.raises(InputError, match="a move needs"):
            none.plan(axis)
