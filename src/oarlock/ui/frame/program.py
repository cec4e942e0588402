"""What is on screen: the start page or a project's window, and the way from one to the other."""

import signal
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QMainWindow

from oarlock.errors import InputError
from oarlock.session.new_project import make_project, project_beside
from oarlock.session.recent import RecentAxis, remember
from oarlock.ui.frame.app import Application, application, fit_to_screen, report_crash
from oarlock.ui.kit import theme as look
from oarlock.ui.start.window import StartWindow
from oarlock.views.left_off import left_off


@dataclass(frozen=True, slots=True)
class Demo:
    """The demo's project: where it is, and what makes it there."""

    path: Path
    make: Callable[[], Path]


class Program(QObject):
    """Holds either the start page or one open project."""

    def __init__(self, demo: Demo) -> None:
        super().__init__()
        self._demo = demo
        self.opened: Application | None = None
        self.start_page: StartWindow | None = None
        self.unsaved = ""  # what could not be saved of a project that was closed

    # The start page

    def show_start(self) -> None:
        """Show the start page, in place of a project that is open."""
        size = self._size()
        self._close_project()
        look.choose(dark=look.theme() is look.DARK)
        page = self.start_page = StartWindow()
        page.open_asked.connect(self.open)
        page.new_asked.connect(self.make_new)
        page.demo_asked.connect(self.open_demo)
        fit_to_screen(page, *size)
        page.show()

    def _size(self) -> tuple[int, int]:
        window: QMainWindow | None = self.opened.window if self.opened else self.start_page
        return (window.width(), window.height()) if window else (1280, 800)

    # Projects

    def open(self, path: Path, *, practice: bool = False) -> bool:
        """Open a project, or the one beside an axis file; return whether it is open."""
        try:
            if path.suffix == ".toml":
                path = project_beside(path)
            made = Application(path)
        except InputError as error:
            self._say(str(error))
            return False
        self.show_project(made, practice=practice)
        return True

    def show_project(self, made: Application, *, practice: bool = False) -> None:
        """Show a project in place of what is on screen."""
        size = self._size() if self.start_page or self.opened else None
        page, self.start_page = self.start_page, None
        self._close_project()
        self.opened = made
        made.on_open, made.on_start = self.open, self.show_start
        if size is not None:
            made.window.resize(*size)
        made.start(practice=practice)
        if page is not None:
            page.close()
            page.deleteLater()
        self._remember(opened_now=True)

    def make_new(self, path: Path, name: str) -> bool:
        """Make a project with one axis of which nothing is known, and open it."""
        try:
            make_project(path, name)
        except InputError as error:
            self._say(str(error))
            return False
        return self.open(path)

    def open_demo(self) -> None:
        """Open the demo, its practice drive running."""
        try:
            path = self._demo.make()
        except InputError as error:
            self._say(str(error))
            return
        self.open(path, practice=True)

    def _say(self, text: str) -> None:
        if self.start_page is not None:
            self.start_page.say(text)
        elif self.opened is not None:
            self.opened.window.message.say(text)

    def _remember(self, *, opened_now: bool = False) -> None:
        """Put the open project into the list of recent ones, as it stands; the demo is not.

        Parameters
        ----------
        opened_now : its runs are not read yet, so that what was said of it stays

        """
        opened = self.opened
        if opened is None or opened.session.path.absolute() == self._demo.path.absolute():
            return
        session = opened.session
        said = "" if opened_now and session.runs else left_off(session.now)
        axes = [RecentAxis(name, said if name == session.axis.name else "")
                for name in session.axis_names]  # fmt: skip
        remember(session.path, session.name, axes)

    def _close_project(self) -> None:
        opened, self.opened = self.opened, None
        if opened is None:
            return
        self.opened = opened
        self._remember()
        self.opened = None
        if not opened.close():
            self.unsaved = (
                f"{opened.session.path}: not all could be saved: {opened.session.trouble}"
            )
        opened.window.close_now()
        opened.window.deleteLater()

    def leave(self) -> None:
        """Close what is open, at the end of the program."""
        self._close_project()

    def quit(self) -> None:
        """Close what is on screen without asking."""
        if self.opened is not None:
            self.opened.window.close_now()
        elif self.start_page is not None:
            self.start_page.close()

    @property
    def window(self) -> QMainWindow | None:
        """What is on screen."""
        return self.opened.window if self.opened else self.start_page


def run_program(path: Path | None, demo: Demo, *, practice: bool = False) -> int:
    """Open a project, or the start page, and stay until the window is closed.

    Raises
    ------
    InputError : the project cannot be opened

    """
    qt = application()
    look.load_fonts()
    sys.excepthook = report_crash
    program = Program(demo)
    if path is None:
        program.show_start()
    else:
        program.show_project(Application(path), practice=practice)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: program.quit())
    qt.exec()
    program.leave()
    if program.unsaved:
        sys.stderr.write(f"oarlock: {program.unsaved}\n")
        return 2
    return 0
