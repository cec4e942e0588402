"""Rehearse in the units that were chosen: curves, cursor, handles, a run over its simulation."""

import math
from functools import partial

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from oarlock.quantities.kinds import RPM
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.commands import _use_unit
from oarlock.ui.stages.rehearse.stage import RehearseStage
from oarlock.views.rehearsal import scenario_of
from tests.conftest import wait
from tests.ui.test_rehearse import kept_run, pull, stage_of, tuned

__all__ = ["tuned"]
SPEEDS = """name = "To and fro"
control = "speed"
duration = "0.6 s"
[[points]]
at = "0.05 s"
speed = "300 rpm"
acceleration = "800 rad/s2"
[[points]]
at = "0.3 s"
speed = "-300 rpm"
acceleration = "800 rad/s2"
"""


@pytest.fixture
def spun(qtbot: QtBot, tuned: Application) -> Application:
    """A window that shows speeds, simulated."""
    stage = stage_of(tuned)
    stage.scenario.put(SPEEDS, joined=False)
    stage.run()
    wait(qtbot, lambda: stage.shown is not None and not stage.is_working)
    return tuned


def test_speeds_are_drawn_in_the_unit_chosen(spun: Application) -> None:
    stage = stage_of(spun)
    asked, behind = stage.plots["asked"], stage.plots["behind"]
    stage.move_cursor(0.25)
    rpm = asked._means[0].y.copy()
    off = behind._means[0].y.copy()
    assert np.max(rpm) == pytest.approx(300.0, rel=0.1)
    _use_unit(spun.window, "speed", "rad/s")
    assert asked._means[0].y == pytest.approx(rpm * RPM)
    assert behind._means[0].y == pytest.approx(off * RPM)
    assert asked._text == "rad/s"
    assert behind._text == "rad/s behind"
    assert asked._values[0][0].endswith("rad/s")
    assert asked._values[0][0].startswith("0.250 s: 31")  # the cursor stays where it was
    assert [one.value for one in asked.handles] == pytest.approx([300 * RPM, -300 * RPM])
    assert stage.came.rows["top"]._unit == "rad/s"
    _use_unit(spun.window, "speed", "Hz el.")
    pairs = spun.session.axis.machine.pole_pairs.value
    assert asked._means[0].y == pytest.approx(rpm / 60.0 * pairs)


def test_currents_and_their_limit_are_drawn_in_the_unit_chosen(spun: Application) -> None:
    stage = stage_of(spun)
    plot = stage.plots["current"]
    before, limit = plot._means[0].y.copy(), plot._limit
    _use_unit(spun.window, "current", "A rms")
    assert plot._means[0].y == pytest.approx(before / math.sqrt(2.0))
    assert plot._limit == pytest.approx(limit / math.sqrt(2.0))
    assert plot._text.endswith("A rms")


def test_a_point_is_written_in_the_unit_in_which_it_was_dragged(
    qtbot: QtBot, spun: Application
) -> None:
    stage = stage_of(spun)
    for unit, value, speed in (("rad/s", 20.0, 20.0), ("Hz el.", 10.0, None), ("rpm", 200.0, None)):
        _use_unit(spun.window, "speed", unit)
        before, handle = stage.shown, stage.plots["asked"].handles[0]
        stage.plots["asked"].dragged.emit(0, handle.at, value)
        wait(qtbot, partial(_is_newer, stage, before))
        stage.plots["asked"].dropped.emit()
        wait(qtbot, lambda: not stage.is_working)
        text = stage.scenario.text.toPlainText()
        point = scenario_of(text).points[0]
        pairs = spun.session.axis.machine.pole_pairs.value
        wanted = {"rad/s": 20.0, "rpm": 200.0 * RPM, "Hz el.": 10.0 * math.tau / pairs}[unit]
        assert point.value == pytest.approx(wanted, rel=0.01)
        assert ('speed = "20 rad/s"' in text) == (speed is not None)
        assert "Hz el" not in text  # a scenario's file has no such unit


def _is_newer(stage: RehearseStage, before: object) -> bool:
    return stage.shown is not before and not stage.is_working


def test_a_run_over_its_simulation_is_told_in_the_unit_chosen(
    qtbot: QtBot, tuned: Application
) -> None:
    run = kept_run(tuned)
    stage = stage_of(tuned)
    stage.replay(run)
    wait(qtbot, lambda: stage.replay_plots.shown is not None and not stage.is_working)
    plots = stage.replay_plots
    before = plots.current._means[0].y.copy()
    follows, unit = plots.follows._means[0].y.copy(), plots.follows._text
    _use_unit(tuned.window, "current", "A rms")
    assert plots.current._means[0].y == pytest.approx(before / math.sqrt(2.0))
    assert plots.current._text.endswith("A rms")
    _use_unit(tuned.window, "speed", "rad/s")
    scale = RPM if unit.endswith("rpm") else 1.0
    assert plots.follows._means[0].y == pytest.approx(follows * scale)
    assert plots.follows.isVisible()


def test_a_drag_with_the_mouse_lands_where_it_was_let_go(qtbot: QtBot, spun: Application) -> None:
    _use_unit(spun.window, "speed", "rad/s")
    stage = stage_of(spun)
    plot = stage.plots["asked"]
    handle = plot.handles[1]
    to = (plot.px(0.35) - plot.px(handle.at), plot.py(-20.0) - plot.py(handle.value))
    pull(qtbot, stage, 1, to)
    wait(qtbot, lambda: not stage.is_working)
    point = scenario_of(stage.scenario.text.toPlainText()).points[1]
    assert point.at == pytest.approx(0.35, abs=0.01)
    assert point.value == pytest.approx(-20.0, abs=0.6)
