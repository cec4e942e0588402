"""The Position loop stage in the real window: design, drag, the move's numbers, a move played."""

import itertools
import math
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from oarlock.control.position_design import design_position, position_gains
from oarlock.control.speed_design import loop_in_use, speed_gains
from oarlock.handover.values import handover_values
from oarlock.machine.position_loop import KEY
from oarlock.ui.frame.app import Application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.position.stage import PositionStage
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.views.position import MOVE
from tests.conftest import CALM, wait
from tests.demos import demo_with
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on
from tests.ui.test_speed import _type


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch whose speed loop has gains."""
    yield from window_on(qtbot, demo_with(tuned_winch(), tmp_path / "demo"))


def _stage(opened: Application) -> PositionStage:
    opened.window.show_stage("position")
    stage = opened.window.stage("position")
    assert isinstance(stage, PositionStage)
    return stage


def test_it_waits_for_the_speed_loop(opened: Application) -> None:
    stage = _stage(opened)
    assert stage.answer == "No position loop yet"
    assert "speed loop has no gains" in " ".join(stage.reasons)
    assert not stage.start.isEnabled()


def test_the_handle_moves_the_gain_and_says_from_where_it_overshoots(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, strip = _stage(tuned), tuned.window.strip
    assert stage.shown is not None
    assert stage.answer.endswith("no overshoot")
    quiet = stage.shown.crossover
    tuned.session.edit("take", stage._in_use())
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(quiet)), 40))
    qtbot.mouseMove(strip, QPoint(round(strip.x_of(25.0)), 40))
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(25.0)), 40))
    assert stage.shown.crossover == pytest.approx(25.0, rel=0.05)
    assert stage.answer.endswith("with overshoot")
    _type(qtbot, stage.given.entry, "8")
    assert stage.shown.crossover == pytest.approx(8.0, rel=1e-3)
    assert stage.answer.endswith("no overshoot")
    qtbot.mouseClick(stage.quiet, Qt.MouseButton.LeftButton)
    assert stage.shown.crossover == pytest.approx(quiet, rel=1e-3)
    _type(qtbot, stage.given.entry, "-2")
    assert "above zero" in stage._message.text()


def test_the_moves_numbers_and_shares_are_typed(qtbot: QtBot, tuned: Application) -> None:
    stage = _stage(tuned)
    assert stage.shown is not None
    tuned.session.edit("take", stage._in_use())
    lag = stage.shown.figures.following
    _type(qtbot, stage.share.entry, "0")
    gains = position_gains(tuned.session.axis)
    assert gains is not None
    assert gains.speed_share == 0.0
    assert stage.shown.figures.following > 3.0 * lag
    _type(qtbot, stage.share.entry, "1")
    _type(qtbot, stage.feed.entry, "1")
    speed, J = speed_gains(tuned.session.axis), tuned.session.axis.machine.inertia
    assert speed is not None
    assert J is not None
    assert speed.acceleration == pytest.approx(J.value / tuned.session.axis.machine.torque_constant)
    assert stage.shown.figures.following < 0.6 * lag
    _type(qtbot, stage.test["acceleration"].entry, "6000")
    assert "runs out of torque" in stage.reasons[1]
    _type(qtbot, stage.test["speed"].entry, "0")
    assert "makes no move" in stage._message.text()
    assert tuned.session.screen.move.acceleration == 6000.0


def test_the_moves_ramp_becomes_the_axiss_own_and_is_handed_over(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = _stage(tuned)
    _type(qtbot, stage.test["acceleration"].entry, "210")
    assert stage.ramp.text() == "make it the axis's ramp"
    qtbot.mouseClick(stage.ramp, Qt.MouseButton.LeftButton)
    assert not stage.ramp.isEnabled()
    values = {v.key: v.value for v in handover_values(tuned.session.axis)}
    assert values["ramp.acceleration"] == 210.0
    _type(qtbot, stage.given.entry, "6")  # another crossover leaves the ramp
    assert stage.ramp.text().endswith("handed over")
    _type(qtbot, stage.test["jerk_time"].entry, "0")
    assert stage.ramp.isEnabled()
    qtbot.mouseClick(stage.ramp, Qt.MouseButton.LeftButton)
    assert {v.key: v.value for v in handover_values(tuned.session.axis)}["ramp.jerk_time"] == 0.0
    tuned.session.undo()
    assert stage.ramp.isEnabled()


def test_a_move_is_played_and_shown(qtbot: QtBot, tuned: Application) -> None:
    stage, session = _stage(tuned), tuned.session
    session.edit("take", session.axis.with_loop_gains(KEY, design_position(session.axis).gains))
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: tuned.bench.connected)
    qtbot.mouseClick(stage.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(session.runs) == 1 and not tuned.bench.busy, 60.0)
    assert session.runs[0].ended == "done", session.runs[0].ended
    found = session.now.tested(MOVE)
    assert found is not None
    assert found[1].holds, found[1].said
    kept = session.axis.loops[KEY]
    stage.drag_to(6.0)
    stage.end_drag()
    assert session.now.tested(MOVE) is None
    session.take_back(session.runs[0])
    assert session.axis.loops[KEY] == kept


def test_the_plots_hang_under_their_part_of_the_strip(tuned: Application) -> None:
    speed = tuned.window.stage("speed")
    assert isinstance(speed, SpeedStage)
    stages: list[PositionStage | SpeedStage] = [_stage(tuned), speed]
    for opened in stages:
        tuned.window.show_stage(opened.key)
        plot = opened.gain_plot
        for size in ((1280, 800), (1024, 700), (1600, 1000)):
            tuned.window.resize(*size)
            opened.lay_out()
            for hertz in (3.0, 30.0):
                there = plot.mapTo(tuned.window, QPoint(0, 0)).x() + plot.at(hertz)
                assert there == pytest.approx(tuned.window.strip.x_of(hertz), abs=1.5)


def test_the_handover_says_what_the_drive_would_start_with_and_saves_it(
    qtbot: QtBot, tuned: Application
) -> None:
    from oarlock.ui.stages.handover.stage import HandoverStage

    session, bench, window = tuned.session, tuned.bench, tuned.window
    session.edit("take", session.axis.with_loop_gains(KEY, design_position(session.axis).gains))
    window.show_stage("handover")
    stage = window.stage("handover")
    assert isinstance(stage, HandoverStage)
    assert stage.memory._extra == "not known"
    assert stage.save_in_drive.isHidden()
    bench.connect_drive(" ".join(("practice", *CALM)))
    wait(qtbot, lambda: bench.connected)
    assert stage.memory._unit == "differ"
    assert any("in the drive" in command.name for command in window.commands())
    qtbot.mouseClick(stage.save_in_drive, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: stage.memory._extra == "as in use")
    assert stage.save_in_drive.isHidden()
    gains = speed_gains(session.axis)
    assert gains is not None
    slower = replace(gains, Kp=0.5 * gains.Kp)
    session.edit("other gains", session.axis.with_loop_gains("speed", slower))
    assert (stage.memory._value, stage.memory._unit) == ("1", "differ")
    assert window.strip._strip is not None
    marks = {mark.label.split()[0]: mark for mark in window.strip._strip.loops}
    assert marks["current"].saved == 0.0  # as in use
    assert marks["speed"].saved == pytest.approx(
        loop_in_use(session.axis.with_loop_gains("speed", gains)).margins.crossover / math.tau,
        rel=1e-4,
    )
    drawn, x = window.strip.grab().toImage(), round(window.strip.x_of(marks["speed"].saved))
    ring = [drawn.pixelColor(x + a, 40 + b) for a in range(-9, 10) for b in range(-9, 10)]
    assert ring.count(look.theme().attention) > 4
    bench.disconnect()
    assert all(mark.saved == 0.0 for mark in window.strip._strip.loops)  # nobody knows now
    assert "not in its memory" in window.message.text()
    assert stage.memory._extra == "not known"


def test_every_lane_of_a_proof_has_room(qtbot: QtBot, tuned: Application) -> None:
    from oarlock.handover.header import default_map, header
    from oarlock.handover.proof import OUTER, prove
    from oarlock.handover.values import handover_values
    from oarlock.ui.stages.handover.stage import HandoverStage

    session = tuned.session
    session.edit("take", session.axis.with_loop_gains(KEY, design_position(session.axis).gains))
    tuned.window.show_stage("handover")
    stage = tuned.window.stage("handover")
    assert isinstance(stage, HandoverStage)
    text, values = header(session.axis), handover_values(session.axis)
    current = np.ones((40, 2), dtype=np.float32)
    lanes = {"d": current, "q": current} | {name: OUTER[name].sequence(None, 60) for name in OUTER}
    stage.proof.show_proof(prove(text.encode(), default_map(text, values), values, lanes), "")
    areas = stage.proof.lane_areas()
    assert len(areas) == 4
    assert areas[-1].bottom() <= stage.proof.height()
    assert all(a.bottom() < b.top() for a, b in itertools.pairwise(areas))
    assert all(area.height() >= 14.0 for area in areas)


def test_the_top_speed_is_typed_in_the_unit_that_was_chosen(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, session = _stage(tuned), tuned.session
    session.show(units={"speed": "rad/s"})
    session.axis_changed.emit(session.axis)
    row = stage.block.rows["speed"]
    assert row._unit == "rad/s"
    _type(qtbot, row.entry, "31")
    assert session.screen.move.speed == pytest.approx(31.0)
    assert float(row.entry.text()) == pytest.approx(31.0)
    session.show(units={})
    session.axis_changed.emit(session.axis)
    assert row._unit == "rpm"
    assert float(row.entry.text()) == pytest.approx(31.0 * 60.0 / math.tau, rel=5e-3)
    assert stage.block.rows["distance"]._unit == "turns"
