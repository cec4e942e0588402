"""The dry run refuses whatever could harm, and whatever is not known."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.drive.dry_run import problems, refuse
from oarlock.drive.steps import (
    COLUMNS,
    Frame,
    Limits,
    Plan,
    Shape,
    SpeedLoop,
    Step,
    Target,
    Wave,
    step_table,
)
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announcement
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.machine import Axis, CurrentGains

GAINS = CurrentGains(Kp_d=1.0, Ki_d=1.0, Kp_q=1.0, Ki_q=1.0)


def plan(*steps: Step, **changes: object) -> Plan:
    made = Plan(
        name="trial",
        steps=steps or (Step(duration=0.1, i_d=2.0),),
        channels=("t", "id"),
        limits=Limits(current=10.0, speed=50.0, travel=1.0, time=10.0),
        gains=GAINS,
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def wave(target: Target, amplitude: float, frequency: float = 100.0) -> Wave:
    return Wave(shape=Shape.SINE, target=target, amplitude=amplitude, frequency=frequency)


def test_a_harmless_plan_passes(axis: Axis) -> None:
    assert problems(plan(), axis) == []


@pytest.mark.parametrize("quantity", ["resistance", "inductance_d", "inductance_q"])
def test_our_own_experiments_pass(axis: Axis, quantity: str) -> None:
    made = experiment_for(quantity).plan(axis)
    assert problems(made, axis) == []
    assert made.duration < made.limits.time
    assert made.largest_current <= axis.machine.peak_current.value


@pytest.mark.parametrize(
    ("bad", "words"),
    [
        (plan(Step(duration=0.1, i_d=11.0)), "asks for 11 A"),
        (plan(Step(duration=0.1, i_d=8.0, i_q=8.0)), "asks for 11.3 A"),
        (plan(Step(duration=0.1, i_d=math.nan)), "asks for nan A"),
        (plan(Step(duration=1e-6)), "less than a sample"),
        (plan(Step(duration=math.inf)), "lasts"),
        (plan(Step(duration=0.1, frame=Frame.SPEED, speed=60.0)), "speed"),
        (plan(Step(duration=0.1, angle=math.nan)), "angle"),
        (plan(Step(duration=0.1, i_q=9.0, wave=wave(Target.I_Q, 2.0))), "asks for 11 A"),
        (plan(Step(duration=0.1, wave=wave(Target.V_D, 200.0))), "the bus gives"),
        (plan(Step(duration=0.1, wave=wave(Target.V_D, math.nan))), "not finite"),
        (plan(Step(duration=0.1, wave=wave(Target.V_D, 5.0, 9000.0))), "half the sampling"),
        (plan(Step(duration=0.1, wave=wave(Target.TORQUE, 50.0))), "beyond the limit"),
        (plan(Step(duration=0.1, wave=wave(Target.SPEED, 60.0))), "speed beyond"),
        (plan(*(Step(duration=0.01),) * 600), "600 steps"),
        (plan(Step(duration=20.0)), "aborts after"),
        (plan(channels=("t", "colour")), "cannot record colour"),
        (plan(channels=("t",) * 9), "so many channels"),
        (plan(limits=Limits(current=80.0, speed=50, travel=1, time=10)), "aborts only at 80 A"),
        (plan(limits=Limits(current=math.nan, speed=50, travel=1, time=10)), "aborts only"),
        (plan(limits=Limits(current=10, speed=900, travel=1, time=10)), "above the top speed"),
        (plan(limits=Limits(current=10, speed=50, travel=math.inf, time=10)), "no limit"),
        (plan(gains=replace(GAINS, Kp_d=math.nan)), "gains"),
        (plan(Step(duration=0.1, frame=Frame.PATH)), "position with a gain of zero"),
        (plan(Step(duration=0.1, frame=Frame.PATH, distance=4.0)), "step 1 passes 60 rad/s on its"),
        (plan(Step(duration=0.1, frame=Frame.ROTOR, distance=0.5)), "moves without a controller"),
        (plan(Step(duration=0.0, frame=Frame.PATH, distance=0.5)), "less than a sample"),
        (plan(Step(duration=math.nan, frame=Frame.PATH, distance=0.5)), "less than a sample"),
        (plan(gains=replace(GAINS, Ki_q=0.0)), "gains"),
    ],
)
def test_what_could_harm_is_refused(axis: Axis, bad: Plan, words: str) -> None:
    assert any(words in problem.sentence for problem in problems(bad, axis)), problems(bad, axis)
    with pytest.raises(InputError) as caught:
        refuse(bad, axis)
    assert caught.value.remedy


def test_the_table_is_what_the_drive_documentation_says(axis: Axis) -> None:
    step = Step(
        duration=0.1, i_d=2.0, i_q=1.0, frame=Frame.FIXED, angle=0.5, wave=wave(Target.V_Q, 9.0),
        record=False, turning=3.0,
        release=True,
    )  # fmt: skip
    table = step_table(plan(step), axis.inverter.Ts)
    assert table.dtype == np.float32
    assert table[0].tolist() == pytest.approx(
        [1600, 1, 0.5, 2, 1, 1, 2, 9, 100, 0, 0, 3, 1, 0, 0, 0, 0, 0]
    )
    move = Step(duration=0.1, frame=Frame.POSITION, distance=-2.0, speed=9.0, acceleration=70.0,
                jerk_time=0.02, sums=True,
                wave=Wave(shape=Shape.CHIRP, target=Target.LOAD, amplitude=0.1, frequency=2.0,
                          end=80.0))  # fmt: skip
    row = dict(zip(COLUMNS, step_table(plan(move), axis.inverter.Ts)[0].tolist(), strict=True))
    assert row["mode"] == 7
    assert (row["wave"], row["target"]) == (5, 7)
    told = [row[name] for name in ("speed", "end frequency", "distance", "acceleration", "sums")]
    assert told == pytest.approx([9.0, 80.0, -2.0, 70.0, 1.0])
    assert row["jerk time"] == pytest.approx(0.02)


def test_what_will_happen_is_said_beforehand(axis: Axis) -> None:
    text = announcement(ResistanceHolds().plan(axis), braked=True)
    assert "12.0 A" in text
    assert "6.0 s" in text
    assert "153°" in text
    assert announcement(ResistanceHolds().plan(axis), braked=False).startswith("Shaft may turn")


def test_a_step_needs_gains_and_sense(axis: Axis) -> None:
    step = CurrentStep(axis_name="q", amplitude=1.0, bias=4.0)
    with pytest.raises(InputError, match="no gains"):
        step.plan(axis)
    with pytest.raises(InputError, match="cannot step"):
        CurrentStep(axis_name="x", amplitude=1.0, bias=0.0).plan(axis.with_gains(GAINS))
    assert problems(step.plan(axis.with_gains(GAINS)), axis) == []


def test_the_sine_stays_below_the_bus(axis: Axis) -> None:
    greedy = InductanceSine(axis_name="q", amplitude=2.0)
    waves = [step.wave for step in greedy.plan(axis).steps if step.wave]
    assert max(w.amplitude for w in waves) <= 0.75 * axis.inverter.v_max
    assert problems(greedy.plan(axis), axis) == [] or greedy.plan(axis).largest_current < 20


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"speed": SpeedLoop(Kp=math.nan, Ki=0.1)}, "speed gains that are negative or no numbers"),
        ({"speed": SpeedLoop(Kp=0.1, Ki=-1.0)}, "speed gains that are negative"),
        ({"speed": SpeedLoop(Kp=math.inf, Ki=0.0)}, "speed gains that are negative or no numbers"),
        ({"observer": math.nan}, "observer bandwidth"),
        ({"observer": -1.0}, "observer bandwidth"),
        ({"decimation": 0}, "cannot record every 0th"),
        ({"decimation": 70000}, "cannot record every 70000th"),
        ({"channels": ()}, "cannot record"),
    ],
)
def test_all_that_goes_to_the_drive_is_looked_at(
    axis: Axis, changes: dict[str, object], words: str
) -> None:
    assert any(words in text.sentence for text in problems(plan(**changes), axis))


def test_a_speed_needs_a_gain_and_an_observer_must_not_rest(axis: Axis) -> None:
    turning = Step(duration=0.1, frame=Frame.SPEED, speed=5.0)
    assert any("gain of zero" in t.sentence for t in problems(plan(turning), axis))
    assert problems(plan(turning, speed=SpeedLoop(Kp=0.1, Ki=0.1)), axis) == []
    seen = replace(turning, frame=Frame.OBSERVED)
    found = problems(plan(seen, speed=SpeedLoop(Kp=0.1, Ki=0.1)), axis)
    assert any("observer that rests" in t.sentence for t in found)
    assert problems(plan(seen, speed=SpeedLoop(Kp=0.1, Ki=0.1), observer=50.0), axis) == []


def test_a_recorder_that_would_overflow_is_refused_before(axis: Axis) -> None:
    long = plan(Step(duration=2.0, i_d=1.0))
    assert any(
        "records 32000 rows; a drive holds 16384" in t.sentence for t in problems(long, axis)
    )
    assert problems(replace(long, decimation=2), axis) == []


def test_a_wave_of_no_frequency_is_refused(axis: Axis) -> None:
    bad = Wave(shape=Shape.SINE, target=Target.V_D, amplitude=1.0, frequency=math.nan)
    assert any(
        "not finite" in t.sentence for t in problems(plan(Step(duration=0.1, wave=bad)), axis)
    )


def test_a_multisine_counts_by_what_sounds_of_it(axis: Axis) -> None:
    most = 0.4 * axis.inverter.v_max
    lines = ((10.0, most, 0.0), (40.0, most, 0.0), (160.0, most, 0.0))

    def said(low: float, high: float) -> str:
        lined = Wave(shape=Shape.LINES, target=Target.V_Q, amplitude=1.0, frequency=low, end=high)
        step = Step(duration=0.1, frame=Frame.FIXED, wave=lined)
        return str(
            [problem.sentence for problem in problems(replace(plan(step), lines=lines), axis)]
        )

    assert "the bus gives" not in said(5.0, 50.0)  # two of them
    t = np.arange(1600) * axis.inverter.Ts  # what they really reach together, at every sample
    peak = most * np.max(np.abs(sum(np.sin(math.tau * f * t) for f, _, _ in lines)))
    assert f"adds {peak:.3g} V; the bus gives" in said(5.0, 200.0)
    most = 0.42 * axis.inverter.v_max
    lines = ((10.0, most, -math.pi / 3.0), (20.0, most, -4.0 * math.pi / 3.0),
             (30.0, most, -3.0 * math.pi))  # fmt: skip
    alike = np.max(np.abs(sum(np.sin(math.tau * f * t) for f, _, _ in lines)))
    together = np.max(np.abs(sum(np.sin(math.tau * f * t + rad) for f, _, rad in lines)))
    assert most * together < axis.inverter.v_max < most * alike  # phases decide
    assert "the bus gives" not in said(5.0, 200.0)


def test_the_sensors_that_are_there_must_be_known_before_a_current_is_held(axis: Axis) -> None:
    """The third current follows from two: nobody asks for the offset of a sensor that is none."""
    two = replace(axis, inverter=replace(axis.inverter, unsensed="b"))
    assert problems(plan(), two) == []
    unknown = {phase: replace(axis.parameter(f"inverter.offset_{phase}"), adopted=None)
               for phase in "abc"}  # fmt: skip
    blind_b = two.with_parameter("inverter.offset_b", unknown["b"])
    assert problems(plan(), blind_b) == []
    for phase in "ac":
        blind = two.with_parameter(f"inverter.offset_{phase}", unknown[phase])
        assert any("offsets" in found.sentence for found in problems(plan(), blind))


@pytest.mark.parametrize(
    ("acceleration", "jerk_time"),
    [(-1.0, 0.0), (math.inf, 0.0), (10.0, -0.1), (10.0, math.nan)],
)
def test_a_ramp_of_no_sense_is_refused(axis: Axis, acceleration: float, jerk_time: float) -> None:
    step = Step(duration=0.1, frame=Frame.SPEED, speed=10.0)
    loop = SpeedLoop(Kp=0.1, Ki=0.1)
    assert problems(plan(replace(step, acceleration=10.0, jerk_time=0.1), speed=loop), axis) == []
    bad = replace(step, acceleration=acceleration, jerk_time=jerk_time)
    found = problems(plan(bad, speed=loop), axis)
    assert any("acceleration or a jerk time" in one.sentence for one in found)


def test_loops_that_a_plan_does_not_set_do_nothing(axis: Axis) -> None:
    plan = ResistanceHolds().plan(axis)
    assert (plan.speed.Kp, plan.speed.Ki, plan.speed.acceleration, plan.speed.friction) == (0,) * 4
    assert (plan.position.Kp, plan.position.speed_limit) == (0.0, 0.0)
    assert plan.torque_filters == ()
