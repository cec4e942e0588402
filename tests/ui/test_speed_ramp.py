"""A ramp of speed on the Speed loop stage: typed, predicted, played, made the axis's own."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.control.position_design import position_target
from oarlock.control.speed_design import speed_gains
from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.handover.values import handover_values
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.practice.truth import draw
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.replay import replay
from oarlock.session.perform import perform
from oarlock.ui.frame.app import Application
from oarlock.ui.stages.position.stage import PositionStage
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.views.compare import trace
from oarlock.views.rehearse import usual_scenario
from oarlock.views.screen import RAMP, STEP
from tests.conftest import CALM, wait
from tests.demos import demo_with
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    yield from window_on(qtbot, demo_with(tuned_winch(), tmp_path / "demo"))


def ramping(opened: Application) -> SpeedStage:
    """The stage, its test a ramp."""
    opened.window.show_stage("speed")
    stage = opened.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    while stage.test.which.text() != RAMP:
        stage.test.which.click()
    return stage


def typed(qtbot: QtBot, stage: SpeedStage, name: str, text: str) -> None:
    """Type a number of the ramp as a person does."""
    row = stage.ramping.ahead if name == "ahead" else stage.ramping.rows[name]
    entry = row.entry
    qtbot.mouseDClick(entry, Qt.MouseButton.LeftButton)
    entry.selectAll()
    qtbot.keyClicks(entry, text)
    qtbot.keyClick(entry, Qt.Key.Key_Return)


def test_its_numbers_are_there_while_the_test_is_a_ramp(tuned: Application) -> None:
    stage = ramping(tuned)
    assert stage.ramping.plot.isVisible()
    assert not stage.track_plot.isVisible()
    assert stage.ramping.rows["acceleration"].isVisible()
    assert stage.ramping.plot.geometry() == stage.track_plot.geometry()
    assert stage.test.hand.isEnabled()
    stage.test.which.click()
    assert stage.track_plot.isVisible()
    assert not stage.ramping.plot.isVisible()
    assert not stage.ramping.rows["acceleration"].isVisible()
    while stage.test.which.text() != STEP:
        stage.test.which.click()
    assert "pulls it down" in stage.reasons[0]


def test_what_it_takes_is_said_and_too_much_of_it_too(qtbot: QtBot, tuned: Application) -> None:
    stage = ramping(tuned)
    typed(qtbot, stage, "acceleration", "420")
    typed(qtbot, stage, "change", "300")
    typed(qtbot, stage, "jerk_time", "12")
    shown = stage.ramping.shown
    assert shown is not None
    assert shown.test.ramp.acceleration == 420.0
    assert shown.test.ramp.change == pytest.approx(300 * RPM)
    assert shown.test.ramp.jerk_time == pytest.approx(0.012)
    assert f"takes {1e3 * shown.test.ramp.duration:.0f} ms" in stage.reasons[0]
    assert f"lags by {shown.figures.behind / RPM:.2g} rpm" in stage.reasons[0]
    assert stage.test.experiment() == shown.test
    assert stage.test.size_entry.text() == "300"
    lag = shown.figures.behind
    typed(qtbot, stage, "ahead", "1")
    assert stage.ramping.shown is not None
    assert stage.ramping.shown.figures.behind < 0.5 * lag
    tuned.session.undo()
    assert stage.ramping.shown.figures.behind == lag
    typed(qtbot, stage, "acceleration", "6000")
    assert stage.ramping.shown.runs_out
    assert "accelerate less" in stage.reasons[0]
    assert "limit" in stage.reasons[1]


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("acceleration", "fast", "not a number"),
        ("acceleration", "0", "makes no ramp"),
        ("acceleration", "-3", "makes no ramp"),
        ("change", "0", "makes no ramp"),
        ("jerk_time", "-1", "makes no ramp"),
        ("ahead", "2", "between 0 and 1.5"),
    ],
)
def test_numbers_without_sense_are_refused_in_place(
    tuned: Application, name: str, text: str, words: str
) -> None:
    stage = ramping(tuned)
    before = stage.ramping.shown
    row = stage.ramping.ahead if name == "ahead" else stage.ramping.rows[name]
    row.given.emit(text)
    assert words in stage.panel._message.text()
    assert stage.ramping.shown is before
    stage.ramping.rows["jerk_time"].given.emit("0")
    assert not stage.panel._message.isVisible()
    assert stage.ramping.shown is not None
    assert stage.ramping.shown.test.jerk_time == 0.0


def test_a_ramp_without_end_is_refused_and_can_be_mended(tuned: Application) -> None:
    """Of hours: nothing is worked out for it, and the numbers stay to be typed."""
    stage = ramping(tuned)
    stage.ramping.rows["acceleration"].given.emit("0.001")
    assert stage.ramping.shown is None
    assert not stage.ramping.plot.isVisible()
    assert "longer than 20" in stage.panel._message.text()
    assert stage.ramping.rows["acceleration"].isVisible()
    assert "longer than 20" in stage.test._note.text()
    stage.ramping.rows["acceleration"].given.emit("400")
    assert stage.ramping.shown is not None
    assert stage.ramping.plot.isVisible()
    assert not stage.panel._message.isVisible()


def test_it_becomes_the_axiss_own_and_goes_wherever_that_counts(tuned: Application) -> None:
    stage, session = ramping(tuned), tuned.session
    stage.ramping.rows["acceleration"].given.emit("350")
    stage.ramping.rows["jerk_time"].given.emit("15")
    assert stage.ramping.keep.text() == "make it the axis's ramp"
    stage.ramping.keep.click()
    assert stage.ramping.keep.text() == "is the axis's ramp, handed over"
    assert not stage.ramping.keep.isEnabled()
    assert position_target(session.axis).acceleration == 350.0
    handed = {value.key: value.value for value in handover_values(session.axis)}
    assert handed["ramp.acceleration"] == 350.0
    assert handed["ramp.jerk_time"] == pytest.approx(0.015)
    again = parse_axis(format_axis(session.axis), place="")
    assert position_target(again) == position_target(session.axis)
    alone = session.axis.loops.only(("current", "speed"))
    alone = alone.with_target("position", position_target(session.axis))
    text = usual_scenario(replace(session.axis, loops=alone))
    assert 'acceleration = "350 rad/s2"' in text
    assert 'jerk_time = "15 ms"' in text
    session.undo()
    assert position_target(session.axis).acceleration is None
    assert stage.ramping.keep.isEnabled()


def test_it_is_played_held_against_the_plan_and_replayed(qtbot: QtBot, tuned: Application) -> None:
    stage, session = ramping(tuned), tuned.session
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: tuned.bench.connected)
    assert "turns" in stage.test._note.text()
    qtbot.mouseClick(stage.test.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(session.runs) == 1 and not tuned.bench.busy, 60.0)
    run = session.runs[0]
    assert run.ended == "done", run.ended
    found = session.now.tested(SpeedRamp.name)
    assert found is not None
    result = found[1]
    assert isinstance(result, RampResult)
    assert result.holds, result.said
    assert stage.ramping.plot._result is result
    assert "measured" in stage.ramping.plot._when
    curve = trace(result)
    assert curve is not None
    assert curve.y[-1] == pytest.approx(result.asked[-1] / RPM, rel=0.05)
    stage.ramping.rows["acceleration"].given.emit("300")  # another ramp: not what was measured
    assert stage.ramping.plot._result is None
    wait(qtbot, lambda: not session.unwritten)
    record = session.record(run.id)
    assert record is not None
    over = replay(run, record, session.axis)
    speed = over.traces["speed"]
    assert speed.rms < 0.02 * float(np.ptp(speed.measured))


def test_a_ramp_that_failed_says_why(tuned: Application) -> None:
    stage, session = ramping(tuned), tuned.session
    truth = draw("winch", 0)
    plant = replace(truth, inertia=2.0 * (truth.inertia + truth.load_inertia), load_inertia=0.0,
                    stiffness=0.0)  # fmt: skip
    done = perform(stage.test.experiment(), session.axis, ModelLink(plant, seed=3),
                   lambda _f, _d: None, Hasty())  # fmt: skip
    session.keep(done)
    assert speed_gains(session.axis) is not None
    assert "It lags by" in stage.reasons[1] or "past the end" in stage.reasons[1]


def test_torque_ahead_is_one_number_on_both_stages(tuned: Application) -> None:
    stage = ramping(tuned)
    stage.ramping.ahead.given.emit("0.8")
    tuned.window.show_stage("position")
    position = tuned.window.stage("position")
    assert isinstance(position, PositionStage)
    assert position.feed.entry.text() == "0.80"
    position.feed.given.emit("0.5")
    stage = ramping(tuned)
    assert stage.ramping.ahead.entry.text() == "0.50"


def test_a_ramp_is_tuned_by_hand(qtbot: QtBot, tuned: Application) -> None:
    """It repeats on the drive; torque typed ahead goes there and takes the lag away."""
    stage, session, hand = ramping(tuned), tuned.session, tuned.bench.hand
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "4")))
    wait(qtbot, lambda: tuned.bench.connected)
    button = stage.by_hand.button
    assert button.isEnabled()
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert "until you end it" in stage.test._note.text()
    assert not tuned.bench.busy
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(hand.answers) >= 3, 60.0)
    lagging = hand.newest(SpeedRamp.name)
    assert isinstance(lagging, RampResult)
    assert stage.ramping.plot._result is lagging
    assert stage.ramping.plot._when == "newest answer"
    drawn = [len(curve.x) for curve in stage.ramping.plot._trail._curves]
    assert sum(many > 0 for many in drawn) >= 2
    typed(qtbot, stage, "ahead", "1")
    assert hand.newest(SpeedRamp.name) is None  # no answer belongs to these gains yet
    assert stage.ramping.plot._result is None
    wait(qtbot, lambda: hand.newest(SpeedRamp.name) is not None, 60.0)
    leading = hand.newest(SpeedRamp.name)
    assert isinstance(leading, RampResult)
    assert leading.measured.behind < 0.6 * lagging.measured.behind
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: not tuned.bench.busy)
    assert tuned.bench.live.state != "running"
    wait(qtbot, lambda: len(session.runs) == 2)
    assert all(run.title.startswith("by hand, ") and "ramp" in run.title for run in session.runs)
    assert "measured" in stage.ramping.plot._when
