"""One's own motor on one's own drive, through the window: three numbers, then measurements."""

from collections.abc import Iterator
from functools import partial
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from oarlock.machine import SensorKind
from oarlock.practice.truth import draw
from oarlock.session.new_project import make_project
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.connect import ConnectPanel
from oarlock.ui.stages.machine.stage import MachineStage
from oarlock.ui.stages.sensing.stage import SensingStage
from oarlock.views.sensing_experiments import REST
from oarlock.views.ways import WayRow
from tests.conftest import CALM, wait
from tests.ui.conftest import window_on


@pytest.fixture
def own(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window of a project that was just made."""
    yield from window_on(qtbot, make_project(tmp_path / "own.oarlock", "Own"))


def machine(own: Application) -> MachineStage:
    stage = own.window.stage("machine")
    assert isinstance(stage, MachineStage)
    return stage


def type_in(qtbot: QtBot, own: Application, path: str, text: str) -> None:
    """Type an entry of the Machine stage, and Enter."""
    from PySide6.QtCore import Qt

    entry = machine(own).rows[path].entry
    entry.clear()
    qtbot.keyClicks(entry, text)
    qtbot.keyClick(entry, Qt.Key.Key_Return)


def connect(qtbot: QtBot, own: Application, *more: str) -> None:
    own.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8", *more)))
    wait(qtbot, lambda: own.bench.connected, 90.0)


def test_a_hollow_axis_shows_no_number_that_nobody_said(own: Application) -> None:
    stage = machine(own)
    assert stage.coming.isVisible()
    assert not stage.plane.isVisible()
    shown = [row for row in stage.rows.values() if row._parameter is not None]
    assert [row._path for row in shown] == [
        "inverter.dead_time", "inverter.adc_bits", "sensor.counts", "sensor.side", "sensor.zero",
    ]  # fmt: skip
    assert stage.rows["machine.R"].entry.placeholderText() == "direct current"
    assert stage.sensor_kind.box.currentIndex() == -1
    for key in ("sensing", "identify", "current", "speed", "position", "handover"):
        own.window.show_stage(key)
    own.window.show_stage("current")
    assert own.window.current.answer == "No gains yet"
    assert "not known yet" in own.window.current.reasons[0]


def test_nothing_is_sent_to_a_drive_before_it_is_known(qtbot: QtBot, own: Application) -> None:
    connect(qtbot, own)
    own.window.show_stage("sensing")
    own.window.current.run()
    wait(qtbot, lambda: "rated current is not known" in own.window.message.text())
    assert own.session.runs == ()
    own.bench.disconnect()


@pytest.mark.long
def test_three_numbers_and_a_drive_lead_to_sensing(qtbot: QtBot, own: Application) -> None:
    type_in(qtbot, own, "machine.rated_current", "7.1 A rms")
    type_in(qtbot, own, "machine.peak_current", "14.1 A rms")
    type_in(qtbot, own, "machine.max_speed", "4000 rpm")
    assert machine(own).answer == "Connect the drive: it tells the rest"
    connect(qtbot, own)
    wait(qtbot, lambda: own.session.axis.sensor.kind is SensorKind.RESOLVER)
    wait(qtbot, lambda: machine(own).answer == "It can be measured now")
    assert machine(own).sensor_kind.box.currentText() == "resolver"
    own.window.show_stage("sensing")
    for holds in range(1, 6):
        stage = own.window.current
        assert isinstance(stage, SensingStage)
        stage.run()
        wait(qtbot, partial(_holds, own, holds), 60.0)
    assert own.session.axis.machine.pole_pairs.value == draw("winch", 0).pole_pairs
    assert own.session.axis.sensor.is_found
    shown = own.window.stage("sensing")._used._pairs.value  # type: ignore[attr-defined]
    assert float(shown.split()[0]) == pytest.approx(draw("winch", 0).pole_pairs, abs=0.02)
    own.bench.disconnect()


def _holds(own: Application, many: int) -> bool:
    """Return whether so many steps of sensing hold and nothing runs."""
    from oarlock.views.sensing import needed_for, steps

    if own.bench.busy:
        return False
    made = steps(own.session.now, announced=False)
    return sum(made[kind].holds for kind in needed_for(own.session.axis)) >= many


def test_what_differs_from_the_entries_is_told_and_can_be_taken(
    qtbot: QtBot, own: Application
) -> None:
    type_in(qtbot, own, "inverter.control_frequency", "20 kHz")
    connect(qtbot, own)
    wait(qtbot, lambda: "Not as entered" in own.window.message.text())
    assert "control frequency 16.0 kHz by the drive, 20.0 kHz here" in own.window.message.text()
    command = next(c for c in own.window.commands() if c.name == "Use what the drive tells")
    command.action()
    assert own.session.axis.inverter.control_frequency.value == 16000.0
    assert not own.bench.differs
    own.session.undo()
    assert own.session.axis.inverter.control_frequency.value == 20000.0
    own.bench.disconnect()


def test_the_kind_of_sensor_can_be_chosen(qtbot: QtBot, own: Application) -> None:
    before = own.window
    box = machine(own).sensor_kind.box
    box.setCurrentIndex(2)
    box.activated.emit(2)
    wait(qtbot, lambda: own.window is not before)
    assert own.session.axis.sensor.kind is SensorKind.HALL
    own.window.show_stage("sensing")
    assert REST in own.window.current.cards  # type: ignore[attr-defined]


def test_a_pasted_table_is_shown_before_it_is_taken(qtbot: QtBot, own: Application) -> None:
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QAbstractButton, QApplication

    QApplication.clipboard().setText(
        "Rated speed\t3000 rpm\nRated current\t7.1 A\nPhase resistance\t0.30 ohm\n"
        "Back EMF\t82.1 V/krpm l-l\nPoles\t10\nBrake\t24 V 14 W"
    )
    stage = machine(own)
    before = own.session.axis
    entry = stage.rows["machine.R"].entry
    qtbot.keyClick(entry, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    panel = stage.paste
    assert panel is not None
    assert panel.isVisible()
    said = "6 lines pasted, 4 understood; 1 can be meant in two ways"
    assert panel.heading.text() == said
    assert own.session.axis == before
    button = panel.buttons[1, "rms"]
    assert isinstance(button, QAbstractButton)
    button.click()
    assert panel.take_button.text() == "Take 5 lines"
    panel.take_button.click()
    m = own.session.axis.machine
    assert m.rated_current.best.source == "7.1 A rms"
    assert m.pole_pairs.value == 5.0
    assert m.R.value == pytest.approx(0.3)
    assert m.psi.is_known
    own.session.undo()
    assert own.session.axis == before


def test_one_line_is_pasted_as_ever(qtbot: QtBot, own: Application) -> None:
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QApplication

    QApplication.clipboard().setText("1.64 ohm l-l")
    entry = machine(own).rows["machine.R"].entry
    qtbot.keyClick(entry, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    assert entry.text() == "1.64 ohm l-l"
    assert machine(own).paste is None


# The connect panel


@pytest.fixture
def panel(qtbot: QtBot, own: Application, monkeypatch: pytest.MonkeyPatch) -> ConnectPanel:
    monkeypatch.setattr(ConnectPanel, "look", lambda _self: None)
    own.window.panels.open_connect()
    found = own.window.panels._connect
    assert found is not None
    return found


def test_a_channel_that_means_nothing_is_told_in_place(panel: ConnectPanel) -> None:
    panel.channel.setText("pigeon:3")
    panel.connect_button.click()
    assert "no interface is called 'pigeon'" in panel.trouble.text()
    assert panel.isVisible()
    panel.close()


def test_what_answers_is_listed_and_one_click_away(qtbot: QtBot, panel: ConnectPanel) -> None:
    from PySide6.QtWidgets import QPushButton

    panel._show([
        WayRow(name="can0", said="1 Mbit/s, 1 node answers", channel="socketcan:can0"),
        WayRow(name="node 9", said="drive no. 417", channel="socketcan:can0 node 9", connects=True),
        WayRow(name="can1", said="is down. This brings it up", channel="socketcan:can1",
               command="sudo ip link set can1 up type can bitrate 1000000"),
    ])  # fmt: skip
    buttons = {b.accessibleName(): b for b in panel.area.findChildren(QPushButton)}
    buttons["Copy: sudo ip link set can1 up type can bitrate 1000000"].click()
    buttons["Type on from socketcan:can1"].click()
    assert panel.channel.text() == "socketcan:can1"
    with qtbot.waitSignal(panel.chosen) as told:
        buttons["Connect to socketcan:can0 node 9"].click()
    assert told.args == ["socketcan:can0 node 9"]
    assert not panel.isVisible()


def test_a_drive_that_is_not_there_is_one_line_with_its_remedy(
    qtbot: QtBot, own: Application
) -> None:
    own.bench.connect_drive("slcan:/dev/no-such-adapter")
    wait(qtbot, lambda: "cannot open" in own.window.message.text())
    assert "ls /dev/serial/by-id" in own.window.message.text()
    assert not own.bench.connected


def test_units_are_switched_where_they_stand_and_remembered(qtbot: QtBot, own: Application) -> None:
    type_in(qtbot, own, "machine.max_speed", "3000 rpm")
    type_in(qtbot, own, "machine.rated_current", "7.1 A rms")
    stage = machine(own)
    speed, current = stage.rows["machine.max_speed"], stage.rows["machine.rated_current"]
    shown = own.session.axis.machine.max_speed
    assert speed._texts(shown) == ("3000", "rpm")
    speed.unit.click()
    assert speed._texts(shown) == ("314", "rad/s")
    speed.unit.click()
    assert speed._texts(shown) == ("3000", "rpm")  # no pole pairs yet: electrical Hz cannot be
    command = next(c for c in own.window.commands() if c.name == "Show each current in A rms")
    command.action()
    assert current._texts(own.session.axis.machine.rated_current) == ("7.10", "A rms")
    assert own.session.axis.machine.rated_current.value == pytest.approx(10.04, rel=1e-3)
    assert own.session.screen.units == {"speed": "Hz el.", "current": "A rms"}
