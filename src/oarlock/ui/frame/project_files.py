"""Projects and axes as files and menus: open, new, save a copy, add and remove an axis."""

import functools
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from oarlock.errors import InputError, OarlockError
from oarlock.session.jobs import Done, Failed, Guest, Stopped
from oarlock.session.recent import recent
from oarlock.ui.frame.palette import Command
from oarlock.ui.kit.pickers import ask_file

if TYPE_CHECKING:
    from oarlock.ui.frame.window import MainWindow

KINDS = "Projects and axis files (*.oarlock *.toml);;All files (*)"
_RECENT = 5  # in the menu


class ProjectFiles:
    """What can be done with the project as a whole."""

    def __init__(self, window: "MainWindow", jobs: Guest) -> None:
        self._window, self.jobs = window, jobs

    # Menus and commands

    def fill_project_menu(self) -> None:
        """List what can be done with projects."""
        menu = self._window.top_bar.project_menu
        menu.clear()
        self._add(menu, "Start page: all projects, a new one", self.start, "Ctrl+N")
        self._add(menu, "Open…", self.ask_open, "Ctrl+O")
        others = [r for r in recent()[: _RECENT + 1] if r.path != self._window.session.path]
        if others:
            menu.addSeparator()
            for entry in others[:_RECENT]:
                self._add(menu, entry.name, functools.partial(self.open, entry.path))
        menu.addSeparator()
        self._add(menu, "Save a copy…", self.ask_copy, "Ctrl+Shift+S")

    def fill_axis_menu(self) -> None:
        """List the axes, and what can be done with them."""
        window = self._window
        menu, session = window.top_bar.axis_menu, window.session
        menu.clear()
        for name in session.axis_names:
            go = functools.partial(window.axis_chosen.emit, name)
            parked = name in window.bench.parking.names
            action = self._add(menu, f"{name} (drive connected)" if parked else name, go)
            action.setCheckable(True)
            action.setChecked(name == session.axis.name)
        menu.addSeparator()
        for command in self._axis_commands():
            self._add(menu, command.name, command.action)

    def _add(self, menu: QMenu, text: str, action: Callable[[], object], keys: str = "") -> QAction:
        made = menu.addAction(text.replace("&", "&&"))
        made.triggered.connect(lambda *_: action())
        if keys:
            made.setShortcut(QKeySequence(keys))
            made.setShortcutVisibleInContextMenu(True)
        return made

    def commands(self) -> list[Command]:
        """Return all of it for the palette."""
        found = [
            Command("Open a project or an axis file…", "Ctrl+O", self.ask_open),
            Command("Start page: all projects, a new one", "Ctrl+N", self.start),
            Command("Save a copy of the project…", "Ctrl+Shift+S", self.ask_copy),
        ]
        return [*found, *self._axis_commands()]

    def _axis_commands(self) -> list[Command]:
        window = self._window
        session, name = window.session, window.session.axis.name
        found = [
            Command("New axis…", "", window.panels.open_new_axis),
            Command(f"Rename {name}…", "", window.panels.open_rename),
            Command(f"Put {name} on the machine shelf", "", self.shelve),
            Command(f"Write {name} to an axis file…", "", self.ask_axis_file),
        ]
        if len(session.axis_names) > 1:
            at = session.axis_names.index(name)
            if at > 0:
                before = functools.partial(self.move_axis, -1)
                found.append(Command(f"Move {name} up in the list", "", before))
            if at < len(session.axis_names) - 1:
                after = functools.partial(self.move_axis, 1)
                found.append(Command(f"Move {name} down in the list", "", after))
            found.append(Command(f"Remove {name} from the project", "", self.remove_axis))
        for gone in session.axes.removed:
            back = functools.partial(self.bring_back, gone)
            found.append(Command(f"Bring back the axis {gone}", "", back))
        return found

    # Projects

    def start(self) -> None:
        """Go to the start page."""
        if self._is_free():
            self._window.start_asked.emit()

    def ask_open(self) -> None:
        """Let the user pick a project or an axis file."""
        folder = str(self._window.session.path.parent)
        ask_file(self._window, "Open a project or an axis file", folder, KINDS, self.open)

    def open(self, path: Path) -> None:
        """Open another project in this window's place."""
        if self._is_free():
            self._window.open_asked.emit(path)

    def take_dropped(self, paths: list[Path]) -> None:
        """Open what was dropped on the window; a recording is read by Identify."""
        if not paths:
            return
        path = paths[0]
        if path.suffix.lower() in (".oarlock", ".toml"):
            self.open(path)
            return
        self._window.show_stage("identify")
        self._window.current.take_file(path)

    def _is_free(self) -> bool:
        if self._window.bench.busy:
            self._window.message.say("An experiment is running. Stop it first, or wait for its end")
            return False
        return True

    def ask_copy(self) -> None:
        """Let the user say where a copy goes, and write it in a job."""
        path = self._window.session.path
        start = str(path.with_name(f"{path.stem}-copy{path.suffix}"))
        ask_file(self._window, "Save a copy of the project", start, "Projects (*.oarlock)",
                 self.save_copy, new=True)  # fmt: skip

    def save_copy(self, path: Path) -> None:
        """Write a copy in a job."""
        session = self._window.session
        path = path.with_suffix(".oarlock")
        self.jobs.start(
            lambda _progress, _cancel: session.save_copy(path),
            on_end=lambda outcome: self._told(outcome, f"A copy is in {path}"),
            name="save a copy",
        )

    def _told(self, outcome: Done[None] | Stopped | Failed, text: str) -> None:
        if isinstance(outcome, Failed):
            if not isinstance(outcome.error, OarlockError):
                raise outcome.error
            text = str(outcome.error)
        self._window.message.say(text)

    # Axes

    def add_axis(self, axis_text: str, name: str, label: str) -> bool:
        """Add an axis from the text of an axis file and go to it; return whether it was added."""
        from oarlock.machine.axis_file import parse_axis

        window = self._window
        try:
            axis = parse_axis(axis_text, place=name)
            made = window.session.axes.add(axis, name, label)
        except InputError as error:
            window.message.say(str(error))
            return False
        window.axis_chosen.emit(made)
        return True

    def rename_axis(self, name: str) -> bool:
        """Give the open axis another name; return whether it has it."""
        window = self._window
        if not self._is_free():
            return False
        try:
            window.session.rename(name)
        except InputError as error:
            window.message.say(str(error))
            return False
        return True

    def remove_axis(self) -> None:
        """Take the open axis off the project; it can be brought back."""
        window = self._window
        if not self._is_free():
            return
        session, name = window.session, window.session.axis.name
        other = next((one for one in session.axis_names if one != name), "")
        try:
            session.axes.remove(name)
        except InputError as error:
            window.message.say(str(error))
            return
        window.axis_chosen.emit(other)

    def move_axis(self, by: int) -> None:
        """Move the open axis in the list."""
        session = self._window.session
        try:
            session.axes.move(session.axis.name, by)
        except InputError as error:
            self._window.message.say(str(error))

    def bring_back(self, name: str) -> None:
        """Show an axis again that was taken away, and go to it."""
        try:
            self._window.session.axes.bring_back(name)
        except InputError as error:
            self._window.message.say(str(error))
            return
        self._window.axis_chosen.emit(name)

    def shelve(self) -> None:
        """Put the open axis's machine on the shelf."""
        from oarlock.session.shelf import put

        try:
            path = put(self._window.session.axis)
        except InputError as error:
            self._window.message.say(str(error))
            return
        self._window.message.say(f"On the shelf as {path.name}: any project can begin from it")

    def ask_axis_file(self) -> None:
        """Let the user say where the axis's file goes, and write it."""
        session = self._window.session
        plain = session.axis.name.lower().replace(" ", "-")
        start = str(session.path.with_name(f"{plain}.axis.toml"))
        ask_file(self._window, "Write the axis to a file", start, "Axis files (*.toml)",
                 self._write_axis, new=True)  # fmt: skip

    def _write_axis(self, path: Path) -> None:
        from oarlock.files import write_atomic
        from oarlock.machine.axis_file import format_axis

        try:
            write_atomic(path, format_axis(self._window.session.axis).encode())
        except InputError as error:
            self._window.message.say(str(error))
            return
        self._window.message.say(f"Written to {path}")
