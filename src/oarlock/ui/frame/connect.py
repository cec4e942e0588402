"""Choose a drive: the practice drive, a channel as text, or what answers on this machine."""

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid

from oarlock.cancel import Cancel
from oarlock.errors import InputError, OarlockError
from oarlock.session.connecting import PRACTICE
from oarlock.session.jobs import Done, Failed, Guest, Stopped
from oarlock.session.session import Session
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button, link_button
from oarlock.views.ways import WayRow, way_rows

if TYPE_CHECKING:
    from oarlock.drive.channel import Channel
    from oarlock.drive.finder import Way

_WIDE, _LIST = 520, 216
_USUAL = "udp_multicast:239.74.163.2"  # where a practice drive on a bus of this machine would be


class ConnectPanel(QFrame):
    """A panel under the top bar."""

    chosen = Signal(str)

    def __init__(self, session: Session, jobs: Guest, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self._session, self._jobs = session, jobs
        self._looking: Cancel | None = None
        self.setFrameShape(QFrame.Shape.Box)
        self.setFont(look.font(look.BODY))
        self.setFixedWidth(_WIDE)
        self.rows: list[WayRow] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        self._lay_out_own(column)
        self._lay_out_found(column)
        column.addWidget(_heading("No drive at hand?"))
        self.practice = button("Practice drive, simulated")
        self.practice.clicked.connect(lambda: self._choose(PRACTICE))
        column.addWidget(self.practice)
        self._show([WayRow(name="Looking…", said="")])

    def _lay_out_own(self, column: QVBoxLayout) -> None:
        column.addWidget(_heading("Your drive"))
        self.channel = QLineEdit()
        self.channel.setPlaceholderText("can0 node 9, slcan:/dev/ttyACM0@1000000, …")
        self.channel.setAccessibleName("Where the drive is")
        self.channel.setToolTip(
            "An interface of python-can, its address, a bitrate after @ and a node:\n"
            "can0\nsocketcan:can0 node 9\nslcan:/dev/ttyACM0@1000000\n"
            "socketcand:host:29536/can0\nudp_multicast:239.74.163.2"
        )
        self.connect_button = button("Connect", primary=True)
        self.connect_button.clicked.connect(self._typed)
        self.channel.returnPressed.connect(self._typed)
        row = QHBoxLayout()
        row.addWidget(self.channel, 1)
        row.addWidget(self.connect_button)
        column.addLayout(row)
        self.trouble = QLabel()
        self.trouble.setWordWrap(True)
        self.trouble.setStyleSheet(f"color: {look.theme().attention.name()}")
        self.trouble.hide()
        column.addWidget(self.trouble)

    def _lay_out_found(self, column: QVBoxLayout) -> None:
        head = QHBoxLayout()
        self.found_title = _heading("What answers on this machine")
        head.addWidget(self.found_title, 1)
        self.again = link_button("Look again")
        self.again.clicked.connect(self.look)
        head.addWidget(self.again)
        column.addLayout(head)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setFixedHeight(_LIST)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.area)

    def open_at(self, under: QWidget) -> None:
        """Open below a widget, and look for what answers."""
        kept = self._session.screen.channel
        if not self.channel.text():
            self.channel.setText(kept)
        self.adjustSize()
        corner = under.mapToGlobal(QPoint(under.width() - self.width(), under.height() + 4))
        self.move(corner)
        self.show()
        first = self.channel if self.channel.text() else self.practice
        first.setFocus()
        self.look()

    # What answers

    def look(self) -> None:
        """Look for what answers, in a job."""
        from oarlock.drive.finder import find

        if self._looking is not None:
            return
        self._show([WayRow(name="Looking…", said="interfaces, adapters, nodes that answer")])
        more = [one for text in {self._session.screen.channel, _USUAL} if (one := _channel(text))]
        self._looking = self._jobs.start(
            lambda _progress, cancel: find(cancel, more),
            on_end=self._looked,
            name="find drives",
        )

    def _looked(self, outcome: "Done[tuple[Way, ...]] | Stopped | Failed") -> None:
        self._looking = None
        if not isValid(self):
            return
        if isinstance(outcome, Failed):
            if not isinstance(outcome.error, OarlockError):
                raise outcome.error
            self._show([WayRow(name="", said=str(outcome.error))])
        elif isinstance(outcome, Done):
            found = [way for way in outcome.value
                     if way.nodes or way.channel is None or way.channel.text != _USUAL]  # fmt: skip
            self._show(way_rows(tuple(found)))

    def _show(self, rows: list[WayRow]) -> None:
        self.rows = rows
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 8, 0)
        column.setSpacing(2)
        for row in rows:
            column.addWidget(self._line(row))
            if row.command:
                column.addWidget(_command(row.command))
        column.addStretch(1)
        self.area.setWidget(inner)

    def _line(self, row: WayRow) -> QWidget:
        holder = QWidget()
        line = QHBoxLayout(holder)
        line.setContentsMargins(12 if row.name.startswith("node ") else 0, 0, 0, 0)
        line.setSpacing(8)
        name = QLabel(row.name)
        name.setFont(look.font(look.BODY, bold=not row.name.startswith("node ")))
        line.addWidget(name)
        said = QLabel(row.said)
        said.setWordWrap(True)
        said.setStyleSheet(f"color: {look.theme().muted.name()}")
        line.addWidget(said, 1)
        if row.connects:
            go = link_button("Connect")
            go.setAccessibleName(f"Connect to {row.channel}")
            go.clicked.connect(lambda: self._choose(row.channel))
            line.addWidget(go)
        elif row.channel and not row.name.startswith("node "):
            take = link_button("Type on")
            take.setAccessibleName(f"Type on from {row.channel}")
            take.clicked.connect(lambda: self._type_on(row.channel))
            line.addWidget(take)
        return holder

    # What it does

    def _type_on(self, text: str) -> None:
        self.channel.setText(text)
        self.channel.setFocus()

    def _typed(self) -> None:
        from oarlock.drive.channel import parse_channel

        text = self.channel.text().strip()
        if text == PRACTICE or text.startswith(PRACTICE + " "):
            self._choose(text)
            return
        try:
            self._choose(parse_channel(text).text)
        except InputError as error:
            self.trouble.setText(f"{error.cause}. {error.remedy}")
            self.trouble.show()

    def _choose(self, channel: str) -> None:
        if self._looking is not None:
            self._looking.set()
        self.trouble.hide()
        self.close()
        self.chosen.emit(channel)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Let Enter press the button that has the focus."""
        focused = self.focusWidget()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and isinstance(
            focused, QPushButton
        ):
            focused.click()
            return
        super().keyPressEvent(event)


def _channel(text: str) -> "Channel | None":
    from oarlock.drive.channel import parse_channel

    try:
        return parse_channel(text) if text else None
    except InputError:
        return None


def _heading(text: str) -> QLabel:
    made = QLabel(text)
    made.setFont(look.font(look.BODY, bold=True))
    return made


def _command(text: str) -> QWidget:
    """Return a command that mends something, with a way to copy it."""
    t, holder = look.theme(), QWidget()
    row = QHBoxLayout(holder)
    row.setContentsMargins(12, 0, 0, 4)
    shown = QLabel(text)
    shown.setWordWrap(True)
    shown.setFont(look.font(look.SMALL, mono=True))
    shown.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    shown.setStyleSheet(f"border-left: 3px solid {t.attention.name()}; padding-left: 6px")
    row.addWidget(shown, 1)
    copy = link_button("Copy")
    copy.setAccessibleName(f"Copy: {text}")
    copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(text))
    row.addWidget(copy)
    return holder
