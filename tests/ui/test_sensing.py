"""The Sensing stage in the real window, on a practice drive of its own."""

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.ui.frame.app import Application
from oarlock.ui.stages.sensing.stage import SensingStage
from oarlock.views.sensing_experiments import HAND, PULSES, PUSH, REST, SEARCH, SPIN, TURN
from tests.conftest import CALM, wait


def stage_of(opened: Application) -> SensingStage:
    stage = opened.window.stage("sensing")
    assert isinstance(stage, SensingStage)
    return stage


def connect(qtbot: QtBot, opened: Application, *more: str) -> None:
    opened.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "6", *more)))
    wait(qtbot, lambda: opened.bench.connected)


def step(qtbot: QtBot, opened: Application, kind: str, seconds: float = 30.0) -> None:
    """Click a step's button and wait until it is in the logbook."""
    stage, runs = stage_of(opened), len(opened.session.runs)
    card = stage.cards[kind]
    assert card.button.isEnabled()
    qtbot.mouseClick(card.button, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(opened.session.runs) > runs and not opened.bench.busy, seconds)


def test_before_anything_is_known_nothing_below_the_line_is_offered(
    qtbot: QtBot, fresh: Application
) -> None:
    fresh.window.show_stage("sensing")
    stage = stage_of(fresh)
    assert stage.answer == "Nothing is known of the sensors yet"
    assert not stage.cards[REST].button.isEnabled()  # no drive
    connect(qtbot, fresh)
    wait(qtbot, stage.cards[REST].button.isEnabled)
    assert not stage.water.is_open
    for kind in (TURN, PUSH):
        assert not stage.cards[kind].button.isVisible()
        assert "waits for Currents at rest" in stage.cards[kind].accessibleName()
    # Not by F5, not by the step's own call either.
    runs = len(fresh.session.runs)
    stage.do(TURN)
    assert len(fresh.session.runs) == runs
    assert not fresh.bench.busy
    assert "waits for" in fresh.window.message.text()
    # Identify says why it waits, and offers nothing.
    fresh.window.show_stage("identify")
    identify = fresh.window.stage("identify")
    assert not identify.measure.isEnabled()  # type: ignore[attr-defined]
    assert "Sensing" in identify.note.text()  # type: ignore[attr-defined]


@pytest.mark.long
@pytest.mark.timeout(300)
def test_sensing_from_the_first_offset_to_the_proof(qtbot: QtBot, fresh: Application) -> None:
    connect(qtbot, fresh)
    fresh.window.show_stage("sensing")
    stage, session = stage_of(fresh), fresh.session
    qtbot.keyClick(fresh.window, Qt.Key.Key_F5)
    wait(qtbot, lambda: len(session.runs) == 1 and not fresh.bench.busy)
    assert session.runs[0].kind == REST
    assert session.axis.inverter.offset_a.adopted is not None
    step(qtbot, fresh, HAND)
    wait(qtbot, lambda: abs(fresh.bench.live.angle) >= 0.0)
    step(qtbot, fresh, PULSES)
    assert stage.water.is_open
    assert "the shaft may turn" in stage.water.accessibleName()
    step(qtbot, fresh, TURN)
    assert session.axis.sensor.is_found
    step(qtbot, fresh, PUSH)
    assert stage.answer.startswith("Yes: the angle is right to")
    assert fresh.window.rail.item("sensing").accessibleDescription().endswith("valid")
    # The rest shares one place.
    qtbot.mouseClick(stage.choices[SPIN], Qt.MouseButton.LeftButton)
    assert stage.cards[SPIN].isVisible()
    assert not stage.cards[SEARCH].isVisible()
    assert session.screen.sensing == SPIN
    # Everything can be taken back, the zero as well.
    zero = session.axis.sensor.zero.value
    assert session.undo_label == "Adopt forced turn"
    session.undo()
    assert session.axis.sensor.zero.adopted is None
    session.redo()
    assert session.axis.sensor.zero.value == zero


@pytest.mark.timeout(300)
def test_a_fault_is_named_and_bars_the_way(qtbot: QtBot, fresh: Application) -> None:
    connect(qtbot, fresh, "--faults", '{"open_phase":1}')
    fresh.window.show_stage("sensing")
    stage = stage_of(fresh)
    step(qtbot, fresh, REST)
    step(qtbot, fresh, PULSES)
    assert "Phase b carries no current" in stage.reasons[0]
    assert not stage.water.is_open
    assert "Step 2 does not hold: the shaft may not turn yet" in stage.water.accessibleName()
    assert not stage.cards[TURN].button.isVisible()
    assert not fresh.session.runs[-1].used


def test_stop_ends_a_turn_at_once(qtbot: QtBot, opened: Application) -> None:
    connect(qtbot, opened)
    opened.window.show_stage("sensing")
    stage = stage_of(opened)
    from oarlock.experiments.sensing.turn import ForcedTurn

    opened.bench.run(ForcedTurn(), lambda _performed: None)
    wait(qtbot, lambda: opened.bench.live.state == "running")
    qtbot.keyClick(opened.window, Qt.Key.Key_Escape)
    wait(qtbot, lambda: not opened.bench.busy)
    wait(qtbot, lambda: opened.bench.live.state != "running" and opened.bench.live.current < 0.1)
    assert opened.session.runs == ()
    assert stage.running == ""


def test_the_window_goes_to_the_other_axis(qtbot: QtBot, fresh: Application) -> None:
    connect(qtbot, fresh)
    before = fresh.window
    assert before.top_bar.axis_button.text() == "Sonar winch"
    menu = before.top_bar.axis_menu
    menu.aboutToShow.emit()
    assert [action.text() for action in menu.actions()[:2]] == ["Sonar winch", "Thruster"]
    fresh.window.show_stage("sensing")
    menu.actions()[1].trigger()
    wait(qtbot, lambda: fresh.bench.connected and fresh.bench.live.bus > 1.0)
    assert fresh.window is not before
    assert fresh.session.axis.name == "Thruster"
    assert fresh.window.top_bar.axis_button.text() == "Thruster"
    assert fresh.bench.live.bus == pytest.approx(48.0, abs=1.0)  # another drive answers
    stage = stage_of(fresh)
    assert stage.isVisible()
    assert SEARCH not in stage.cards  # halls are too coarse for it
    step(qtbot, fresh, REST)
    assert fresh.session.runs[-1].axis == "Thruster"
    names = [command.name for command in fresh.window.commands()]
    assert "Go to the axis Sonar winch" in names
    menu = fresh.window.top_bar.axis_menu
    menu.aboutToShow.emit()
    first = [action.text() for action in menu.actions()[:2]]
    assert first == ["Sonar winch (drive connected)", "Thruster"]
    fresh.go_to_axis("Sonar winch")
    assert fresh.session.runs == ()
    assert fresh.bench.connected  # its drive was left connected, and is there at once
    wait(qtbot, lambda: fresh.bench.live.bus > 300.0)
    assert fresh.bench.parking.names == ("Thruster",)


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1920, 1200)])
def test_nothing_lies_over_anything_else(
    qtbot: QtBot, fresh: Application, size: tuple[int, int]
) -> None:
    fresh.window.show_stage("sensing")
    fresh.window.resize(*size)
    qtbot.waitUntil(lambda: fresh.window.width() == size[0])
    qtbot.wait(20)
    stage = stage_of(fresh)
    shown = [card for card in stage.cards.values() if card.isVisible()]
    assert len(shown) == 6
    for i, one in enumerate(shown):
        assert stage.rect().contains(one.geometry())
        assert one.height() > 120
        for other in shown[i + 1 :]:
            assert not one.geometry().intersects(other.geometry())


def test_a_digit_missing_is_asked_about_before_it_is_used(qtbot: QtBot, fresh: Application) -> None:
    from oarlock.ui.stages.machine.stage import MachineStage

    fresh.window.show_stage("machine")
    stage = fresh.window.stage("machine")
    assert isinstance(stage, MachineStage)
    row = stage.rows["inverter.current_full_scale"]
    before = fresh.session.axis.inverter.current_full_scale.value
    row.entry.setFocus()
    row.entry.selectAll()
    qtbot.keyClicks(row.entry, "4 A peak")
    qtbot.keyClick(row.entry, Qt.Key.Key_Return)
    assert "Is '4 A peak' meant?" in row.error
    assert "Enter again" in row.error
    assert fresh.session.axis.inverter.current_full_scale.value == before
    stage.rows["machine.R"].entry.setFocus()  # going elsewhere does not take it either
    assert fresh.session.axis.inverter.current_full_scale.value == before
    row.entry.setFocus()
    qtbot.keyClick(row.entry, Qt.Key.Key_Return)
    assert fresh.session.axis.inverter.current_full_scale.value == 4.0
    assert row.error == ""
    row.entry.selectAll()
    qtbot.keyClicks(row.entry, "0.5 mohm, gain 82.5, 3.3 V, 12 bit")
    qtbot.keyClick(row.entry, Qt.Key.Key_Return)
    assert fresh.session.axis.inverter.current_full_scale.value == pytest.approx(40.0)
    assert row.error == ""
