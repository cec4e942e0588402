"""The start page: what was open before at the left, what can be begun at the right."""

from pathlib import Path

from PySide6.QtCore import QEvent, QModelIndex, QObject, Qt, Signal
from PySide6.QtGui import (
    QDragEnterEvent,
    QDropEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QShortcut,
)
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListView,
    QMainWindow,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oarlock.files import shown
from oarlock.session.new_project import file_name, usual_folder
from oarlock.session.recent import Recent, forget, recent
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.help import HelpPanel
from oarlock.ui.kit.keys import moved_by_arrows, pressed
from oarlock.ui.kit.paint import draw_text, line
from oarlock.ui.kit.pickers import ask_file
from oarlock.ui.start.projects import ProjectPainter, Projects

KINDS = "Projects and axis files (*.oarlock *.toml);;All files (*)"
_BESIDE = 372  # px, of the right column
_MANY = 6  # projects from which on one is looked for by typing


class StartWindow(QMainWindow):
    """The page that comes before a project."""

    open_asked = Signal(Path)
    new_asked = Signal(Path, str)
    demo_asked = Signal()
    theme_toggled = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Oarlock")
        self.setMinimumSize(1024, 700)
        self.setAcceptDrops(True)
        self._folder = usual_folder()
        self._help: HelpPanel | None = None
        self.projects = Projects(recent())
        self._lay_out()
        for keys, action in (
            ("Ctrl+O", self.ask_open),
            ("Ctrl+N", self.name.setFocus),
            ("Ctrl+D", self.demo_asked.emit),
            ("F1", self._toggle_help),
            ("Ctrl+Q", self.close),
        ):
            QShortcut(QKeySequence(keys), self).activated.connect(action)
        if self.projects.rowCount():
            self.list.setCurrentIndex(self.projects.index(0))
            self.list.setFocus()
        else:
            self.name.setFocus()
            self.name.selectAll()

    # Layout

    def _lay_out(self) -> None:
        ground = _Ground()
        row = QHBoxLayout(ground)
        row.setContentsMargins(look.MARGIN, look.TOP_BAR + 24, 0, look.MARGIN)
        row.setSpacing(0)
        row.addLayout(self._left(), 1)
        right = self._right()
        right.setFixedWidth(_BESIDE)
        row.addWidget(right)
        self.setCentralWidget(ground)

    def _left(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setContentsMargins(0, 0, 32, 0)
        column.setSpacing(8)
        empty = not self.projects.rowCount()
        text = "Nothing was opened here before" if empty else "Go on with"
        column.addWidget(_label(text, look.ANSWER, bold=True))
        self.search = QLineEdit()
        self.search.setPlaceholderText("Type a part of a project's or an axis's name")
        self.search.setAccessibleName("Look for a project")
        self.search.textChanged.connect(self._fit)
        self.search.setVisible(self.projects.rowCount() > _MANY)
        column.addWidget(self.search)
        self.list = QListView()
        self.list.setModel(self.projects)
        self.list.setItemDelegate(ProjectPainter(self.list))
        self.list.setAccessibleName("Projects that were open before")
        self.list.setFrameShape(QFrame.Shape.NoFrame)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setLayoutMode(QListView.LayoutMode.Batched)  # a long list is no wait
        self.list.activated.connect(self._open_index)
        self.list.setVisible(not empty)
        for watched in (self.search, self.list):
            watched.installEventFilter(self)
        column.addWidget(self.list, 1)
        hint = "Enter opens it. Delete takes it off this list, and leaves its file."
        if empty:
            hint = ("A project is one file that holds your axes, every run, and all gains.\n"
                    "Begin one at the right, or drop a project or an axis file here.")  # fmt: skip
        self.hint = _label(hint, look.BODY, muted=True)
        column.addWidget(self.hint)
        if empty:
            column.addStretch(1)
        return column

    def _right(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(24, 0, 24, 0)
        column.setSpacing(6)
        column.addWidget(_label("Your own motor", look.NAME, bold=True))
        column.addWidget(_label("A new project begins with one axis of which nothing is known: "
                                "you enter three numbers, the drive and the measurements find "
                                "the rest.", look.BODY, muted=True))  # fmt: skip
        self.name = QLineEdit(_free_name(self._folder))
        self.name.setAccessibleName("Name of the new project")
        self.name.setFixedHeight(28)
        self.name.returnPressed.connect(self.make_new)
        self.name.textChanged.connect(self._show_place)
        column.addWidget(self.name)
        self.place = _label("", look.SMALL, muted=True)
        column.addWidget(self.place)
        self.elsewhere = _link("Write it elsewhere…")
        self.elsewhere.clicked.connect(self._ask_elsewhere)
        column.addWidget(_in_row(button_new := button("New project  Ctrl+N", primary=True),
                                 self.elsewhere))  # fmt: skip
        self.new_button = button_new
        self.new_button.clicked.connect(self.make_new)
        column.addSpacing(22)
        column.addWidget(_label("A file that is there", look.NAME, bold=True))
        column.addWidget(_label("A project, or an axis file: it becomes a project beside it. "
                                "It may be dropped on this window as well.", look.BODY,
                                muted=True))  # fmt: skip
        self.open_button = button("Open…  Ctrl+O")
        self.open_button.clicked.connect(self.ask_open)
        column.addWidget(_in_row(self.open_button))
        column.addSpacing(22)
        column.addWidget(_label("No motor at hand?", look.NAME, bold=True))
        column.addWidget(_label("The demo is a survey catamaran's sonar winch and thruster, each "
                                "with a simulated drive. It is kept apart from your projects.",
                                look.BODY, muted=True))  # fmt: skip
        self.demo_button = button("Try the demo  Ctrl+D")
        self.demo_button.clicked.connect(self.demo_asked)
        column.addWidget(_in_row(self.demo_button))
        column.addStretch(1)
        self.trouble = _label("", look.BODY, bold=True)
        self.trouble.setStyleSheet(f"color: {look.theme().attention.name()}")
        self.trouble.hide()
        column.addWidget(self.trouble)
        self._show_place()
        return holder

    # What it does

    def _toggle_help(self) -> None:
        """Show the page about projects, or close it."""
        if self._help is None:
            self._help = HelpPanel(self)
        if self._help.isVisible():
            self._help.hide()
            return
        self._help.open_page("start")
        self._help.setGeometry(self.width() - 420, look.TOP_BAR, 420, self.height() - look.TOP_BAR)

    def say(self, text: str) -> None:
        """Show why something could not be done."""
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    @property
    def new_path(self) -> Path:
        """Where a new project would be written."""
        return self._folder / file_name(self.name.text())

    def _show_place(self) -> None:
        text = shown(self.new_path).replace(str(Path.home()), "~", 1)
        self.place.setText(f"It is written to {text}")

    def make_new(self) -> None:
        """Ask for a new project of the name that stands there."""
        self.say("")
        self.new_asked.emit(self.new_path, self.name.text())

    def _ask_elsewhere(self) -> None:
        start = str(self.new_path)
        ask_file(self, "Where to write the new project", start, "Projects (*.oarlock)",
                 lambda path: self.new_asked.emit(path.with_suffix(".oarlock"), path.stem),
                 new=True)  # fmt: skip

    def ask_open(self) -> None:
        """Let the user pick a file."""
        ask_file(self, "Open a project or an axis file", str(Path.home()), KINDS,
                 self.open_asked.emit)  # fmt: skip

    def _fit(self, query: str) -> None:
        self.projects.fit(query)
        if self.projects.rowCount():
            self.list.setCurrentIndex(self.projects.index(0))

    def _open_index(self, index: QModelIndex) -> None:
        if index.isValid():
            self.say("")
            entry: Recent = index.data(Qt.ItemDataRole.UserRole)
            self.open_asked.emit(entry.path)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Open with Enter from the search, move with its arrows, forget with Delete."""
        key = pressed(event)
        if watched is self.search:
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._open_index(self.list.currentIndex())
                return True
            if moved_by_arrows(self.list, event):
                return True
        elif watched is self.list and key == Qt.Key.Key_Delete:
            index = self.list.currentIndex()
            if index.isValid():
                path = index.data(Qt.ItemDataRole.UserRole).path
                forget(path)
                self.projects.forget(path)
                self.list.setCurrentIndex(self.projects.index(0))
            return True
        return super().eventFilter(watched, event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls()[:1]:
            self.open_asked.emit(Path(url.toLocalFile()))


class _Ground(QWidget):
    """The page itself: the name at the top, a rule between left and right."""

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.panel)
        p.fillRect(0, 0, self.width(), look.TOP_BAR, t.ground)
        p.fillRect(self.width() - _BESIDE, look.TOP_BAR, _BESIDE, self.height(), t.ground)
        line(p, 0, look.TOP_BAR - 1, self.width(), look.TOP_BAR - 1, t.rule)
        x = self.width() - _BESIDE
        line(p, x, look.TOP_BAR, x, self.height(), t.rule)
        draw_text(p, look.MARGIN, 25, "Oarlock", t.ink, size=look.NAME, bold=True)
        draw_text(p, look.MARGIN + 70, 25, "identify, tune, prove, hand over", t.muted)


def _free_name(folder: Path) -> str:
    """Return a name that no project of the folder has."""
    names = ("My project", *(f"My project {n}" for n in range(2, 100)))
    return next((name for name in names if not (folder / file_name(name)).exists()), names[0])


def _label(text: str, size: int, *, bold: bool = False, muted: bool = False) -> QLabel:
    made = QLabel(text)
    made.setWordWrap(True)
    made.setFont(look.font(size, bold=bold))
    if muted:
        made.setStyleSheet(f"color: {look.theme().muted.name()}")
    return made


def _link(text: str) -> QPushButton:
    from oarlock.ui.kit.buttons import link_button

    return link_button(text)


def _in_row(*widgets: QWidget) -> QWidget:
    from oarlock.ui.kit.buttons import row_of

    return row_of(list(widgets))
