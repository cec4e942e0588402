"""The open project: edits, undo, adoption, staleness, the logbook, and what survives."""

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from oarlock.control.current import design_current
from oarlock.control.designs import follows, retuned
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.kinds import record_kind
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.reading import read, remark, sparkline
from oarlock.handover.values import handover_values
from oarlock.machine import Axis, CurrentTarget, TargetKind
from oarlock.machine.loop import Loops
from oarlock.machine.speed_loop import SpeedGains
from oarlock.records import Record
from oarlock.records.quantity import KEYS
from oarlock.session.perform import Performed, target_settings
from oarlock.session.readings import read_again, wanted
from oarlock.session.session import Session
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.store.project import Project
from oarlock.views.current import (
    crossover_target,
    picture,
    target_from,
    target_texts,
    why_Kp,
)
from oarlock.views.handover import (
    Proven,
    error_sequences,
    handover_picture,
    make_proof,
    mapping_of,
    steps_for_proof,
)
from oarlock.views.identify import answer, compared, consequences, tiles
from oarlock.views.logbook import action, cells, gave, summary
from oarlock.views.machine import characteristic_why, machine_picture
from oarlock.views.rail import stages
from oarlock.views.stage import State
from oarlock.views.strip import current_mark, strip
from tests.conftest import play_on_model
from tests.store.test_project import run as blank_run

Play = Callable[..., object]


def performed(session: Session, experiment: Experiment, plant: PlantParameters) -> Performed:
    """Play an experiment on a model and make of it what `perform` would."""
    axis, plan = session.axis, experiment.plan(session.axis)
    record = play_on_model(experiment, axis, plant)
    reading = read(record, axis.with_gains(plan.gains)) if record.ended == "done" else None
    run = blank_run(
        0,
        axis=axis.name,
        kind=record_kind(record),
        title=experiment.title(axis),
        ended=record.ended,
        settings={
            **experiment.settings(axis),
            "plant": {"R": axis.machine.R.value, "Ld": axis.machine.Ld.value,
                      "Lq": axis.machine.Lq.value},
            **target_settings(record_kind(record), axis),
        },
        gains=Loops().with_gains("current", plan.gains).numbers(),
        figures=reading.figures if reading else {},
        remark=remark(reading, record),
        sparkline=sparkline(reading),
    )  # fmt: skip
    return Performed(run=run, record=record, reading=reading)


_PLAYED: dict[str, Performed] = {}  # each once for all tests: the drive is the same


def once(name: str, session: Session, experiment: Experiment, plant: PlantParameters) -> Performed:
    if name not in _PLAYED:
        _PLAYED[name] = performed(session, experiment, plant)
    return _PLAYED[name]


@pytest.fixture
def identified(session: Session, truth: PlantParameters) -> Session:
    """A session in which all quantities were measured and adopted."""
    for quantity in KEYS:
        run = session.keep(once(quantity, session, experiment_for(quantity), truth))
        found = session.now.finding(quantity)
        assert found is not None
        session.adopt(found[1], run)
    return session


@pytest.fixture
def verified(identified: Session, truth: PlantParameters) -> Session:
    """The same with gains in use and both steps played."""
    session = identified
    session.edit("take", session.with_target(session.axis.target))
    for name in ("d", "q"):
        step = CurrentStep(axis_name=name, amplitude=1.4, bias=4.0)
        session.keep(once(f"step {name}", session, step, truth))
    return session


def reopened(session: Session) -> Session:
    path = session.path
    assert session.close()
    return Session(Project.open(path), lambda call: call())


def state(session: Session, key: str) -> State:
    return next(stage.state for stage in stages(session.now) if stage.key == key)


# Edits


def test_an_entry_is_taken_saved_and_undone(session: Session) -> None:
    seen: list[Axis] = []
    session.axis_changed.connect(seen.append)
    session.enter("machine.R", "2.0 ohm l-l")
    assert session.axis.machine.R.value == 1.0
    assert session.undo_label == "Set resistance R"
    session.undo()
    assert session.axis.machine.R.value == pytest.approx(0.82)
    session.redo()
    again = reopened(session)
    assert again.axis.machine.R.best.source == "2.0 ohm l-l"
    assert len(seen) == 3
    again.close()


def test_a_refused_entry_changes_nothing(session: Session) -> None:
    before = session.axis
    with pytest.raises(InputError):
        session.enter("machine.R", "zero")
    assert session.axis is before
    assert session.undo_label == ""
    session.undo()
    session.redo()
    assert session.axis is before


def test_the_dead_times_cost_follows_bus_and_frequency(session: Session) -> None:
    before = session.axis.inverter.dead_voltage.value
    session.enter("inverter.dead_time", "2 us")
    assert session.axis.inverter.dead_voltage.value == pytest.approx(2.0 * before)
    again = reopened(session)
    assert again.axis.inverter.dead_voltage.value == pytest.approx(2.0 * before)
    again.close()


def test_new_pole_pairs_convert_the_voltage_constant_again(session: Session) -> None:
    before = session.axis.machine.psi.value
    session.enter("machine.pole_pairs", "16 poles")
    assert session.axis.machine.psi.value == pytest.approx(before / 2.0)


def test_a_drag_is_one_edit_and_can_be_taken_back(session: Session) -> None:
    for hertz in (500, 600, 700):
        session.drag(session.with_target(crossover_target(hertz, 62.5e-6)), "current")
    assert session.dragging
    session.end_drag("Set crossover")
    assert session.undo_label == "Set crossover"
    assert session.axis.target.value == pytest.approx(math.tau * 700)
    session.undo()
    assert session.axis.gains is None
    session.drag(session.with_target(crossover_target(300, 62.5e-6)), "current")
    session.end_drag("Set crossover", keep=False)
    assert session.axis.gains is None
    session.end_drag("nothing was dragged")


def test_gains_follow_the_machine_while_they_follow_the_target(session: Session) -> None:
    session.edit("take", session.with_target(session.axis.target))
    first = session.axis.gains
    assert first is not None
    assert follows(session.axis, "current")
    session.enter("machine.Lq", "17.0 mH l-l")
    second = session.axis.gains
    assert second is not None
    assert second.Kp_q == pytest.approx(first.Kp_q / 2.0, rel=5e-3)


def test_gains_taken_from_a_run_stay_when_the_machine_changes(verified: Session) -> None:
    run = verified.now.latest("current step")
    assert run is not None
    verified.edit("faster", verified.with_target(crossover_target(1200, 62.5e-6)))
    verified.take_back(run)
    assert verified.axis.gains is not None
    assert verified.axis.gains.Kp_q == run.gains["current.Kp_q"]
    assert follows(verified.axis, "current")  # the same target on the same machine
    slow = CurrentTarget(kind=TargetKind.CROSSOVER, value=math.tau * 400)
    verified.edit("old gains", verified.axis.with_target(slow))
    assert not follows(verified.axis, "current")
    verified.enter("machine.Ld", "17 mH l-l")
    assert verified.axis.gains.Kp_q == run.gains["current.Kp_q"]


def test_a_run_without_gains_cannot_be_taken_back(session: Session) -> None:
    with pytest.raises(InputError, match="no gains"):
        session.take_back(blank_run(1, gains={}))


def test_an_impossible_target_keeps_the_old_gains(session: Session) -> None:
    session.edit("take", session.with_target(session.axis.target))
    before = session.axis.gains
    session.enter("inverter.bus_voltage", "300 V")
    slow = session.axis.parameter("inverter.control_frequency")
    axis = session.axis.with_parameter(
        "inverter.control_frequency", replace(slow, printed=replace(slow.printed, value=4000.0))
    )
    assert retuned(session.axis, axis).gains == before


# Findings


def test_adopting_uses_what_was_found_and_marks_the_run(identified: Session) -> None:
    axis = identified.axis
    for path in ("machine.R", "machine.Ld", "machine.Lq", "inverter.dead_voltage"):
        parameter = axis.parameter(path)
        assert parameter.adopted is not None
        assert parameter.adopted.source.startswith("run ")
    assert all(run.used for run in identified.runs)
    assert axis.machine.R.printed.source == "1.64 ohm l-l, 20 °C"


def test_a_repeat_takes_the_mark_over(identified: Session, truth: PlantParameters) -> None:
    run = identified.keep(performed(identified, experiment_for("resistance"), truth))
    found = identified.now.finding("resistance")
    assert found is not None
    assert found[0].id == run.id
    identified.adopt(found[1], run)
    used = [r.id for r in identified.runs if r.kind == "resistance" and r.used]
    assert used == [run.id]


def test_tiles_and_answers_follow_the_findings(session: Session, truth: PlantParameters) -> None:
    assert answer(session.now, tiles(session.now))[0] == "Nothing measured yet"
    run = session.keep(performed(session, experiment_for("resistance"), truth))
    first = tiles(session.now)[0]
    assert first.holds
    assert not first.adopted
    assert answer(session.now, tiles(session.now)) == (
        "1 of 3 quantities hold",
        "Not adopted yet: R.",
    ) or ("hold" in answer(session.now, tiles(session.now))[0])
    found = session.now.finding("resistance")
    assert found is not None
    rows = {row.name: row for row in consequences(session.axis, found[1])}
    assert rows["K~i~  both"].before != rows["K~i~  both"].after
    session.adopt(found[1], run)
    assert "Ld, Lq" in answer(session.now, tiles(session.now))[1]
    assert compared(session.now, "resistance").deviation == pytest.approx(0.05, abs=0.02)
    assert compared(session.now, "inductance_d").deviation is None
    assert state(session, "identify") is State.STALE


def test_a_failed_check_is_said_first(session: Session, truth: PlantParameters) -> None:
    doubled = replace(truth, R=1.66)
    session.keep(performed(session, experiment_for("resistance"), doubled))
    head, _ = answer(session.now, tiles(session.now))
    assert head == "R does not hold, yet"
    assert "against datasheet" in tiles(session.now)[0].verdict
    assert state(session, "identify") is State.ATTENTION


def test_all_name_where_paper_and_machine_differ(identified: Session) -> None:
    head, line = answer(identified.now, tiles(identified.now))
    assert head == "All six quantities hold"
    assert "L~q~ (−9 %)" in line or "L~q~ (−8 %)" in line
    assert state(identified, "identify") is State.VALID


# The current loop


def test_the_picture_is_of_the_gains_in_use(verified: Session) -> None:
    shown = picture(verified.axis, "q", 1.4, 1.6e-3)
    assert shown.follows
    assert shown.answer == "849 Hz, with 61° to spare"
    assert shown.verdict == "good"
    assert shown.figures.overshoot == pytest.approx(0.036, abs=0.002)
    low, high = shown.band
    assert (low <= shown.current + 1e-9).all()
    assert (high >= shown.current - 1e-9).all()
    assert target_texts(shown)[TargetKind.BANDWIDTH] == "1970"
    assert "× 0.994" in why_Kp(shown)[0]


def test_the_band_has_the_set_point_weight_of_the_gains(verified: Session) -> None:
    assert verified.axis.gains is not None
    axis = verified.axis.with_gains(replace(verified.axis.gains, weight=0.5))
    shown = picture(axis, "q", 1.4, 1.6e-3)
    low, high = shown.band
    assert (low <= shown.current + 1e-9).all()
    assert (high >= shown.current - 1e-9).all()
    assert (high - low).max() < 0.2


@pytest.mark.parametrize(
    ("hertz", "words"),
    [(600, "to spare"), (1200, "brisk"), (1500, "risky"), (3000, "risky")],
)
def test_the_answer_warns_as_the_margin_shrinks(session: Session, hertz: float, words: str) -> None:
    axis = session.with_target(crossover_target(hertz, 62.5e-6))
    assert words in picture(axis, "q", 1.0, 1.6e-3).answer
    assert picture(axis, "q", 1.0, 1.6e-3).crossover <= 1778


def test_a_step_beyond_the_bus_is_said(session: Session) -> None:
    axis = session.with_target(session.axis.target)
    shown = picture(axis, "q", 5.0, 1.6e-3)
    assert shown.cut
    assert "the bus cuts 5 A" in shown.reason[1]


def test_unstable_gains_are_called_unstable(session: Session) -> None:
    axis = session.with_target(session.axis.target)
    assert axis.gains is not None
    wild = axis.with_gains(replace(axis.gains, Kp_q=500.0))
    shown = picture(wild, "q", 1.0, 1.6e-3)
    assert "unstable" in shown.answer
    assert not shown.follows
    assert "taken from a run" in why_Kp(shown)[0]


@pytest.mark.parametrize(
    ("kind", "text", "value"),
    [
        (TargetKind.CROSSOVER, "900", math.tau * 900),
        (TargetKind.CROSSOVER, "0.9 kHz", math.tau * 900),
        (TargetKind.PHASE_MARGIN, "60 °", math.pi / 3),
        (TargetKind.TIME_CONSTANT, "200 µs", 2e-4),
        (TargetKind.BANDWIDTH, "1.5k", math.tau * 1500),
    ],
)
def test_typed_targets(kind: TargetKind, text: str, value: float) -> None:
    assert target_from(kind, text).value == pytest.approx(value)


@pytest.mark.parametrize("text", ["fast", "", "-3", "nan", "0"])
def test_typed_nonsense_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        target_from(TargetKind.CROSSOVER, text)


def test_verification_belongs_to_the_gains_it_ran_with(verified: Session) -> None:
    assert state(verified, "current") is State.VALID
    assert verified.now.verification("q") is not None
    verified.edit("faster", verified.with_target(crossover_target(1000, 62.5e-6)))
    assert verified.now.verification("q") is None
    assert state(verified, "current") is State.STALE
    verified.undo()
    assert state(verified, "current") is State.VALID


def test_a_changed_machine_makes_the_verification_stale(verified: Session) -> None:
    m = verified.axis.machine.Ld
    assert m.adopted is not None
    moved = replace(m, adopted=replace(m.adopted, value=1.02 * m.value))
    verified.edit("moved", verified.axis.with_parameter("machine.Ld", moved))
    assert state(verified, "current") is State.STALE


def test_the_strip_shows_what_is_known(verified: Session) -> None:
    shown = picture(verified.axis, "q", 1.4, 1.6e-3)
    made = strip(verified.axis, [current_mark(shown, verified.axis, verified=True)])
    by_kind = {marker.kind: marker for marker in made.markers}
    assert by_kind["pole_q"].measured
    assert by_kind["pole_q"].hertz == pytest.approx(8.8, abs=0.2)
    assert by_kind["loop"].handle
    assert made.nyquist / made.loops[0].hertz == pytest.approx(9.4, abs=0.1)
    assert made.limits == pytest.approx((888.9, 1333.3, 1777.8), abs=0.1)


# Machine


def test_the_map_answers_in_a_sentence(session: Session) -> None:
    shown = machine_picture(session.axis, 251.0)
    assert shown.answer == "25.9 N·m up to 1374 rpm, then 4.9 kW at most"
    assert shown.printed is None
    assert shown.at_cursor[0] == pytest.approx(18.7, abs=0.1)
    assert "outside" in characteristic_why(shown)[0]
    generous = session.axis.with_parameter(
        "inverter.bus_voltage",
        replace(session.axis.inverter.bus_voltage, printed=replace(
            session.axis.inverter.bus_voltage.printed, value=1500.0)),
    )  # fmt: skip
    assert "up to the top speed" in machine_picture(generous, 1e9).answer


def test_the_datasheets_map_stands_behind_the_measured_one(identified: Session) -> None:
    shown = machine_picture(identified.axis, 251.0)
    assert shown.printed is not None
    assert shown.printed.torque[0] > shown.best.torque[0]


# Handover


def test_handover_waits_for_gains_and_proof(verified: Session) -> None:
    shown = handover_picture(verified.now, None)
    assert shown.patch is not None
    assert shown.answer == "Not yet: not proven"
    assert shown.may_write == "Held back until it is proven"
    assert shown.may_prove == ""
    assert shown.unmapped == ("CUR_TRACK",)
    values = shown.patch.changes
    assert len(values) == 15

    proven = make_proof(
        shown.patch.after,
        mapping_of(verified.now),
        handover_values(verified.axis),
        error_sequences(verified.record_sources(steps_for_proof(verified.now))),
    )
    after = handover_picture(verified.now, proven)
    assert after.answer == "Yes, once it is written"
    assert after.may_write == ""
    after_edit = verified.with_target(crossover_target(500, 62.5e-6))
    verified.edit("slower", after_edit)
    stale = handover_picture(verified.now, proven)
    assert stale.proof is None  # a proof of other gains proves nothing
    assert "run one in Current loop" in stale.may_prove


def test_an_option_that_the_header_has_no_place_for_is_told(verified: Session) -> None:
    gains = SpeedGains(Kp=0.5, Ki=4.0, friction=0.2)
    verified.edit("friction", verified.axis.with_loop_gains("speed", gains))
    shown = handover_picture(verified.now, None)
    assert shown.answer == "Not all of it: 1 number has no place"
    assert "lacks SPD_FRICTION" in shown.reason
    assert shown.labels["speed.friction"] == "friction ahead"
    keys = {value.key for value in handover_values(verified.axis)}
    assert set(shown.labels) <= keys  # each that may be mapped can be handed over
    assert "speed.observer_step" not in shown.labels


def test_handover_tells_what_is_in_the_way(session: Session, tmp_path: Path) -> None:
    assert "no gains" in handover_picture(session.now, None).trouble
    session.edit("take", session.with_target(session.axis.target))
    session.show(header=str(tmp_path / "gone.h"))
    assert "no such file" in handover_picture(session.now, None).reason
    session.show(header="")
    assert handover_picture(session.now, None).answer == "No header chosen yet"
    assert state(session, "handover") is State.EMPTY
    session.written("gains.h", {v.key: v.value for v in handover_values(session.axis)})
    assert state(session, "handover") is State.VALID
    session.edit("slower", session.with_target(crossover_target(500, 62.5e-6)))
    assert state(session, "handover") is State.STALE


def test_without_a_compiler_the_file_may_still_be_written(verified: Session) -> None:
    from oarlock.handover.proof import Proof

    shown = handover_picture(verified.now, None)
    assert shown.patch is not None
    proof = Proof(lanes=(), missing="no C compiler here: not proven")
    values = handover_values(verified.axis)
    proven = Proven(text=shown.patch.after, values=values, proof=proof)
    after = handover_picture(verified.now, proven)
    assert after.answer == "Not proven: no compiler here"
    assert after.may_write == ""


# The logbook


def test_everything_in_the_logbook_survives(verified: Session) -> None:
    step = verified.now.latest("current step")
    assert step is not None
    verified.change_run(step.id, pinned=True, starred=True, note="shaft locked")
    verified.show(stage="current")
    before = verified.runs
    again = reopened(verified)
    assert again.runs == before
    assert again.screen.stage == "current"
    wanted = again.wanted_readings()
    assert {run.kind for run in wanted} == {*KEYS, "current step"}
    waiting = next(s for s in stages(again.now) if s.key == "current")
    assert (waiting.basis, waiting.state) == ("reading its runs", State.EMPTY)
    waiting = next(s for s in stages(again.now) if s.key == "identify")
    assert (waiting.basis, waiting.state) == ("reading its runs", State.EMPTY)
    assert answer(again.now, tiles(again.now))[0] == "Reading what was measured"
    assert again.axis.gains is not None
    faster = replace(again.axis.gains, Kp_q=1.5 * again.axis.gains.Kp_q)
    moved = replace(again.now, axis=again.axis.with_gains(faster))
    changed = next(s for s in stages(moved) if s.key == "current")
    assert changed.basis == "stale: gains changed"  # nothing that is read could tell otherwise
    for run in wanted:
        record = again.record(run.id)
        assert isinstance(record, Record)
        again.take_reading(run.id, read_again(run, record, again.axis))
    assert again.wanted_readings() == []
    assert again.now.verification("q") is not None
    assert state(again, "current") is State.VALID
    assert state(again, "identify") is State.VALID
    again.close()


def test_rows_of_the_logbook(verified: Session) -> None:
    by_kind = {run.kind: run for run in verified.runs}
    assert gave(by_kind["resistance"]).startswith("**R** 0.86")
    assert "849 Hz" in gave(by_kind["current step"])
    assert action(by_kind["current step"], verified.axis) == "in use"
    assert action(by_kind["resistance"], verified.axis) == "adopted"
    row = cells(by_kind["current step"], verified.axis)
    assert row[0] == "10:00"
    assert row[7] == "61°"
    assert summary(()) == ("no runs yet", "0 pinned, 0 starred")
    assert summary(verified.runs)[0] == "8 runs"
    slower = verified.axis.with_gains(
        design_current(verified.axis, crossover_target(300, 62.5e-6)).gains
    )
    assert action(by_kind["current step"], slower) == "use these gains"
    tripped = replace(by_kind["current step"], ended="tripped: over-current")
    assert action(tripped, verified.axis) == "ended early"
    assert gave(blank_run(9, figures={}, gains={})) == "–"


def test_a_tripped_run_is_kept_with_what_it_recorded(
    session: Session, truth: PlantParameters
) -> None:
    plant = replace(truth, sag_at=0.5, sag_to=0.0)
    experiment = experiment_for("resistance")
    made = performed(session, experiment, plant)
    trip = replace(made.run, ended="tripped: under-voltage")
    run = session.keep(replace(made, run=trip))
    assert session.now.latest("resistance") is None or made.record.ended == "done"
    kept = session.record(run.id)
    assert kept is not None
    again = reopened(session)
    assert again.runs[-1].ended == "tripped: under-voltage"
    assert again.record(run.id) is not None
    again.close()


def test_an_empty_project_is_refused_in_one_line(tmp_path: Path) -> None:
    project = Project.create(tmp_path / "p.oarlock", "x")
    with pytest.raises(InputError, match="holds no axis"):
        Session(project, lambda call: call())
    project.close()


def test_the_newest_sweeps_and_pinned_ones_are_read(verified: Session) -> None:
    base = verified.now.runs[-1]
    sweeps = [replace(base, id=100 + n, kind="current sweep", ended="done", pinned=n == 0)
              for n in range(4)]  # fmt: skip
    now = replace(verified.now, runs=(*verified.now.runs, *sweeps), readings={})
    found = {run.id for run in wanted(now)}
    assert found >= {100, 102, 103}
    assert 101 not in found


def test_an_entry_that_is_hardly_meant_is_asked_about(session: Session) -> None:
    assert session.doubt("machine.R", "0.9 ohm") == ""
    assert "is usual" in session.doubt("machine.R", "900 ohm")
    with pytest.raises(InputError):
        session.doubt("machine.R", "apples")
