"""Adding an axis to the project: its name, and what it begins from."""

from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.copied import copied
from oarlock.session.elsewhere import Elsewhere, elsewhere
from oarlock.session.jobs import Done, Failed, Guest, Stopped
from oarlock.session.new_project import hollow
from oarlock.session.session import Session
from oarlock.session.shelf import Shelved, fits, shelf
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button, row_of
from oarlock.ui.kit.keys import moved_by_arrows

_WIDE, _HIGH = 560, 430


@dataclass(frozen=True, slots=True)
class _Source:
    """What an axis may begin from."""

    title: str
    detail: str
    text: str  # of an axis file; empty: nothing is known
    label: str  # what the project's history calls it
    shelved: Shelved | None = None
    axis: Axis | None = None  # of another project

    def fits(self, query: str) -> bool:
        """Return whether it is listed for what was typed."""
        asked = query.strip().lower()
        if self.shelved is not None:
            return fits(self.shelved, query)
        return not asked or (
            self.axis is not None and asked in f"{self.title} {self.detail}".lower()
        )


class NewAxisPanel(QFrame):
    """A name, a line to look for a machine, and what fits it."""

    chosen = Signal(str, str, str)  # text of an axis file, name, label

    def __init__(self, session: Session, jobs: Guest, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setFrameShape(QFrame.Shape.Box)
        self.setAutoFillBackground(True)
        self.setAccessibleName("New axis")
        self.setFont(look.font(look.BODY))
        self._sources = self._own()
        self.name, self.search, self.list = QLineEdit(), QLineEdit(), QListWidget()
        self.name.setText(self._free_name())
        self.name.setAccessibleName("Name of the new axis")
        self.search.setAccessibleName("Look for a machine")
        self.search.setPlaceholderText("Look by rating or name: 48 V 7 A")
        self.list.setAccessibleName("What it begins from")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.trouble = QLabel()
        self.trouble.setWordWrap(True)
        self.trouble.setStyleSheet(f"color: {look.theme().attention.name()}")
        self.trouble.hide()
        add, leave = button("Add axis", primary=True), button("Leave it")
        add.clicked.connect(self._add)
        leave.clicked.connect(self.close)
        column = QVBoxLayout(self)
        for widget in (QLabel("Name of the new axis"), self.name, QLabel("It begins from"),
                       self.search, self.list, self.trouble, row_of([add, leave])):  # fmt: skip
            column.addWidget(widget)
        self.search.textChanged.connect(self._fill)
        for line in (self.name, self.search):
            line.returnPressed.connect(self._add)
            line.installEventFilter(self)
        self.list.itemActivated.connect(lambda _item: self._add())
        self._fill("")
        self.setGeometry((parent.width() - _WIDE) // 2, 80, _WIDE, _HIGH)
        self.name.setFocus()
        self.name.selectAll()
        jobs.start(lambda _progress, _cancel: shelf(), on_end=self._shelved, name="machine shelf")
        jobs.start(lambda _progress, _cancel: elsewhere(session.path), on_end=self._found_elsewhere,
                   name="other projects")  # fmt: skip

    def _free_name(self) -> str:
        taken = self._session.axis_names + self._session.axes.removed
        return next(name for n in range(1, 1000) if (name := f"Motor {n}") not in taken)

    def _own(self) -> list[_Source]:
        found = [_Source("Nothing known yet", "three numbers are entered, the rest is measured", "",
                         "begun")]  # fmt: skip
        for name in self._session.axis_names:
            found.append(_Source(f"Copy of {name}", "what was measured there becomes an entry here",
                                 name, f"copy of {name}"))  # fmt: skip
        return found

    def _shelved(self, outcome: Done[tuple[Shelved, ...]] | Stopped | Failed) -> None:
        if not isinstance(outcome, Done) or not isValid(self):
            return
        for one in outcome.value:
            where = "machine shelf" if one.own else "example"
            self._sources.append(_Source(one.name, f"{one.rating} ({where})", one.text,
                                         f"from {one.file}", one))  # fmt: skip
        self._fill(self.search.text())

    def _found_elsewhere(self, outcome: Done[tuple[Elsewhere, ...]] | Stopped | Failed) -> None:
        if not isinstance(outcome, Done) or not isValid(self):
            return
        for one in outcome.value:
            name = one.axis.name
            self._sources.append(_Source(
                f"Copy of {name}", f"in {one.project}",
                "", f"copy of {name} in {one.project}", axis=one.axis,
            ))  # fmt: skip
        self._fill(self.search.text())

    def _fill(self, query: str) -> None:
        self.list.clear()
        for number, source in enumerate(self._sources):
            if source.fits(query):
                item = QListWidgetItem(f"{source.title}   {source.detail}")
                item.setToolTip(item.text())  # it may be longer than the list is wide
                item.setData(Qt.ItemDataRole.UserRole, number)
                if source.shelved is not None and source.shelved.trouble:
                    item.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _add(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        source = self._sources[item.data(Qt.ItemDataRole.UserRole)]
        name = self.name.text().strip()
        try:
            self.chosen.emit(self._text_of(source, name or "x"), name, source.label)
        except InputError as error:
            self.say(str(error))

    def _text_of(self, source: _Source, name: str) -> str:
        if source.shelved is not None:
            return format_axis(copied(parse_axis(source.text, place=source.title), name))
        if source.axis is not None:
            return format_axis(copied(source.axis, name))
        if source.text:
            held = self._session
            axis = held.axis if source.text == held.axis.name else held.axes.read(source.text)
            return format_axis(copied(axis, name))
        return format_axis(hollow(name))

    def say(self, text: str) -> None:
        """Show why it cannot be added."""
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Move through the list with the arrows while something is typed."""
        return moved_by_arrows(self.list, event) or bool(super().eventFilter(watched, event))


class RenamePanel(QFrame):
    """One line for another name."""

    chosen = Signal(str)

    def __init__(self, name: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setFrameShape(QFrame.Shape.Box)
        self.setAutoFillBackground(True)
        self.setFont(look.font(look.BODY))
        self.name = QLineEdit(name)
        self.name.setAccessibleName("New name of the axis")
        self.name.returnPressed.connect(lambda: self.chosen.emit(self.name.text()))
        column = QVBoxLayout(self)
        column.addWidget(QLabel("Name of the axis, Enter to keep it"))
        column.addWidget(self.name)
        self.setGeometry((parent.width() - 360) // 2, 90, 360, 84)
        self.name.setFocus()
        self.name.selectAll()
