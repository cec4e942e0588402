"""Start the application: fonts, palette, session, bench, window; and end it cleanly."""

import gc
import sys
import threading
import traceback
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QCoreApplication, QObject, QTimer, Signal, Slot
from PySide6.QtWidgets import QApplication, QWidget

from oarlock.errors import InputError
from oarlock.session.bench import Bench
from oarlock.session.connecting import PRACTICE
from oarlock.session.jobs import Doing, Jobs
from oarlock.session.session import Session
from oarlock.store.project import Project
from oarlock.ui.frame.window import MainWindow
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.base import StageView


class Poster(QObject):
    """Brings calls from any thread onto the thread that it lives on."""

    _posted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._posted.connect(self._call)

    def __call__(self, call: Callable[[], None]) -> None:
        """Have `call` made on the owner's thread."""
        if QCoreApplication.instance() is not None:
            self._posted.emit(call)

    @Slot(object)
    def _call(self, call: Callable[[], None]) -> None:
        call()


_FRAME = 40  # px that a window manager puts round a window


def fit_to_screen(window: QWidget, width: int, height: int) -> None:
    """Give a window a size that its screen holds: what lies beyond its edge cannot be pressed."""
    room, least = window.screen().availableSize(), window.minimumSize()
    if room.width() >= least.width() and room.height() >= least.height():
        width = max(min(width, room.width()), least.width())
        height = max(min(height, room.height() - _FRAME), least.height())
    window.resize(width, height)


class Application:
    """An open project on screen, with all that belongs to it."""

    def __init__(self, path: Path) -> None:
        self.post = Poster()
        self.jobs = Jobs(self.post)
        self.session = Session(Project.open(path), self.post)
        self.bench = Bench(self.session, self.jobs, self.post)
        self._theme_waits = False
        # Where another project, or the start page, takes this window's place.
        self.on_open: Callable[[Path], object] = lambda _path: None
        self.on_start: Callable[[], object] = lambda: None
        self.bench.doing_changed.connect(self._bench_idle)
        look.choose(self.session.screen.dark)
        self.window = self._window()

    def _window(self) -> MainWindow:
        window = MainWindow(self.session, self.bench, self.jobs)
        fit_to_screen(window, *self.session.screen.window)
        window.theme_toggled.connect(self.toggle_theme)
        window.axis_chosen.connect(self.go_to_axis)
        window.outgrown.connect(lambda: QTimer.singleShot(0, self._outgrown))
        window.open_asked.connect(lambda path: QTimer.singleShot(0, lambda: self.on_open(path)))
        window.start_asked.connect(lambda: QTimer.singleShot(0, self.on_start))
        return window

    def go_to_axis(self, name: str) -> None:
        """Go on with another axis; its drive is another one, so this one is let go."""
        if name == self.session.axis.name:
            return
        if self.bench.busy:
            self.window.message.say("An experiment is running. Stop it first, or wait for its end")
            return
        up = self.bench.connected or self.bench.connecting
        practice = up and self.bench.channel.startswith(PRACTICE)
        if self.session.axis.name in self.session.axis_names:
            self.bench.park()
        else:  # it was taken off the project
            self.bench.disconnect()
        self.window.leave()  # it shows this axis, and no other
        try:
            self.session.switch(name)
        except InputError as error:
            self._renew()
            self.window.message.say(str(error))
            return
        self._renew()
        self.window.read_records()
        if not self.bench.resume() and practice:
            self.bench.connect_drive(self.bench.channel)

    def toggle_theme(self) -> None:
        """Change between light and dark, keeping everything else as it is."""
        if self.bench.busy:  # its end is told to the stages of this window
            self._theme_waits = not self._theme_waits
            text = "The colours change when the experiment has ended" if self._theme_waits else ""
            self.window.message.say(text)
            return
        self._theme_waits = False
        dark = not self.session.screen.dark
        self.session.show(dark=dark)
        look.choose(dark)
        kept = {stage.key: stage.kept() for stage in self.window.findChildren(StageView)}
        self._renew(as_it_was=True)
        for key, shown in kept.items():
            if shown is not None:
                self.window.stage(key).take_kept(shown)

    def _bench_idle(self, doing: Doing) -> None:
        """Do what had to wait for the end of an experiment, once nothing follows."""
        if not doing.text:
            QTimer.singleShot(50, self._do_what_waits)

    def _do_what_waits(self) -> None:
        if self.bench.busy:
            return
        if self._theme_waits:
            self.toggle_theme()
        self._outgrown()

    def _outgrown(self) -> None:
        """Make the window anew where its stages are made for another kind of sensor.

        Not while an experiment runs: its end is told to the stages of this window.
        """
        if self.window.made_for is not self.session.axis.sensor.kind and not self.bench.busy:
            self._renew(as_it_was=True)

    def _renew(self, *, as_it_was: bool = False) -> None:
        """Make the window anew, of the same size, in place of the old one.

        Parameters
        ----------
        as_it_was : with the panels that are open

        """
        old = self.window
        old.leave()
        self.window = self._window()
        self.window.resize(old.size())
        self.window.message.say(old.message.text())
        self.window.show()
        if as_it_was:
            self.window.panels.open_as(old.panels)
        self.bench.changed.emit()
        old.close_now()
        old.deleteLater()

    def start(self, *, practice: bool) -> None:
        """Show the window; what can wait comes after it stands."""
        self.window.show()
        QTimer.singleShot(0, self._warm)
        if practice:
            QTimer.singleShot(0, lambda: self.bench.connect_drive(PRACTICE))

    def _warm(self) -> None:
        gc.freeze()
        gc.enable()
        threading.Thread(target=_warm_up, name="warm", daemon=True).start()
        self.window.read_records()

    def close(self) -> bool:
        """Leave the drive de-energised and the project whole; return whether all was saved."""
        self.bench.close()
        self.jobs.stop_all()
        # What ended meanwhile has told so: a run that was played lands in the logbook.
        QCoreApplication.sendPostedEvents(self.post)
        self.window.leave()
        return self.session.close()


def _warm_up() -> None:
    from oarlock.control.compiled import warm
    from oarlock.quantities.entry import warm as warm_units

    warm()
    warm_units()


def application() -> QApplication:
    """Return the Qt application, made on first use."""
    # Painting gives the interpreter away hundreds of times. Beside a job that computes, it would
    # be handed back after 5 ms each time: a drag would take two seconds a position.
    sys.setswitchinterval(1e-4)
    found = QApplication.instance()
    if isinstance(found, QApplication):
        return found
    made = QApplication(sys.argv[:1])
    made.setApplicationName("Oarlock")
    made.setStyle("Fusion")
    return made


def report_crash(
    kind: type[BaseException], error: BaseException, trace: TracebackType | None
) -> None:
    """Write a programming error to the log beside the project's cache, and carry on."""
    from platformdirs import user_log_path

    text = "".join(traceback.format_exception(kind, error, trace))
    folder = user_log_path("oarlock")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with (folder / "crash.log").open("a", encoding="utf-8") as file:
            file.write(text)
    except OSError:
        pass  # nowhere to write: the line below still says it
    sys.stderr.write(
        f"oarlock: a fault of the program, see {folder / 'crash.log'}: {error}\n{text}"
    )
