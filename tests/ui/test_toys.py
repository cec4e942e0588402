"""What a newcomer adds is one file and one line: it then shows wherever its kind shows."""

from pathlib import Path

import canopen
import pytest
from click.testing import CliRunner
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.cancel import Cancel
from oarlock.cli import COMMANDS, group
from oarlock.control.current import design_current
from oarlock.drive.contract.eds import eds
from oarlock.drive.contract.entries import GROUPS
from oarlock.drive.contract.page import filled_in
from oarlock.errors import InputError
from oarlock.experiments.reading import read
from oarlock.experiments.registry import KINDS
from oarlock.handover.header import header
from oarlock.handover.values import handover_values
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.loops import LOOPS
from oarlock.practice.truth import draw
from oarlock.session.perform import perform
from oarlock.session.session import Session
from oarlock.store.project import Project
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.screenshots import take_screenshots
from oarlock.views.logbook import action, cells
from oarlock.views.rail import STAGES, stages
from tests.conftest import wait
from tests.model_link import ModelLink
from tests.toys.command import cable
from tests.toys.experiment import TUG, CableTug
from tests.toys.loop import TENSION, TensionGains, TensionTarget
from tests.toys.parameter import CABLE as PARAMETER
from tests.toys.stage import CABLE as STAGE
from tests.toys.stage import CableStage

TABLES = "\n[targets.tension]\nsettling = 0.4\n[gains.tension]\nKp = 0.02\n"


def test_a_loop_has_its_place_in_files_runs_and_handover(demo_path: Path) -> None:
    project = Project.open(demo_path)
    text = next(iter(project.axes().values()))
    project.close()
    with pytest.raises(InputError, match=r"unknown key targets\.tension"):
        parse_axis(f"{text}{TABLES}", place="x")
    LOOPS.append(TENSION)
    try:
        axis = parse_axis(f"{text}{TABLES}", place="x")
        assert axis.loops["tension"].target == TensionTarget(settling=0.4)
        assert axis.loops["tension"].gains == TensionGains(Kp=0.02)
        assert axis.loops.numbers()["tension.Kp"] == 0.02
        assert parse_axis(format_axis(axis), place="again") == axis
        axis = axis.with_gains(design_current(axis).gains)
        values = {v.key: v for v in handover_values(axis)}
        assert values["tension.Kp"].symbol == "TEN_KP"
        assert "TEN_KP" in header(axis)
        with pytest.raises(InputError, match=r"unknown key gains\.tension\.Ki"):
            parse_axis(f"{text}\n[gains.tension]\nKp = 1\nKi = 2\n", place="x")
    finally:
        LOOPS.remove(TENSION)


def test_an_experiment_is_played_read_and_shown_in_the_logbook(demo_path: Path) -> None:
    session = Session(Project.open(demo_path), lambda call: call())
    link = ModelLink(draw("winch", 0))
    KINDS.append(TUG)
    try:
        done = perform(CableTug(), session.axis, link, lambda _f, _d: None, Cancel())
        run = session.keep(done)
        assert done.reading is not None
        assert done.reading.said == "stiff enough"
        row = cells(run, session.axis)
        assert "a tug at the cable" in row
        assert "stiff enough" in row
        assert action(run, session.axis) == "does not hold"  # it proves, and was not adopted
        assert session.now.finding("cable tug") is not None
    finally:
        KINDS.remove(TUG)
    with pytest.raises(InputError, match="unknown experiment 'cable tug'"):
        read(done.record, session.axis)
    session.close()


def test_a_stage_is_in_rail_keys_palette_and_pictures(
    qtbot: QtBot, request: pytest.FixtureRequest, demo_path: Path, tmp_path: Path
) -> None:
    STAGES.append(STAGE)
    try:
        opened = request.getfixturevalue("opened")
        drive_the_stage(qtbot, opened)
        opened.close()
        pictures = take_screenshots(demo_path, tmp_path)
        assert any("cable" in path.name for path in pictures)
    finally:
        STAGES.remove(STAGE)


def drive_the_stage(qtbot: QtBot, opened: Application) -> None:
    window = opened.window
    window.activateWindow()
    wait(qtbot, window.isActiveWindow)
    assert stages(opened.session.now)[-1].name == "Cable"
    qtbot.mouseClick(window.rail.item("cable"), Qt.MouseButton.LeftButton)
    stage = window.current
    assert isinstance(stage, CableStage)
    assert stage.answer == "Nobody has pulled yet"
    qtbot.keyClick(window, Qt.Key.Key_F5)
    wait(qtbot, lambda: stage.pulled == 1)
    assert stage.answer == "It holds"
    names = [command.name for command in window.commands()]
    assert "Go to Cable" in names
    assert "Pull at the cable" in names
    window.show_stage("machine")
    qtbot.keyClick(window, str(len(STAGES)), Qt.KeyboardModifier.ControlModifier)
    wait(qtbot, lambda: window.current is stage)


def test_a_parameter_is_in_the_data_sheet_and_missed_on_the_page(tmp_path: Path) -> None:
    groups = (*GROUPS, PARAMETER)
    sheet = tmp_path / "toy.eds"
    sheet.write_text(eds(groups))
    od = canopen.import_od(str(sheet), 1)
    assert od["Cable"]["Tension"].index == 0x2060
    page = (Path(__file__).parents[2] / "docs" / "drive-interface.md").read_text()
    wanted = filled_in(page, groups)
    assert wanted != page  # the check on the page fails until it is written anew
    assert "| 0x2060:1 | Cable.Tension | REAL32 | 0…5000 (0) | N | rw | of the cable |" in wanted


def test_a_command_is_in_the_help_and_runs() -> None:
    program = group([*COMMANDS, cable])
    assert "Weigh a length of cable" in CliRunner().invoke(program, ["--help"]).output
    assert CliRunner().invoke(program, ["cable", "100"]).output == "18.0 kg\n"
