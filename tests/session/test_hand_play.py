"""Gains changed by hand on a running drive: what is sent, what is kept, what is put back."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.speed_design import speed_gains, usual_speed
from oarlock.drive.steps import MAX_STEPS
from oarlock.drive.travel import excursion
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.repeating import cycles_within
from oarlock.experiments.loops.speed_ramp import SpeedRamp, usual_ramp
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.experiments.loops.step_response import StepResult
from oarlock.experiments.reading import runs_like
from oarlock.machine import Axis
from oarlock.machine.parameter import Parameter
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.position_loop import PositionTarget
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.session.hand_play import (
    Cycle,
    Event,
    GaveUp,
    InForce,
    NotSent,
    Played,
    PutBack,
    play_by_hand,
)
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.position import designed as position_designed
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch


class Hand:
    """Somebody at the handles: does something once the n-th answer is there, then ends it."""

    def __init__(self, axis: Axis, does: dict[int, Callable[[Axis], Axis]], end: int) -> None:
        self.axis, self._does, self._end = axis, does, end
        self.events: list[Event] = []
        self.cancel = Hasty()

    def tell(self, event: Event) -> None:
        self.events.append(event)
        if not isinstance(event, Cycle):
            return
        seen = sum(isinstance(e, Cycle) for e in self.events)
        if seen in self._does:
            self.axis = self._does[seen](self.axis)
        if seen >= self._end:
            self.cancel.set()

    def play(
        self, experiment: Experiment, plant: PlantParameters, *, tick: float = 0.02
    ) -> tuple[Played, ModelLink]:
        link = ModelLink(plant, tick=tick)
        played = play_by_hand(experiment, self.axis, link, lambda: self.axis, self.tell,
                              lambda _f, _d: None, self.cancel)  # fmt: skip
        return played, link

    def of(self, kind: type) -> list[Event]:
        return [event for event in self.events if isinstance(event, kind)]


def scaled(factor: float) -> Callable[[Axis], Axis]:
    """Return what makes the speed loop's gains so many times as large."""

    def made(axis: Axis) -> Axis:
        gains = speed_gains(axis)
        assert gains is not None
        return axis.with_loop_gains(KEY, replace(gains, Kp=factor * gains.Kp, Ki=factor * gains.Ki))

    return made


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def step(axis: Axis) -> SpeedStep:
    speed = usual_speed(axis)
    return SpeedStep(speed=speed, amplitude=usual_step(axis, speed))


def test_each_set_of_gains_has_its_own_answers_and_its_row(axis: Axis) -> None:
    hand = Hand(axis, {3: scaled(0.6)}, 7)
    played, link = hand.play(step(axis), draw("winch", 0))
    assert played.ended == "done"
    assert not link.model.is_running
    first, second = played.kept
    assert first.run.settings["repeats"] == 3
    assert second.run.settings["repeats"] == 4
    assert first.run.kind == second.run.kind == "speed step"
    assert runs_like(first.run, axis)
    assert not runs_like(first.run, hand.axis)
    assert runs_like(second.run, hand.axis)
    for one in played.kept:
        assert isinstance(one.reading, SpeedResult)
        assert one.reading.step is not None
        assert one.reading.step_predicted is not None
        assert one.reading.step.rise == pytest.approx(one.reading.step_predicted.rise, rel=0.15)
    assert link.model.commits == 1
    assert len(hand.of(InForce)) == 1
    rises = [one.reading.step.rise for one in played.kept]  # type: ignore[union-attr]
    assert rises[1] > 1.3 * rises[0]


def test_it_turns_to_and_fro_where_the_shaft_may_not_turn_on(axis: Axis) -> None:
    assert axis.mechanics.max_turns is None
    turns = Estimate(value=12.0, std=0.0, unit="1", origin=Origin.MEASURED)
    bound = axis.with_parameter("mechanics.max_turns", Parameter(printed=turns, adopted=turns))
    for one, expected in ((bound, [1.0, -1.0, 1.0, -1.0]), (axis, [1.0, 1.0, 1.0, 1.0])):
        hand = Hand(one, {}, 4)
        played, _ = hand.play(step(one), draw("winch", 0))
        record = played.kept[0].record
        speeds = record["speed"].reshape(4, -1).mean(axis=1)
        assert np.sign(speeds).tolist() == expected
        reading = played.kept[0].reading
        assert isinstance(reading, SpeedResult)
        assert reading.step is not None
        assert reading.step_predicted is not None
        assert reading.step.rise == pytest.approx(reading.step_predicted.rise, rel=0.1)


def test_a_loop_that_would_swing_up_is_never_sent(axis: Axis) -> None:
    hand = Hand(axis, {2: scaled(30.0)}, 4)
    played, link = hand.play(step(axis), draw("winch", 0))
    (said,) = hand.of(NotSent)
    assert isinstance(said, NotSent)
    assert said.why == "the speed loop would swing up with these gains"
    assert link.model.commits == 0
    assert len(played.kept) == 1


@pytest.mark.parametrize("tick", [0.02, 0.17, 0.37])  # s, of a computer that has more to do
def test_gains_that_drive_the_torque_to_its_limit_are_put_back(axis: Axis, tick: float) -> None:
    """A loop that is stable by its model swings where the shaft is another one."""
    true = draw("winch", 0)
    plant = replace(true, stiffness=0.5 * true.stiffness, inertia=0.5 * true.inertia,
                    load_inertia=0.5 * true.load_inertia)  # fmt: skip
    hand = Hand(axis, {3: scaled(2.9)}, 9)
    played, link = hand.play(step(axis), plant, tick=tick)
    (back,) = hand.of(PutBack)
    assert isinstance(back, PutBack)
    assert back.to is axis
    assert link.model.reverts == 1
    assert runs_like(played.kept[-1].run, axis)
    swung = [one.run for one in played.kept if one.run.remark.endswith("put back")]
    assert all(not runs_like(run, axis) for run in swung)


def test_gains_that_swing_from_the_start_are_stopped(axis: Axis) -> None:
    """There is nothing to go back to."""
    true = draw("winch", 0)
    plant = replace(true, stiffness=0.5 * true.stiffness, inertia=0.5 * true.inertia,
                    load_inertia=0.5 * true.load_inertia)  # fmt: skip
    wild = scaled(2.9)(axis)
    hand = Hand(wild, {}, 30)
    _, link = hand.play(step(axis), plant)
    (said,) = hand.of(GaveUp)
    assert isinstance(said, GaveUp)
    assert said.why.endswith("stopped")
    assert not link.model.is_running
    assert len(hand.of(Cycle)) < 10


def test_the_other_loops_repeat_their_tests_too(axis: Axis) -> None:
    load = LoadStep(speed=usual_speed(axis), torque=usual_load(axis))
    hand = Hand(axis, {}, 3)
    played, _ = hand.play(load, draw("winch", 0))
    assert isinstance(played.kept[0].reading, SpeedResult)
    assert played.kept[0].reading.holds, played.kept[0].reading.said

    stepped = CurrentStep(axis_name="q", amplitude=1.0, bias=4.0)
    gains = axis.gains
    assert gains is not None
    slower = axis.with_gains(replace(gains, Kp_q=0.5 * gains.Kp_q, Ki_q=0.5 * gains.Ki_q))
    hand = Hand(axis, {4: lambda _axis: slower}, 9)
    played, _ = hand.play(stepped, draw("winch", 0))
    rises = [one.reading.response.rise for one in played.kept
             if isinstance(one.reading, StepResult)]  # fmt: skip
    assert rises[1] > 1.5 * rises[0]

    target = PositionTarget()
    loops = axis.loops.with_target(POSITION, target)
    whole = replace(axis, loops=loops).with_loop_gains(POSITION, position_designed(axis, target))
    move = usual_move(whole)
    moved = PositionMove(distance=move.distance, speed=move.speed, acceleration=move.acceleration)
    hand = Hand(whole, {}, 2)
    played, _ = hand.play(moved, draw("winch", 0))
    assert played.kept[0].run.kind == "position move"
    assert played.kept[0].reading is not None


@pytest.mark.parametrize("travel", [None, 40.0])
def test_a_ramp_repeats_and_is_answered_as_the_loop_predicts(
    axis: Axis, travel: float | None
) -> None:
    """Where the shaft may not turn on and on, every other ramp goes the other way."""
    bound = Estimate(value=travel or 0.0, std=0.0, unit="1", origin=Origin.DATASHEET)
    most = Parameter(printed=bound) if travel is not None else None
    axis = replace(axis, mechanics=replace(axis.mechanics, max_turns=most))
    speed = usual_speed(axis)
    usual = usual_ramp(axis, speed)
    ramp = SpeedRamp(speed=speed, amplitude=usual.change, jerk_time=usual.jerk_time,
                     acceleration=0.5 * usual.acceleration)  # fmt: skip
    going = ramp.repeating(axis)
    turned = excursion(going.plan, axis)[0].farthest
    if travel is not None:
        assert turned < travel
        assert "to and fro" in going.movement.sentence
    else:
        far = float(going.movement.what.split()[1])
        assert far == pytest.approx(turned, rel=0.2)
    gains = speed_gains(axis)
    assert gains is not None
    J = axis.machine.inertia
    assert J is not None
    ahead = replace(gains, acceleration=J.value / axis.machine.torque_constant)
    hand = Hand(axis, {3: lambda _axis: axis.with_loop_gains("speed", ahead)}, 8)
    played, _ = hand.play(ramp, draw("winch", 0))
    first, second = (one.reading for one in played.kept)
    assert isinstance(first, RampResult)
    assert isinstance(second, RampResult)
    for one in (first, second):
        assert one.holds, one.said
    assert second.measured.behind < 0.6 * first.measured.behind  # torque ahead takes the lag away


def test_what_cannot_be_repeated_is_refused(axis: Axis) -> None:
    from oarlock.experiments.loops.speed_sweep import SpeedSweep

    with pytest.raises(InputError, match="cannot be repeated"):
        Hand(axis, {}, 1).play(SpeedSweep(speed=40.0, torque=0.3), draw("winch", 0))


def test_a_test_that_takes_long_repeats_at_least_once_and_a_short_one_while_the_table_lasts() -> (
    None
):
    assert cycles_within(1e9, 3, 3) == 1
    assert cycles_within(0.01, 1000, 3) == 1
    many = cycles_within(1e-3, 3, 5)
    assert 3 * many + 5 <= MAX_STEPS < 3 * (many + 1) + 5


def test_gains_that_the_test_does_not_use_leave_what_it_would_go_back_to(axis: Axis) -> None:
    position = position_designed(axis, PositionTarget())
    hand = Hand(axis, {
        2: scaled(0.8), 4: lambda one: one.with_loop_gains(POSITION, position),
    }, 6)  # fmt: skip
    hand.play(step(axis), draw("winch", 0))
    first, second = hand.of(InForce)
    assert isinstance(first, InForce)
    assert isinstance(second, InForce)
    assert speed_gains(first.good) == speed_gains(axis)
    assert second.axis.loops[POSITION].gains == position
    assert speed_gains(second.good) == speed_gains(axis)  # not what is in force
    alone = Hand(axis, {2: lambda one: one.with_loop_gains(POSITION, position)}, 4)
    played, _ = alone.play(step(axis), draw("winch", 0))
    (only,) = alone.of(InForce)
    assert isinstance(only, InForce)
    assert only.good is only.axis  # there is nothing else to go back to
    assert len(played.kept) == 1  # one set of gains, as far as this test goes


def test_the_answer_to_a_ramp_is_looked_at_until_it_is_over(axis: Axis) -> None:
    speed = usual_speed(axis)
    slow = SpeedRamp(speed=speed, amplitude=speed, acceleration=60.0)
    going, T = slow.repeating(axis), axis.inverter.divider * axis.inverter.Ts
    plain = step(axis).repeating(axis)
    assert slow.ramp.duration > 0.5
    assert going.rows * T > slow.ramp.duration + 0.9 * plain.rows * T
    assert going.rest > slow.ramp.duration  # so long is the way back
