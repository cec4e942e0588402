"""Pinned runs beside one another: what differs is marked, their gains can be taken from there."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.control.speed_design import speed_gains, usual_speed
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.quantities.kinds import RPM
from oarlock.session.perform import perform
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.commands import _use_unit
from oarlock.ui.frame.compare import ComparePanel
from oarlock.ui.frame.logbook import ASKED, OVERSHOOT, REMARK
from oarlock.ui.kit import units
from oarlock.views.compare import MOST, Row, chosen, comparison
from tests.demos import demo_with
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch whose speed loop has gains."""
    yield from window_on(qtbot, demo_with(tuned_winch(), tmp_path / "demo"))


def _keep(opened: Application, test: Experiment, axis: Axis) -> int:
    link = ModelLink(draw("winch", 0))
    run = opened.session.keep(perform(test, axis, link, lambda _f, _d: None, Hasty()))
    opened.session.change_run(run.id, pinned=True)
    return run.id


def _steps(opened: Application) -> tuple[int, int]:
    axis = opened.session.axis
    speed, gains = usual_speed(axis), speed_gains(axis)
    assert gains is not None
    step = SpeedStep(speed=speed, amplitude=usual_step(axis, speed), repeats=4)
    slow = axis.with_loop_gains(KEY, replace(gains, Kp=0.6 * gains.Kp))
    return _keep(opened, step, axis), _keep(opened, step, slow)


def _row(rows: tuple[Row, ...], name: str) -> Row:
    return next(row for row in rows if row.name == name)


def test_what_differs_is_told_and_what_does_not_is_not(tuned: Application) -> None:
    first, second = _steps(tuned)
    now = tuned.session.now
    shown = comparison(now, chosen(now))
    assert [run.id for run in shown.runs] == [second, first]
    Kp, Ki, step = (_row(shown.rows, name) for name in ("K~p~ speed", "K~i~ speed", "step"))
    assert (Kp.differs, Ki.differs, step.differs) == (True, False, False)
    assert float(Kp.cells[0]) == pytest.approx(0.6 * float(Kp.cells[1]), rel=0.01)
    notch = _row(shown.rows, "torque 1 notch frequency")
    assert notch.unit == "Hz"
    assert 150.0 < float(notch.cells[0]) < 250.0
    assert _row(shown.rows, "rise").differs
    new, old = shown.traces
    assert new is not None
    assert old is not None
    assert new.y_unit == "rpm"
    assert np.max(old.y) > np.max(new.y) * 0.9


def test_runs_are_told_in_the_units_chosen(qtbot: QtBot, tuned: Application) -> None:
    _steps(tuned)
    axis = tuned.session.axis
    _keep(tuned, LoadStep(speed=usual_speed(axis), torque=usual_load(axis), repeats=4), axis)
    window = tuned.window
    qtbot.keyClick(window, Qt.Key.Key_F7)
    panel = window.panels.compare
    assert isinstance(panel, ComparePanel)
    assert panel._shown is not None
    plain = panel._shown
    model = window.logbook.model
    dip, title = (model.data(model.index(0, n)) for n in (OVERSHOOT, ASKED))
    assert dip.endswith("rpm")
    assert "rpm" in title
    _use_unit(window, "speed", "rad/s")
    panel.refresh()
    for name in ("at", "step", "dip"):
        before, now = _row(plain.rows, name), _row(panel._shown.rows, name)
        assert (before.unit, now.unit) == ("rpm", "rad/s")
        for old, new in zip(before.cells, now.cells, strict=True):
            if old != "–":
                assert float(new) == pytest.approx(float(old) * RPM, rel=0.01)
    step = comparison(tuned.session.now, plain.runs[1:], units.by_name()).traces[0]
    assert step is not None
    first = comparison(tuned.session.now, plain.runs[1:]).traces[0]
    assert first is not None
    assert step.y == pytest.approx(first.y * RPM)
    assert step.y_unit == "rad/s"
    told, asked = (model.data(model.index(0, n)) for n in (OVERSHOOT, ASKED))
    assert told.endswith("rad/s")
    assert float(told.split()[1]) == pytest.approx(float(dip.split()[1]) * RPM, rel=0.06)
    assert "rpm" not in asked
    assert "rad/s" in asked
    run = tuned.session.runs[-1]
    tuned.session.change_run(run.id, note="faster than 100 rpm")
    assert model.data(model.index(0, REMARK)) == "faster than 100 rpm"  # the user's own words


def test_it_says_which_records_are_not_read_yet(tuned: Application) -> None:
    _steps(tuned)
    now = tuned.session.now
    assert not comparison(now, chosen(now)).unread
    waiting = replace(now, readings={})
    assert comparison(waiting, chosen(now)).unread


def test_runs_of_another_kind_have_lines_and_no_curve(tuned: Application) -> None:
    axis = tuned.session.axis
    _steps(tuned)
    _keep(tuned, LoadStep(speed=usual_speed(axis), torque=usual_load(axis), repeats=4), axis)
    _keep(tuned, usual_current_step(axis, "q"), axis)
    now = tuned.session.now
    shown = comparison(now, chosen(now))
    assert [one is not None for one in shown.traces] == [True, False, False, False]
    assert _row(shown.rows, "dip").cells[0] == "–"
    assert _row(shown.rows, "dip").cells[1] != "–"
    assert len(chosen(now)) <= MOST


def test_the_panel_shows_them_and_takes_gains_back(qtbot: QtBot, tuned: Application) -> None:
    window = tuned.window
    qtbot.keyClick(window, Qt.Key.Key_F7)
    panel = window.panels.compare
    assert isinstance(panel, ComparePanel)
    assert panel._shown is not None
    assert not panel._shown.runs  # it says how to pin
    _steps(tuned)
    assert len(panel._shown.runs) == 2  # it follows the logbook
    assert "K~p~ speed" in panel.table.accessibleDescription()
    assert [one.isVisible() for one in panel.uses[:2]] == [True, False]  # the other is in use
    before = speed_gains(tuned.session.axis)
    qtbot.mouseClick(panel.uses[0], Qt.MouseButton.LeftButton)
    now = speed_gains(tuned.session.axis)
    assert before is not None
    assert now is not None
    assert now.Kp == pytest.approx(0.6 * before.Kp)
    assert [one.isVisible() for one in panel.uses[:2]] == [False, True]
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert not panel.isVisible()
    qtbot.mouseClick(window.logbook.compare_pinned, Qt.MouseButton.LeftButton)
    assert panel.isVisible()
    window.show_stage("machine")
    assert not panel.isVisible()


def test_sweeps_go_to_a_file_and_come_back_to_be_compared(
    qtbot: QtBot, tuned: Application, tmp_path: Path
) -> None:
    from oarlock.experiments.loops.speed_sweep import SpeedSweep
    from oarlock.ui.frame.sweep_files import read_sweep, save_sweep

    axis, window, session = tuned.session.axis, tuned.window, tuned.session
    window.show_stage("speed")
    names = [command.name for command in window.commands()]
    assert not any("as CSV" in name for name in names)
    number = _keep(tuned, SpeedSweep(speed=usual_speed(axis), torque=usual_load(axis), count=16),
                   axis)  # fmt: skip
    names = [command.name for command in window.commands()]
    assert any(name.startswith("Save the speed sweep of") for name in names)
    save_sweep(window, number, tmp_path / "sweep.csv")
    read_sweep(window, tmp_path / "sweep.csv")
    qtbot.waitUntil(lambda: len(session.runs) == 2, timeout=10000)
    assert session.runs[1].kind == "speed sweep"
    assert session.readings[session.runs[1].id] is not None
    session.change_run(session.runs[1].id, pinned=True)
    shown = comparison(session.now, chosen(session.now))
    assert [one is not None for one in shown.traces] == [True, True]
    assert _row(shown.rows, "crossover").differs is False
    (tmp_path / "bad.csv").write_text("nonsense\n1,2\n")
    read_sweep(window, tmp_path / "bad.csv")
    qtbot.waitUntil(lambda: window.message.isVisible(), timeout=10000)
    assert len(session.runs) == 2


def test_the_resonance_of_a_sweep_is_shown_and_taken_for_a_wrong_one(
    qtbot: QtBot, tuned: Application
) -> None:
    from oarlock.experiments.loops.speed_sweep import SpeedSweep
    from oarlock.ui.stages.speed.stage import SpeedStage
    from oarlock.views.speed_sweep import swept

    session, true = tuned.session, draw("winch", 0).resonance
    axis = session.axis
    path = "mechanics.resonance"
    known = axis.parameter(path)
    wrong = axis.adopting(path, replace(known.best, value=1.05 * true))
    session.edit("a wrong resonance", wrong)
    tuned.window.show_stage("speed")
    stage = tuned.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    assert stage.panel.take_shaft.isHidden()
    _keep(tuned, SpeedSweep(speed=usual_speed(wrong), torque=usual_load(wrong), count=40), wrong)
    stage.refresh()
    assert not stage.panel.take_shaft.isHidden()
    assert stage.shown is not None
    seen = swept(session.now, stage.shown)
    assert seen is not None
    assert seen.shaft.startswith("shaft 21")
    qtbot.mouseClick(stage.panel.take_shaft, Qt.MouseButton.LeftButton)
    found = session.axis.mechanics.resonance.best
    assert found.value == pytest.approx(true, rel=2e-3)
    assert found.std is not None
    assert found.source.startswith("run ")
    assert session.undo_label.startswith("Use the shaft of the sweep")
    assert stage.panel.take_shaft.isHidden()
