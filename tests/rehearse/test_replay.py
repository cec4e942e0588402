"""Runs of a drive over their simulation: what agrees, and what is named where they do not."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import sensed

from oarlock.cancel import Cancel
from oarlock.control.position_design import design_position
from oarlock.control.speed_design import usual_speed
from oarlock.errors import Cancelled, InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.machine import Axis
from oarlock.machine.speed_loop import SpeedGains
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.display import digits
from oarlock.records import Record, Run
from oarlock.rehearse.replay import Trace, _lacks, can_be_replayed, replay
from oarlock.session.perform import perform
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.replayed import offered, pictured, replayed
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch

PLANT = draw("winch", 0)


@pytest.fixture(scope="module")
def known() -> Axis:
    """The winch with every loop, and its friction known."""
    axis = tuned_winch(PLANT)
    axis = axis.with_loop_gains("position", design_position(axis).gains)
    rub = Estimate(value=PLANT.coulomb, std=0.0, unit="N m", origin=Origin.MEASURED)
    return sensed(axis.adopting("mechanics.coulomb", rub), PLANT)


def experiments(axis: Axis) -> dict[str, Experiment]:
    speed, move = usual_speed(axis), usual_move(axis)
    return {
        "speed step": SpeedStep(speed=speed, amplitude=usual_step(axis, speed), repeats=6),
        "load step": LoadStep(speed=speed, torque=usual_load(axis), repeats=6),
        "position move": PositionMove(distance=move.distance, speed=move.speed,
                                      acceleration=move.acceleration),
        "current step": usual_current_step(axis, "d"),
    }  # fmt: skip


def played(kind: str, axis: Axis, plant: PlantParameters) -> tuple[Run, Record]:
    link = ModelLink(plant, seed=5)
    done = perform(experiments(axis)[kind], axis, link, lambda _f, _d: None, Hasty())
    assert done.run.ended == "done"
    return replace(done.run, id=7), done.record


@pytest.mark.parametrize("kind", ["speed step", "load step", "position move", "current step"])
def test_a_known_machine_agrees_within_its_repeats(known: Axis, kind: str) -> None:
    run, record = played(kind, known, PLANT)
    found = replay(run, record, known)
    followed = {"position move": "speed", "current step": "id"}.get(kind, "speed")
    assert found.traces[followed].ratio < 1.5
    assert found.lacks == ()
    shown = pictured(found)
    assert shown.answer.startswith("The model says what the drive did, within 1")
    assert shown.t.size == shown.follows.measured.size == shown.current.simulated.size
    apart = float(np.sqrt(np.mean(shown.follows.left[0] ** 2)))
    assert shown.follows.apart.startswith(digits(apart, 2))
    scale = 360.0 if kind == "position move" else 1.0
    assert apart < 0.1 * scale * float(np.ptp(shown.follows.measured))


@pytest.mark.parametrize(
    ("kind", "change", "name", "torque"),
    [
        ("speed step", {"coulomb": PLANT.coulomb + 0.3}, "steady torque", 0.3),
        ("load step", {"coulomb": PLANT.coulomb + 0.3}, "steady torque", 0.3),
        ("position move", {"coulomb": PLANT.coulomb + 0.3}, "friction", 0.3),
        ("position move", {"load": 0.4}, "steady torque", 0.4),
    ],
)
def test_what_the_model_lacks_is_named(
    known: Axis, kind: str, change: dict[str, float], name: str, torque: float
) -> None:
    run, record = played(kind, known, replace(PLANT, **change))  # type: ignore[arg-type]
    lack = replay(run, record, known).lacks[0]
    assert lack.name == name
    assert lack.torque == pytest.approx(torque, abs=max(3.0 * lack.std, 0.05))


def test_too_much_inertia_is_named_as_such(known: Axis) -> None:
    light = replace(PLANT, inertia=0.85 * PLANT.inertia, load_inertia=0.85 * PLANT.load_inertia)
    run, record = played("position move", known, light)
    found = replay(run, record, known)
    assert found.lacks[0].name == "inertia"
    move = usual_move(known)
    due = 0.15 * PLANT.total_inertia * move.acceleration
    assert -found.lacks[0].torque == pytest.approx(due, rel=0.3)
    assert pictured(found).answer.startswith("The model has too much inertia: 0.")
    assert pictured(found).answer.endswith(" N·m at the steepest")


def test_of_a_run_one_way_round_friction_and_steady_torque_are_one(known: Axis) -> None:
    """Both would share what there is: two numbers, of which neither is right."""
    t = 1e-3 * np.arange(2000.0)
    speed = np.minimum(60.0 * t, 60.0)
    current = 2.0 + 0.01 * np.random.default_rng(3).standard_normal(t.size)
    missing = 0.4 / known.machine.torque_constant
    traces = {"iq": Trace(measured=current + missing, simulated=np.full(t.size, 2.0),
                          repeatability=math.nan),
              "speed": Trace(measured=speed, simulated=speed, repeatability=math.nan)}  # fmt: skip
    (lack,) = _lacks(traces, t, known)
    assert lack.name == "steady torque"
    assert lack.torque == pytest.approx(0.4, rel=0.02)


def test_loops_are_those_of_the_run_and_the_machine_that_of_today(known: Axis) -> None:
    run, record = played("speed step", known, PLANT)
    loop = known.loops["speed"].gains
    assert isinstance(loop, SpeedGains)
    softer = known.with_loop_gains("speed", replace(loop, Kp=0.4 * loop.Kp))
    assert replay(run, record, softer).traces["speed"].ratio < 1.5
    J = known.machine.inertia
    assert J is not None
    heavy = known.with_parameter("machine.inertia", replace(J, adopted=replace(
        J.best, value=2.0 * J.value)))  # fmt: skip
    assert replay(run, record, heavy).traces["speed"].ratio > 1.7


def test_what_cannot_be_replayed_is_told(known: Axis) -> None:
    run, record = played("current step", known, PLANT)
    for other in (replace(run, kind="flux"), replace(run, ended="stopped"),
                  replace(run, settings={"made_on": run.settings["made_on"]}),
                  replace(run, settings={**run.settings, "by_hand": True})):  # fmt: skip
        assert not can_be_replayed(other)
        with pytest.raises(InputError, match="no test of a loop"):
            replay(other, record, known)
    half = replace(record, columns={n: c[: record.rows // 2] for n, c in record.columns.items()})
    with pytest.raises(InputError, match="where the test gives"):
        replay(run, half, known)
    with pytest.raises(InputError, match="not kept"):
        replayed(run, lambda: None, known)
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        replay(run, record, known, cancel=cancel)


def test_pinned_runs_are_offered_first(known: Axis) -> None:
    run, _ = played("current step", known, PLANT)
    runs = [replace(run, id=n, pinned=n == 2, kind="flux" if n == 9 else run.kind)
            for n in range(1, 10)]  # fmt: skip
    assert [one.id for one in offered(runs)] == [2, 8, 7, 6]
    assert offered([]) == []


def test_one_repeat_alone_does_not_say_how_close_is_close(known: Axis) -> None:
    speed = usual_speed(known)
    step = SpeedStep(speed=speed, amplitude=usual_step(known, speed), repeats=1)
    done = perform(step, known, ModelLink(PLANT, seed=5), lambda _f, _d: None, Hasty())
    found = replay(done.run, done.record, known)
    assert math.isnan(found.traces["speed"].ratio)
    assert "rpm apart" in pictured(found).answer
