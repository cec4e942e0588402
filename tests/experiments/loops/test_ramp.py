"""The test of a ramp: planned, played on machines that are known, held against the loop."""

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.loops import tuned
from benchmarks.machines import random_axis

from oarlock.control.ramp import Ramp
from oarlock.control.speed_design import usual_speed
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.loops.ramp_response import RampResult, read_speed_ramp
from oarlock.experiments.loops.speed_ramp import SpeedRamp, usual_ramp
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.position_loop import KEY as POSITION_KEY
from oarlock.machine.position_loop import PositionTarget
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.quantities.kinds import RPM
from oarlock.records import Check, Record
from oarlock.records.settings import number
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.speed_ramp import with_ahead
from tests.conftest import play_on_model
from tests.experiments.loops.test_speed_response import known
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def a_ramp(axis: Axis, **changes: float) -> SpeedRamp:
    speed = usual_speed(axis)
    usual = usual_ramp(axis, speed)
    return replace(SpeedRamp(speed=speed, amplitude=usual.change, acceleration=usual.acceleration,
                             jerk_time=usual.jerk_time), **changes)  # type: ignore[arg-type]  # fmt: skip


def answer(
    test: SpeedRamp, axis: Axis, plant: PlantParameters | None = None
) -> tuple[Record, RampResult]:
    record = play_on_model(test, axis, plant or draw("winch", 0))
    found = read(record, axis)
    assert isinstance(found, RampResult)
    return record, found


@pytest.fixture(scope="module")
def played(axis: Axis) -> tuple[Record, RampResult]:
    return answer(a_ramp(axis), axis)


@pytest.mark.parametrize("share", ["0", "1"])
def test_it_lags_as_predicted(axis: Axis, share: str) -> None:
    fed = with_ahead(axis, share)
    _, found = answer(a_ramp(fed), fed)
    assert found.holds, found.said
    assert found.measured.behind == pytest.approx(found.expected.behind, rel=0.10, abs=1.0 * RPM)
    assert found.measured.beyond == pytest.approx(found.expected.beyond, rel=0.10, abs=1.0 * RPM)
    assert found.expected.behind < 5.0 * RPM if share == "1" else found.expected.behind > 12.0 * RPM
    assert found.start == pytest.approx(usual_speed(axis), rel=0.02)
    assert found.figures["agrees"] == 1.0
    assert found.figures["lag"] == found.measured.behind


def test_it_lags_as_predicted_on_random_machines() -> None:
    """Coarse encoders among them, whose steps are higher than the lag."""
    off = []
    for seed in (900, 903, 904, 905, 907, 909):
        printed, plant = random_axis(np.random.default_rng(seed))
        tuned_axis = tuned(known(printed, plant))
        record, found = answer(a_ramp(tuned_axis), tuned_axis, plant)
        assert found.holds, (seed, found.said)
        off.append(found.measured.behind / found.expected.behind - 1.0)
        del record
    assert np.max(np.abs(off)) < 0.15
    assert np.median(np.abs(off)) < 0.08


def test_downward_is_a_ramp_as_well(axis: Axis) -> None:
    down = a_ramp(axis, amplitude=-0.5 * usual_speed(axis))
    _, found = answer(down, axis)
    assert found.holds, found.said
    assert found.asked[-1] == pytest.approx(down.amplitude, rel=1e-3)
    assert found.measured.behind == pytest.approx(found.expected.behind, rel=0.12)


def test_a_ramp_without_jerk_time(axis: Axis) -> None:
    _, found = answer(a_ramp(axis, jerk_time=0.0), axis)
    assert found.holds, found.said


@pytest.mark.parametrize("share", ["0", "1"])
def test_more_inertia_than_is_known_is_seen(axis: Axis, share: str) -> None:
    fed, truth = with_ahead(axis, share), draw("winch", 0)
    heavy = replace(truth, inertia=1.5 * (truth.inertia + truth.load_inertia), load_inertia=0.0,
                    stiffness=0.0)  # fmt: skip
    _, found = answer(a_ramp(fed), fed, heavy)
    assert not found.holds
    assert found.measured.behind > 1.3 * found.expected.behind
    assert "lag" in {check.code for check in found.checks if not check.passed}


def test_a_ramp_that_the_current_cannot_follow_says_so(axis: Axis) -> None:
    _, found = answer(a_ramp(axis, acceleration=6000.0), axis)
    failed = {check.code: check.sentence for check in found.checks if not check.passed}
    assert "linear" in failed
    assert "current limit" in failed["linear"]


def judged(played: tuple[Record, RampResult], axis: Axis, code: str, off: float) -> Check:
    """Return a check where the speed is off by so many times what it allows, all the while."""
    record, found = played
    s = record.settings
    row = record.sample_time * number(s, "decimation")
    seconds = (
        np.arange(record.rows) % round(number(s, "rows_before") + number(s, "rows_after")) * row
    )
    end = 0.012 + found.ramp.duration
    when = (seconds > 0.012) & (seconds < end) if code == "lag" else seconds > end - 0.01
    sentence = next(check.sentence for check in found.checks if check.code == code)
    allowed = float(sentence.split("(")[1].split(" rpm")[0]) * RPM
    more = np.where(when, (-off if code == "lag" else off) * allowed, 0.0)
    bent = replace(record, columns={**record.columns, "speed": record["speed"] + more})
    return next(check for check in read_speed_ramp(bent, axis).checks if check.code == code)


@pytest.mark.parametrize("code", ["lag", "past"])
@pytest.mark.parametrize(("off", "holds"), [(0.6, True), (1.6, False)])
def test_what_is_allowed_holds_and_half_more_does_not(
    axis: Axis, played: tuple[Record, RampResult], code: str, off: float, holds: bool
) -> None:
    check = judged(played, axis, code, off)
    assert check.passed == holds, check.sentence


def test_another_ramp_than_was_set_is_seen(axis: Axis, played: tuple[Record, RampResult]) -> None:
    record, _ = played
    lied = replace(record, settings={**record.settings, "amplitude": 30.0})
    asked = next(c for c in read_speed_ramp(lied, axis).checks if c.code == "asked")
    assert not asked.passed
    at_once = np.where(record["speed_ref"] > record["speed_ref"].min() + 0.1,
                       record["speed_ref"].max(), record["speed_ref"])  # fmt: skip
    stepped = replace(record, columns={**record.columns, "speed_ref": at_once})
    asked = next(c for c in read_speed_ramp(stepped, axis).checks if c.code == "asked")
    assert not asked.passed  # a drive that knows no ramp
    assert "off the ramp that was set" in asked.sentence
    with pytest.raises(InputError, match="a ramp of nothing"):
        read_speed_ramp(replace(record, settings={**record.settings, "amplitude": 0.0}), axis)


def test_the_plan_is_sound_and_announced(axis: Axis) -> None:
    test = a_ramp(axis)
    plan = test.plan(axis)
    assert not problems(plan, axis)
    assert "turns" in announced(test, axis)
    there = [step for step in plan.steps if step.speed > test.speed]
    assert len(there) == test.repeats
    for step in there:
        assert (step.acceleration, step.jerk_time) == (test.acceleration, test.jerk_time)
        assert step.duration > test.ramp.duration
        assert step.record
    assert plan.steps[-1].speed == 0.0
    assert f"{test.acceleration:.3g} rad/s²" in test.title(axis)
    assert plan.limits.speed > test.speed + test.amplitude


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"amplitude": 0.0}, "a change of speed"),
        ({"acceleration": 0.0}, "an acceleration"),
        ({"acceleration": float("nan")}, "an acceleration"),
        ({"jerk_time": -0.01}, "a change of speed"),
        ({"acceleration": 0.5}, "longer than 20"),
        ({"repeats": 0}, "0 times"),
        ({"repeats": 41}, "41 times"),
    ],
)
def test_a_ramp_without_sense_is_refused(axis: Axis, changes: dict[str, float], words: str) -> None:
    with pytest.raises(InputError, match=words):
        a_ramp(axis, **changes).plan(axis)


def test_the_axiss_own_ramp_is_the_usual_one(axis: Axis) -> None:
    speed = usual_speed(axis)
    free = usual_ramp(axis, speed)
    torque = 0.3 * axis.machine.torque_constant * axis.rated
    assert axis.machine.inertia is not None
    assert free.acceleration == pytest.approx(torque / axis.machine.inertia.value, rel=0.03)
    assert free.change == pytest.approx(speed, rel=0.02)
    own = PositionTarget(acceleration=123.0, jerk_time=0.05)
    mine = replace(axis, loops=axis.loops.with_target(POSITION_KEY, own))
    assert usual_ramp(mine, speed) == Ramp(change=free.change, acceleration=123.0, jerk_time=0.05)
    sharp = replace(axis, loops=axis.loops.with_target(POSITION_KEY, replace(own, jerk_time=None)))
    assert usual_ramp(sharp, speed).jerk_time == 0.0
    fast = usual_ramp(axis, 0.8 * axis.top_speed)
    assert 0.0 < fast.change <= 0.205 * axis.top_speed
    assert axis.loops[KEY].gains is not None
