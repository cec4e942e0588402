"""Commissioning from the panel: announced, played, proposed, taken; and what it does not do."""

import math
import re
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.control.speed_gains import AIMS
from oarlock.machine import SensorKind
from oarlock.practice.truth import draw
from oarlock.quantities.kinds import RPM
from oarlock.session.commission_parts import Bound
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.commands import _use_unit
from oarlock.ui.frame.commission import CommissionPanel
from oarlock.views.commission import figures, load_steps, numbers
from oarlock.views.rail import stages
from oarlock.views.stage import State
from tests.conftest import wait
from tests.model_link import ModelLink


def _open(qtbot: QtBot, opened: Application) -> CommissionPanel:
    qtbot.keyClick(opened.window, Qt.Key.Key_F8)
    panel = opened.window.panels.commission
    assert panel is not None
    assert panel.isVisible()
    return panel


def _connect(opened: Application, **changes: object) -> None:
    """Connect a simulated drive that is as fast as it computes."""
    plant = replace(draw("winch", 0), **changes)  # type: ignore[arg-type]
    opened.bench._link = ModelLink(plant, tick=2.0)
    opened.bench.changed.emit()


@pytest.mark.long
@pytest.mark.timeout(500)
def test_from_datasheet_to_position_loop_in_one_action(qtbot: QtBot, fresh: Application) -> None:
    panel, session = _open(qtbot, fresh), fresh.session
    assert not panel.start.isEnabled()
    assert "No drive is connected" in panel.note.text()
    _connect(fresh)
    assert panel.answer.startswith("16 parts: up to ")
    work, before = panel.work, session.axis
    each = [work.bounds[part] for part in work.parts]
    assert work.total.turns == max(one.turns for one in each)
    assert work.total.seconds == pytest.approx(sum(one.seconds for one in each))
    assert work.total.seconds <= 200.0  # at the very most, repeats included; it takes half
    qtbot.mouseClick(panel.aims["calm"], Qt.MouseButton.LeftButton)
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(work.done) >= 2, 30.0)
    assert panel.answer.endswith("of 16")
    assert not panel.start.isVisible()
    wait(qtbot, lambda: work.is_complete or bool(work.said) or work.asks is not None, 150.0)
    assert work.is_complete, (work.next, work.said, work.asks)
    assert session.axis == before  # nothing is taken yet
    assert work.candidate is not None
    assert {one.name for one in numbers(before, work.candidate)} >= {
        "R", "J", "K~p~ speed", "notch 1",
    }  # fmt: skip
    told = {one.name: one for one in figures(before, work.candidate)}
    assert told["speed margin"].new == f"{math.degrees(AIMS['calm'].margin):.0f}"
    assert told["speed margin"].old == "–"
    assert load_steps(before, work.candidate)[1] is not None
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    assert not panel.isVisible()
    assert session.undo_label == "Take what commissioning found"
    state = {stage.key: stage.state for stage in stages(session.now)}
    for key in ("sensing", "identify", "current", "speed", "position"):
        assert state[key] is State.VALID, key
    session.undo()
    assert session.axis == before


def test_it_waits_where_something_does_not_hold_and_takes_nothing(
    qtbot: QtBot, fresh: Application
) -> None:
    panel, work = _open(qtbot, fresh), fresh.bench.commissioning
    _connect(fresh, gains=(1.0, 0.69, 1.0))
    before = fresh.session.axis
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: bool(work.said), 60.0)
    assert work.next is not None
    assert work.next.group == "sensing"
    assert panel.answer.startswith("It waits at ")
    assert work.said in panel.note.text()
    assert panel.start.text() == "Go on"
    runs = len(fresh.session.runs)
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)  # tried again: nothing has changed
    wait(qtbot, lambda: len(fresh.session.runs) > runs and work.running is None, 60.0)
    assert work.said
    qtbot.keyClick(fresh.window, Qt.Key.Key_Escape)
    assert not panel.isVisible()
    assert not work.parts
    assert work.total == Bound(turns=0.0, speed=0.0, current=0.0, seconds=0.0)
    assert fresh.session.axis == before


def test_a_window_that_is_made_anew_shows_it_as_it_stands(qtbot: QtBot, fresh: Application) -> None:
    """The colours change, and the sensor turns out to be of another kind."""
    panel, work = _open(qtbot, fresh), fresh.bench.commissioning
    _connect(fresh)
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(work.done) >= 2, 60.0)
    fresh.bench.stop()
    wait(qtbot, lambda: work.running is None, 60.0)
    answer, window = panel.answer, fresh.window
    fresh.toggle_theme()
    assert fresh.window is not window
    shown = fresh.window.panels.commission
    assert shown is not None
    assert shown.isVisible()
    assert shown.answer == answer
    assert shown.start.text() == "Go on"
    window.panels.commission = None  # what is gone is not asked
    fresh.window.made_for = SensorKind.HALL
    window = fresh.window
    fresh._outgrown()
    assert fresh.window is not window
    shown = fresh.window.panels.commission
    assert shown is not None
    assert shown.isVisible()
    assert fresh.window.panels.compare is None
    assert fresh.window.panels.help is None


def test_what_would_move_more_than_was_said_is_asked_about(
    qtbot: QtBot, fresh: Application
) -> None:
    panel, work = _open(qtbot, fresh), fresh.bench.commissioning
    _connect(fresh)
    second = work.parts[2]
    small = Bound(turns=0.0, speed=0.0, current=0.1, seconds=0.1)
    work.bounds = {**work.bounds, second: small}
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: work.asks is not None, 60.0)
    assert work.next == second
    assert fresh.bench.live.state != "running"
    assert "would move more than was said" in panel.note.text()
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: second in work.done, 60.0)
    assert work.bounds[second] != small
    fresh.window.escape()
    wait(qtbot, lambda: work.running is None)
    assert work.said == "Stopped"


def test_it_looks_again_when_the_drive_or_the_axis_is_another(
    qtbot: QtBot, fresh: Application
) -> None:
    panel, work = _open(qtbot, fresh), fresh.bench.commissioning
    assert "q" in [part.key for part in work.parts]  # a brake is taken to hold the shaft
    fresh.bench.braked = False
    fresh.bench.changed.emit()
    assert "q" not in [part.key for part in work.parts]
    panel.leave()
    _open(qtbot, fresh)
    fresh.session.enter("machine.R", "0.9 ohm")
    _open(qtbot, fresh)
    assert work.before == fresh.session.axis


def test_an_axis_that_is_changed_meanwhile_is_left_alone(qtbot: QtBot, fresh: Application) -> None:
    panel, work = _open(qtbot, fresh), fresh.bench.commissioning
    _connect(fresh)
    qtbot.mouseClick(panel.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: bool(work.done), 60.0)
    fresh.session.enter("machine.R", "0.9 ohm")
    typed = fresh.session.axis
    wait(qtbot, lambda: work.running is None and bool(work.said), 60.0)
    assert "changed meanwhile" in work.said
    work.take()
    assert fresh.session.axis == typed
    fresh.window.show_stage("sensing")
    assert not panel.isVisible()
    assert replace(typed) == fresh.session.axis


def test_what_will_move_is_told_in_the_unit_chosen(qtbot: QtBot, fresh: Application) -> None:
    panel = _open(qtbot, fresh)
    _connect(fresh)
    told = re.search(r"([\d.]+) rpm", panel.answer)
    assert told is not None
    _use_unit(fresh.window, "speed", "rad/s")
    assert "rpm" not in panel.answer
    other = re.search(r"([\d.]+) rad/s", panel.answer)
    assert other is not None
    assert float(other.group(1)) == pytest.approx(float(told.group(1)) * RPM, rel=0.06)
