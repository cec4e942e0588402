"""The start page and the way to a project: recent ones, a new one, files, the demo."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QLineEdit
from pytestqt.qtbot import QtBot
from shiboken6 import isValid

from oarlock.demo.project import FILE, make_demo
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.session.new_project import make_project
from oarlock.session.recent import RecentAxis, recent, remember
from oarlock.session.shelf import put
from oarlock.store.project import Project
from oarlock.ui.frame.new_axis import NewAxisPanel, RenamePanel
from oarlock.ui.frame.program import Demo, Program
from oarlock.ui.start.projects import when
from oarlock.ui.start.window import StartWindow
from tests.conftest import wait

Key = Qt.Key


@pytest.fixture
def program(qtbot: QtBot, tmp_path: Path) -> Iterator[Program]:
    folder = tmp_path / "the demo"
    made = Program(Demo(folder / FILE, lambda: make_demo(folder)))
    yield made
    made.leave()
    if made.start_page is not None:
        made.start_page.close()
        made.start_page.deleteLater()
    qtbot.wait(1)


def page_of(program: Program, qtbot: QtBot) -> StartWindow:
    program.show_start()
    assert program.start_page is not None
    qtbot.waitExposed(program.start_page)
    return program.start_page


def commanded(program: Program, name: str) -> None:
    """Do a command of the palette by its name."""
    assert program.opened is not None
    command = next(c for c in program.opened.window.commands() if c.name == name)
    command.action()


def test_the_first_start_shows_nothing_in_the_way(program: Program, qtbot: QtBot) -> None:
    page = page_of(program, qtbot)
    assert not page.list.isVisible()
    assert not page.search.isVisible()
    assert page.focusWidget() is page.name
    assert page.name.selectedText() == "My project"
    assert "my-project.oarlock" in page.place.text()


def test_from_nothing_to_a_hollow_motor_with_two_keys(
    program: Program, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = page_of(program, qtbot)
    monkeypatch.setattr(page, "_folder", tmp_path / "mine")
    qtbot.keyClicks(page.name, "Bow anchor")
    qtbot.keyClick(page.name, Key.Key_Return)
    opened = program.opened
    assert opened is not None
    assert program.start_page is None
    assert opened.session.path == tmp_path / "mine" / "bow-anchor.oarlock"
    stage = opened.window.current
    assert stage.answer == "Unknown yet: three numbers to the first measurement"
    assert opened.window.top_bar.project_button.text() == "Bow anchor"
    assert [entry.name for entry in recent()] == ["Bow anchor"]
    assert recent()[0].axes == (RecentAxis("Motor 1", "0 of 9 known; 3 needed first"),)


def test_a_name_that_is_taken_is_told_and_nothing_is_lost(
    program: Program, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    make_project(tmp_path / "own.oarlock", "Own")
    page = page_of(program, qtbot)
    monkeypatch.setattr(page, "_folder", tmp_path)
    page.name.setText("own")
    page.make_new()
    assert program.opened is None
    assert "this file exists" in page.trouble.text()
    page.name.setText("   ")
    page.make_new()
    assert "is no name" in page.trouble.text()


def test_enter_opens_the_newest_and_the_list_is_searched(
    program: Program, qtbot: QtBot, tmp_path: Path
) -> None:
    for n in range(9):
        path = make_project(tmp_path / f"p{n}.oarlock", f"Project {n}")
        remember(path, f"Project {n}", [RecentAxis(f"Motor-{n}", "begun")])
    page = page_of(program, qtbot)
    assert page.focusWidget() is page.list
    assert page.projects.rowCount() == 9
    assert page.search.isVisible()
    qtbot.keyClicks(page.search, "motor-3")
    assert [entry.name for entry in page.projects.shown] == ["Project 3"]
    page.search.clear()
    qtbot.keyClick(page.list, Key.Key_Delete)
    assert recent()[0].name == "Project 7"
    assert (tmp_path / "p8.oarlock").exists()
    qtbot.keyClick(page.list, Key.Key_Return)
    assert program.opened is not None
    assert program.opened.session.name == "Project 7"


def test_a_project_that_vanished_is_told_and_stays_on_the_list(
    program: Program, qtbot: QtBot, tmp_path: Path
) -> None:
    remember(tmp_path / "gone.oarlock", "Gone", [])
    page = page_of(program, qtbot)
    page.list.setFocus()
    qtbot.keyClick(page.list, Key.Key_Return)
    assert "no such file" in page.trouble.text()
    assert program.opened is None
    assert page.projects.rowCount() == 1


def test_files_are_opened_dropped_and_refused(
    program: Program, qtbot: QtBot, tmp_path: Path, axis: Axis
) -> None:
    page = page_of(program, qtbot)
    odd = tmp_path / "odd.toml"
    odd.write_text("this = is not an axis")
    drop(page, odd)
    assert "odd.toml" in page.trouble.text()
    file = tmp_path / "winch.axis.toml"
    file.write_text(format_axis(axis))
    drop(page, file)
    assert program.opened is not None
    assert program.opened.session.axis.name == axis.name
    other = make_project(tmp_path / "other.oarlock", "Other")
    window = program.opened.window
    drop(window, other)
    wait(qtbot, lambda: program.opened is not None and program.opened.session.name == "Other")
    window = program.opened.window
    drop(window, tmp_path / "nothing.oarlock")
    wait(qtbot, lambda: "no such file" in window.message.text())
    assert program.opened.session.name == "Other"


def drop(window: object, path: Path) -> None:
    """Drop a file on a window."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(QPoint(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                       Qt.KeyboardModifier.NoModifier)  # fmt: skip
    window.dropEvent(event)  # type: ignore[attr-defined]


def test_the_demo_opens_and_is_no_project_of_ones_own(program: Program, qtbot: QtBot) -> None:
    page = page_of(program, qtbot)
    page.demo_button.click()
    opened = program.opened
    assert opened is not None
    assert opened.session.name == "River survey"
    assert recent() == ()
    opened.bench.disconnect()
    commanded(program, "Start page: all projects, a new one")
    wait(qtbot, lambda: program.start_page is not None)
    assert program.opened is None


def test_back_to_the_start_page_remembers_how_it_was_left(
    program: Program, qtbot: QtBot, demo_path: Path
) -> None:
    assert program.open(demo_path)
    program.show_start()
    assert program.start_page is not None
    assert program.start_page.projects.rowCount() == 1
    axes = recent()[0].axes
    assert axes[0].name == "Sonar winch"
    assert axes[0].said
    assert axes[1] == RecentAxis("Thruster", "")


def test_dates_as_one_says_them() -> None:
    assert when("2001-02-03T04:05:06+00:00") == "3 Feb 2001"
    assert when("no date") == ""


# Axes of a project, through the window


@pytest.fixture
def own(program: Program, tmp_path: Path) -> Program:
    assert program.open(make_project(tmp_path / "own.oarlock", "Own"))
    return program


def test_an_axis_from_the_shelf_by_its_rating(own: Program, qtbot: QtBot, axis: Axis) -> None:
    put(axis)
    commanded(own, "New axis…")
    assert own.opened is not None
    panel = own.opened.window.panels.over
    assert isinstance(panel, NewAxisPanel)
    assert panel.name.text() == "Motor 2"
    wait(qtbot, lambda: panel.list.count() == 5)  # hollow, a copy, one of the shelf, two examples
    qtbot.keyClicks(panel.search, "320 V 7 A")
    assert panel.list.count() == 2
    panel.name.setText("Spare winch")
    qtbot.keyClick(panel.search, Key.Key_Return)
    wait(qtbot, lambda: own.opened is not None and own.opened.session.axis.name == "Spare winch")
    assert own.opened.session.axis.machine.R.value == pytest.approx(0.82)
    assert own.opened.session.axis_names == ("Motor 1", "Spare winch")


def test_an_axis_of_another_project(own: Program, qtbot: QtBot, tmp_path: Path, axis: Axis) -> None:
    other = make_project(tmp_path / "bow.oarlock", "Bow anchor")
    project = Project.open(other)
    project.save_axis("Windlass", format_axis(replace(axis, name="Windlass")), "Added")
    project.close()
    remember(other, "Bow anchor", ())
    assert own.opened is not None
    commanded(own, "New axis…")
    panel = own.opened.window.panels.over
    assert isinstance(panel, NewAxisPanel)
    wait(qtbot, lambda: any("in Bow anchor" in panel.list.item(n).text()
                            for n in range(panel.list.count())))  # fmt: skip
    qtbot.keyClicks(panel.search, "windlass")
    assert panel.list.count() == 1
    assert panel.list.item(0).text() == "Copy of Windlass   in Bow anchor"
    panel.name.setText("Copied")
    qtbot.keyClick(panel.search, Key.Key_Return)
    wait(qtbot, lambda: own.opened is not None and own.opened.session.axis.name == "Copied")
    machine = own.opened.session.axis.machine
    assert machine.R.value == axis.machine.R.value
    assert not machine.R.best.is_measured


def test_a_name_twice_is_told_in_place(own: Program, qtbot: QtBot) -> None:
    assert own.opened is not None
    commanded(own, "New axis…")
    panel = own.opened.window.panels.over
    assert isinstance(panel, NewAxisPanel)
    panel.name.setText("motor 1")
    qtbot.keyClick(panel.name, Key.Key_Return)
    assert "already" in own.opened.window.message.text()
    assert panel.isVisible()
    assert own.opened.session.axis_names == ("Motor 1",)
    own.opened.window.escape()
    wait(qtbot, lambda: not isValid(panel))


def test_rename_remove_and_bring_back(own: Program, qtbot: QtBot) -> None:
    opened = own.opened
    assert opened is not None
    commanded(own, "Rename Motor 1…")
    panel = opened.window.panels.over
    assert isinstance(panel, RenamePanel)
    panel.name.setText("Bow anchor")
    qtbot.keyClick(panel.name, Key.Key_Return)
    assert opened.session.axis.name == "Bow anchor"
    assert opened.window.top_bar.axis_button.text() == "Bow anchor"
    assert opened.window.files.add_axis(format_axis(opened.session.axis), "Stern", "copy")
    wait(qtbot, lambda: opened.session.axis.name == "Stern")
    assert "Move Stern down in the list" not in [c.name for c in opened.window.commands()]
    commanded(own, "Move Stern up in the list")
    assert opened.session.axis_names == ("Stern", "Bow anchor")
    opened.window.files.fill_axis_menu()
    listed = [action.text() for action in opened.window.top_bar.axis_menu.actions()]
    assert listed[:2] == ["Stern", "Bow anchor"]
    commanded(own, "Remove Stern from the project")
    wait(qtbot, lambda: opened.session.axis.name == "Bow anchor")
    assert "Remove Bow anchor from the project" not in [c.name for c in opened.window.commands()]
    commanded(own, "Bring back the axis Stern")
    wait(qtbot, lambda: opened.session.axis.name == "Stern")


def test_a_copy_of_the_project_is_written(own: Program, qtbot: QtBot, tmp_path: Path) -> None:
    assert own.opened is not None
    window = own.opened.window
    window.files.save_copy(tmp_path / "copy")
    wait(qtbot, lambda: (tmp_path / "copy.oarlock").exists())
    wait(qtbot, lambda: "A copy is in" in window.message.text())
    window.files.save_copy(tmp_path / "copy")
    wait(qtbot, lambda: "this file exists" in window.message.text())


def test_the_menus_list_what_can_be_done(own: Program, tmp_path: Path) -> None:
    remember(tmp_path / "other.oarlock", "Other & more", [])
    assert own.opened is not None
    bar = own.opened.window.top_bar
    bar.project_menu.aboutToShow.emit()
    texts = [action.text() for action in bar.project_menu.actions()]
    assert "Other && more" in texts
    assert "Save a copy…" in texts
    bar.axis_menu.aboutToShow.emit()
    assert [a.text() for a in bar.axis_menu.actions()][:1] == ["Motor 1"]


def test_every_entry_of_the_page_has_a_name(program: Program, qtbot: QtBot) -> None:
    page = page_of(program, qtbot)
    assert all(entry.accessibleName() for entry in page.findChildren(QLineEdit))
