"""The order of sensing: what waits for what, what goes stale, and what may be used."""

import math
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from oarlock.errors import InputError
from oarlock.practice.truth import draw
from oarlock.records import Finding
from oarlock.session.perform import perform
from oarlock.session.readings import read_again
from oarlock.session.session import Session
from oarlock.store.project import Project
from oarlock.views import sensing as view
from oarlock.views import sensing_experiments as played
from oarlock.views.handover import handover_picture
from oarlock.views.logbook import gave
from oarlock.views.rail import stages
from oarlock.views.stage import State
from tests.model_link import Hasty, ModelLink


@pytest.fixture
def raw(unsensed_path: Path) -> Iterator[Session]:
    """A session in which nothing is known of the sensors."""
    made = Session(Project.open(unsensed_path), lambda call: call())
    yield made
    made.close()


@pytest.fixture
def link() -> ModelLink:
    return ModelLink(draw("winch", 0))


def do(session: Session, link: ModelLink, *kinds: str) -> Finding:
    """Do steps as the stage does them."""
    finding = None
    for kind in kinds:
        step = view.steps(session.now)[kind]
        assert not step.waits_for, step.waits_for
        experiment = view.experiment_of(kind, session.now)
        done = perform(experiment, session.axis, link, lambda _f, _d: None, Hasty())
        run = session.keep(done)
        assert isinstance(done.reading, Finding)
        finding = done.reading
        if view.may_adopt(session.now, run, finding):
            session.adopt(finding, run)
    assert finding is not None
    return finding


def state(session: Session, key: str) -> State:
    return next(stage.state for stage in stages(session.now) if stage.key == key)


READY = (played.REST, played.HAND, played.PULSES)


def test_each_step_waits_for_what_comes_before(raw: Session, link: ModelLink) -> None:
    made = view.steps(raw.now)
    assert list(made) == [
        played.REST, played.PULSES, played.HAND, played.TURN, played.PUSH, played.SEARCH,
        played.SPIN, played.START,
    ]  # fmt: skip
    assert made[played.REST].waits_for == ""
    assert made[played.PULSES].waits_for == "Currents at rest"
    assert made[played.TURN].waits_for == "Currents at rest"
    assert state(raw, "sensing") is State.EMPTY
    assert next(s for s in stages(raw.now) if s.key == "identify").basis == "waits for Sensing"
    assert view.answer(raw.now, made)[0] == "Nothing is known of the sensors yet"
    do(raw, link, played.REST)
    assert view.steps(raw.now)[played.PULSES].waits_for == ""
    assert view.steps(raw.now)[played.TURN].waits_for == "Phases in order"
    do(raw, link, played.HAND, played.PULSES)
    assert view.steps(raw.now)[played.TURN].waits_for == ""
    assert view.steps(raw.now)[played.PUSH].waits_for == "One turn each way, forced"
    do(raw, link, played.TURN, played.PUSH)
    made = view.steps(raw.now)
    assert all(made[kind].holds for kind in view.needed_for(raw.axis))
    head, reason = view.answer(raw.now, made)
    assert head.startswith("Yes: the angle is right to 0.")
    assert "forward is forward" in head
    assert "the mean of both is free of it" in reason
    assert state(raw, "sensing") is State.VALID
    true = math.degrees(draw("winch", 0).zero) % 360.0
    assert math.degrees(raw.axis.sensor.zero.value) % 360.0 == pytest.approx(true, abs=0.1)
    assert gave(raw.runs[3]).startswith("**zero**")
    assert gave(raw.runs[0]) == "**offsets**"


def test_what_fails_stops_everything_below(raw: Session) -> None:
    plant = draw("winch", 0)
    bad = ModelLink(replace(plant, gains=(1.0, 0.69, 1.0)))
    do(raw, bad, played.REST, played.HAND)
    before = raw.axis
    finding = do(raw, bad, played.PULSES)
    assert not finding.holds
    assert raw.axis == before  # nothing adopted
    made = view.steps(raw.now)
    assert made[played.TURN].waits_for == "Phases in order"
    head, reason = view.answer(raw.now, made)
    assert head.startswith("Not yet: sensor b reads 3")
    assert "Sensor b reads" in reason
    assert "Nothing turns until it does" in reason
    assert state(raw, "sensing") is State.ATTENTION


def test_a_change_of_what_it_rested_on_makes_it_stale(raw: Session, link: ModelLink) -> None:
    do(raw, link, *READY, played.TURN, played.PUSH)
    raw.enter("sensor.pairs", "1")
    made = view.steps(raw.now)
    assert made[played.HAND].stale
    assert made[played.TURN].stale
    assert not made[played.REST].stale
    assert view.answer(raw.now, made)[0].startswith("Not any more")
    assert state(raw, "sensing") is State.STALE
    raw.undo()
    assert state(raw, "sensing") is State.VALID


def test_what_was_measured_before_is_being_read_when_a_project_opens(
    raw: Session, link: ModelLink, unsensed_path: Path
) -> None:
    do(raw, link, *READY)
    raw.close()
    again = Session(Project.open(unsensed_path), lambda call: call())
    assert view.answer(again.now, view.steps(again.now))[0] == "Reading what was measured"
    told = next(stage for stage in stages(again.now) if stage.key == "sensing")
    assert (told.line, told.basis) == ("measured before", "reading its runs")
    for run in again.wanted_readings():
        record = again.record(run.id)
        assert record is not None
        again.take_reading(run.id, read_again(run, record, again.axis))
    assert view.answer(again.now, view.steps(again.now))[0] == "Not yet: 3 of 5 steps hold"
    again.close()


def test_identify_goes_stale_with_sensing(raw: Session, link: ModelLink) -> None:
    do(raw, link, *READY, played.TURN)
    from oarlock.experiments.identify.experiments import experiment_for

    done = perform(experiment_for("inductance_d"), raw.axis, link, lambda _f, _d: None, Hasty())
    run = raw.keep(done)
    assert isinstance(done.reading, Finding)
    raw.adopt(done.reading, run)
    assert next(s for s in stages(raw.now) if s.key == "identify").basis != "stale: new sensing"
    zero = raw.axis.sensor.zero
    assert zero.adopted is not None
    moved = replace(zero, adopted=replace(zero.adopted, value=zero.value + 0.1))
    raw.edit("another zero", raw.axis.with_parameter("sensor.zero", moved))
    assert state(raw, "identify") is State.STALE


def test_a_weaker_method_never_replaces_a_stronger(raw: Session, link: ModelLink) -> None:
    do(raw, link, *READY, played.TURN)
    zero = raw.axis.sensor.zero.value
    do(raw, link, played.SEARCH)
    assert raw.axis.sensor.zero.value == zero
    do(raw, link, played.PUSH, played.PULSES)
    sources = view.zero_sources(raw.now)
    assert [s.name for s in sources] == ["forced turn", "pulses", "search", "pushes"]
    assert all(s.value is not None for s in sources)
    assert [s.in_use for s in sources] == [True, False, False, False]
    assert view.disagreement(sources) is None
    apart = [replace(sources[0], value=(sources[0].value or 0.0) + 0.3), *sources[1:]]
    assert view.disagreement(apart) == pytest.approx(0.3, abs=0.05)


def test_where_it_may_hardly_move_the_search_stands_for_the_turn(
    raw: Session, link: ModelLink
) -> None:
    do(raw, link, *READY, played.SEARCH)
    assert raw.axis.sensor.is_found
    assert view.steps(raw.now)[played.PUSH].waits_for == ""
    assert do(raw, link, played.PUSH).holds


def test_the_settings_for_no_sensor_are_worked_out_aside(raw: Session, link: ModelLink) -> None:
    do(raw, link, *READY, played.SPIN)
    if not played.start_is_known(raw.now):
        assert view.steps(raw.now)[played.START].trouble == "Its settings are being worked out"
    played.work_out_start(played.start_key(raw.now))
    step = view.steps(raw.now)[played.START]
    assert step.trouble == ""
    assert step.movement is not None
    assert "turns forward and back" in step.movement.sentence
    assert step.announced == step.movement.sentence
    raw.show(units={"speed": "rad/s"})
    other = view.steps(raw.now)[played.START].announced
    assert " rpm" not in other
    assert " rad/s" in other


def test_sensing_is_handed_over(raw: Session, link: ModelLink) -> None:
    do(raw, link, *READY, played.TURN)
    raw.edit("gains", raw.with_target(raw.axis.target))
    shown = handover_picture(raw.now, None)
    assert shown.patch is not None
    by_symbol = {change.symbol: change for change in shown.patch.changes}
    assert by_symbol["ANGLE_ZERO"].will_be == raw.axis.sensor.zero.value
    count = raw.axis.inverter.current_count
    assert by_symbol["CUR_OFFSET_A"].will_be == raw.axis.inverter.offset_a.value / count
    assert "ANGLE_SINE_RATIO" in by_symbol


def test_a_project_of_two_axes_keeps_them_apart(raw: Session, link: ModelLink) -> None:
    assert raw.axis_names == ("Sonar winch", "Thruster")
    do(raw, link, played.REST)
    raw.show(map_omega=12.0)
    raw.show(window=(1300, 810))
    offsets = raw.axis.inverter.offset_a.value
    raw.switch("Thruster")
    assert raw.axis.name == "Thruster"
    assert len(raw.runs) == 0
    assert raw.axis.inverter.offset_a.adopted is None
    assert raw.screen.map_omega is None
    assert raw.screen.window == (1300, 810)
    assert raw.screen.practice == "thruster"
    assert raw.undo_label == ""
    raw.show(map_omega=99.0)
    raw.enter("machine.R", "0.03")
    raw.switch("Sonar winch")
    assert raw.axis.inverter.offset_a.value == offsets
    assert raw.screen.map_omega == 12.0
    assert len(raw.runs) == 1
    assert raw.undo_label == "Adopt currents at rest"
    with pytest.raises(InputError, match="no axis Rudder"):
        raw.switch("Rudder")


def test_the_axis_on_screen_is_found_again(unsensed_path: Path) -> None:
    first = Session(Project.open(unsensed_path), lambda call: call())
    first.switch("Thruster")
    first.show(sensing="forced spin")
    first.close()
    again = Session(Project.open(unsensed_path), lambda call: call())
    assert again.axis.name == "Thruster"
    assert again.screen.sensing == "forced spin"
    again.close()


def test_a_run_that_ends_after_the_axis_was_left_goes_home(
    raw: Session, link: ModelLink, unsensed_path: Path
) -> None:
    done = perform(
        view.experiment_of(played.REST, raw.now), raw.axis, link, lambda _f, _d: None, Hasty()
    )
    raw.switch("Thruster")
    raw.keep(done)
    assert len(raw.runs) == 0
    raw.switch("Sonar winch")
    assert len(raw.runs) == 1
