"""The frame: top bar, strip, rail, stage, numbers, logbook; and what the keys do."""

import functools
import importlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import SignalInstance
from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QResizeEvent,
    QShortcut,
)
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oarlock.errors import InputError
from oarlock.session.bench import Bench
from oarlock.session.jobs import Doing, Guest, Jobs
from oarlock.session.session import Session
from oarlock.ui.frame.closing import must_ask
from oarlock.ui.frame.drawer import Drawer
from oarlock.ui.frame.logbook import Logbook
from oarlock.ui.frame.message import Message
from oarlock.ui.frame.panels import Panels
from oarlock.ui.frame.project_files import ProjectFiles
from oarlock.ui.frame.rail import Rail
from oarlock.ui.frame.reader import Reader
from oarlock.ui.frame.strip import TimescalesStrip
from oarlock.ui.frame.strip_loops import StripLoops
from oarlock.ui.frame.top_bar import TopBar
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.base import Around, StageView
from oarlock.views.rail import STAGES, stages
from oarlock.views.stage import Stage

if TYPE_CHECKING:
    from oarlock.ui.frame.palette import Command


_TOGETHER = 50  # ms, within which what was read is shown together


class MainWindow(QMainWindow):
    """One open project."""

    theme_toggled = Signal()
    axis_chosen = Signal(str)
    open_asked = Signal(Path)
    start_asked = Signal()
    outgrown = Signal()  # another kind of sensor: its stages are made of other parts

    def __init__(self, session: Session, bench: Bench, jobs: Jobs) -> None:
        super().__init__()
        self.session, self.bench, self._jobs = session, bench, Guest(jobs)
        self.setWindowTitle(f"{session.axis.name} – {session.name} – Oarlock")
        self.setMinimumSize(1024, 700)
        self.setAcceptDrops(True)
        self.top_bar, self.strip, self.rail = TopBar(), TimescalesStrip(), Rail()
        self.loops = StripLoops(self.strip, session, bench, self._jobs)
        self.logbook = Logbook()
        self._stages: dict[str, StageView] = {}
        self.made_for = session.axis.sensor.kind
        self._stack, self._numbers = QStackedWidget(), QStackedWidget()
        self._numbers.setFixedWidth(look.NUMBERS)
        self._numbers.setAutoFillBackground(True)
        self.message = Message()
        self._lay_out()
        button = self.top_bar.numbers_button
        self.drawer = Drawer(self, self._middle, self._numbers, button)
        self.files = ProjectFiles(self, self._jobs)
        self.panels = Panels(self, self._ground)
        self._closing = False
        self._read_soon = QTimer(self)  # many records are read one after another
        self._read_soon.setSingleShot(True)
        self._read_soon.setInterval(_TOGETHER)
        self._read_soon.timeout.connect(self._runs_changed)
        self._reader = Reader(session, self._jobs, self.message.say)
        self._wire()
        key = session.screen.stage
        self.show_stage(key if key in [spec.key for spec in STAGES] else "machine")
        self.rail.item(session.screen.stage).setFocus()
        self._timer = QTimer(self)
        self._timer.setInterval(100)
        self._timer.timeout.connect(self._look_at_drive)
        self._timer.start()
        application = QApplication.instance()
        if application is not None:
            application.installEventFilter(self)

    def _lay_out(self) -> None:
        middle = self._middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        for widget in (self.rail, self._stack, self._numbers):
            middle.addWidget(widget)
        column = QVBoxLayout()
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.top_bar)
        column.addWidget(self.strip)
        column.addLayout(middle, 1)
        column.addWidget(self.message)
        column.addSpacing(look.LOGBOOK)  # the logbook's rows; its table lies over the stage
        central = self._ground = QWidget()
        central.setLayout(column)
        self.setCentralWidget(central)
        self.logbook.setParent(central)

    def _wire(self) -> None:
        session, bench = self.session, self.bench
        self._subscriptions: list[tuple[SignalInstance, Callable[..., None]]] = []
        for signal, slot in (
            (session.axis_changed, self._axis_changed),
            (session.runs_changed, self._runs_changed),
            (session.readings_changed, self._readings_changed),
            (session.trouble_changed, self.top_bar.show_trouble),
            (session.notice, self._tell),
            (bench.changed, self._bench_changed),
            (bench.doing_changed, self._show_doing),
            (bench.told, self._tell),
            (bench.hand.changed, self._refresh_stage),
        ):
            self.follow(signal, slot)
        self.rail.chosen.connect(self.show_stage)
        self.top_bar.stop.connect(bench.stop)
        self.top_bar.cancel.connect(bench.stop)
        self.top_bar.connect_asked.connect(self.panels.open_connect)
        self.top_bar.axis_chosen.connect(self.axis_chosen)
        self.top_bar.project_menu.aboutToShow.connect(self.files.fill_project_menu)
        self.top_bar.axis_menu.aboutToShow.connect(self.files.fill_axis_menu)
        self.loops.rested.connect(self._rested)
        self.strip.dragged.connect(self._strip_dragged)
        self.strip.released.connect(self._strip_released)
        self.strip.nudged.connect(self._strip_nudged)
        self.strip.filter_dragged.connect(lambda n, hertz: self.current.drag_filter(n, hertz))
        self.strip.filter_released.connect(lambda: self.current.end_filter())
        self.logbook.pin.connect(lambda n, on: session.change_run(n, pinned=on))
        self.logbook.star.connect(lambda n, on: session.change_run(n, starred=on))
        self.logbook.annotate.connect(lambda n, text: session.change_run(n, note=text))
        self.logbook.take_back.connect(self.take_back)
        self.logbook.compare_pinned.clicked.connect(self.panels.open_comparison)
        self.logbook.wide.connect(self._place_logbook)
        for keys, action in (
            ("Esc", self.escape),
            ("F1", self.panels.toggle_help),
            ("F5", self.run_stage),
            ("Ctrl+Z", session.undo),
            ("Ctrl+Shift+Z", session.redo),
            ("Ctrl+Y", session.redo),
            ("Ctrl+K", self.panels.open_palette),
            ("F7", self.panels.open_comparison),
            ("F8", self.panels.open_commissioning),
            ("F9", self.drawer.toggle),
            ("Ctrl+O", self.files.ask_open),
            ("Ctrl+N", self.files.start),
            ("Ctrl+Shift+S", self.files.ask_copy),
            ("Ctrl+Q", self.close),
        ):
            QShortcut(QKeySequence(keys), self).activated.connect(action)
        for number, key in enumerate([spec.key for spec in STAGES], 1):
            shortcut = QShortcut(QKeySequence(f"Ctrl+{number}"), self)
            shortcut.activated.connect(functools.partial(self.show_stage, key))

    # Stages

    def stage(self, key: str) -> StageView:
        """Return a stage, made when it is first wanted."""
        if key not in self._stages:
            made = self._made(key)
            self._stages[key] = made
            self._stack.addWidget(made)
            self._numbers.addWidget(_scrolled(made.numbers))
        return self._stages[key]

    def _made(self, key: str) -> StageView:
        """Make a stage; its module is loaded then, so that a start waits for one alone."""
        spec = next(spec for spec in STAGES if spec.key == key)
        around = Around(session=self.session, bench=self.bench, jobs=self._jobs,
                        tell=self.message.say, x_of=self.strip.x_of,
                        commission=self.panels.open_commissioning)  # fmt: skip
        made: StageView = importlib.import_module(spec.widget).STAGE(around)
        made.reread.connect(lambda: self.strip.show_read_out(made.read_out()))
        self.strip.rescaled.connect(made.lay_out)
        return made

    @property
    def current(self) -> StageView:
        """The stage on screen."""
        return self.stage(self.session.screen.stage)

    def show_stage(self, key: str) -> None:
        """Bring a stage on screen."""
        self.session.show(stage=key)
        self.panels.make_room()
        stage = self.stage(key)
        self._stack.setCurrentWidget(stage)
        self._numbers.setCurrentIndex(self._stack.indexOf(stage))
        self._refresh_all()

    def _refresh_all(self) -> None:
        self._refresh_stage()
        self._refresh_frame()

    def _refresh_stage(self) -> None:
        stage, axis = self.current, self.session.axis
        self.top_bar.show_units(self.session.screen.units, axis.machine.pole_pairs,
                                axis.rated_torque)  # fmt: skip
        stage.refresh()
        self.loops.show_all(stage, self.session.now)

    def _refresh_frame(self) -> None:
        session = self.session
        self.top_bar.show_project(session.name, session.axis.name)
        self._refresh_rail()
        self.logbook.show_runs(session.runs, session.axis, session.unwritten)

    def _refresh_rail(self) -> None:
        key = self.session.screen.stage
        self.rail.show_stages(stages(self.session.now), key)

    # What happens

    def _axis_changed(self, _axis: object) -> None:
        if self.session.axis.sensor.kind is not self.made_for:
            self.outgrown.emit()
            return
        if self.session.dragging:
            self.current.refresh()
            self.loops.show_moving(self.current)
        else:
            self._refresh_all()

    def _rested(self, rail: list[Stage]) -> None:
        """Bring up to date what hangs on a loop that is dragged, and has come to rest."""
        self.current.rest()
        self.rail.show_stages(rail, self.session.screen.stage)

    def _readings_changed(self) -> None:
        if not self._read_soon.isActive():
            self._read_soon.start()

    def _runs_changed(self) -> None:
        self._refresh_all()
        self.panels.refresh()
        self.read_records()

    def _bench_changed(self) -> None:
        bench = self.bench
        self.top_bar.show_link(bench.name, connected=bench.connected,
                               connecting=bench.connecting, waiting=bench.waiting)  # fmt: skip
        self._refresh_stage()  # with the strip's rings
        self.panels.refresh()

    def _show_doing(self, doing: Doing) -> None:
        self.top_bar.show_doing(doing)
        self.current.show_doing(doing)

    def _look_at_drive(self) -> None:
        self.bench.watch()
        if self.bench.connected:
            self.top_bar.show_live(self.bench.live)
            self.current.show_live(self.bench.live)

    def _tell(self, text: str) -> None:
        self.message.say(text)

    def escape(self) -> None:
        """Stop the drive; where nothing runs, close what lies on top as well."""
        running = self.bench.busy
        self.bench.stop()
        if running:
            return
        if self.panels.close_top():
            return
        if self.drawer.is_open:
            self.drawer.toggle()
        elif self.message.isVisible():
            self.message.say("")

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        """Stop on Escape whatever has the focus, a dialog of ours too, while something runs."""
        if not self.bench.busy or event.type() != QEvent.Type.KeyPress:
            return False  # every event of the program comes by
        if not isinstance(event, QKeyEvent) or event.key() != Qt.Key.Key_Escape:
            return False
        self.bench.stop()
        return True

    def _strip_dragged(self, hertz: float) -> None:
        self.stage(self.current.handle).drag_to(hertz)

    def _strip_released(self) -> None:
        self.stage(self.current.handle).end_drag()

    def _strip_nudged(self, ratio: float) -> None:
        self.stage(self.current.handle).nudge(ratio)

    def take_back(self, number: int) -> None:
        """Use the gains of a run again."""
        run = self.session.now.run(number)
        if run is None:
            return
        try:
            self.session.take_back(run)
        except InputError as error:
            self.message.say(str(error))

    def run_stage(self) -> None:
        """Do what F5 does on the stage on screen."""
        self.current.run()

    def read_records(self) -> None:
        """Read again, in jobs, what older records say; their findings come back on screen."""
        self._reader.read()

    # Commands, theme

    def commands(self) -> "list[Command]":
        """Return all commands that make sense now."""
        from oarlock.ui.frame.commands import commands

        return commands(self)

    def leave(self) -> None:
        """Let go of the session, so that another window can take it."""
        self._timer.stop()
        self._read_soon.stop()
        self.loops.leave()
        self._jobs.leave()
        self._closing = True  # the session is no longer this window's: there is nothing to ask
        application = QApplication.instance()
        if application is not None:
            application.removeEventFilter(self)
        for signal, slot in self._subscriptions:
            signal.disconnect(slot)
        self._subscriptions.clear()

    def follow(self, signal: SignalInstance, slot: Callable[..., None]) -> None:
        """Have a slot called until the window closes."""
        signal.connect(slot)
        self._subscriptions.append((signal, slot))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.drawer.place()
        self._place_logbook()
        self.panels.place()

    def _place_logbook(self) -> None:
        height = self.logbook.height()
        self.logbook.setGeometry(0, self.height() - height, self.width(), height)
        self.logbook.raise_()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.files.take_dropped([Path(url.toLocalFile()) for url in event.mimeData().urls()])

    # Closing

    def close_now(self) -> None:
        """Close without asking: what runs is stopped, what cannot be saved is told later."""
        self._closing = True
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._closing and must_ask(self, self._jobs):
            event.ignore()
            return
        super().closeEvent(event)


def _scrolled(panel: QWidget) -> QScrollArea:
    """Return the panel in a frame that scrolls where the window is too low for it."""
    area = QScrollArea()
    area.setWidget(panel)
    area.setWidgetResizable(True)
    area.setFrameShape(QScrollArea.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area
