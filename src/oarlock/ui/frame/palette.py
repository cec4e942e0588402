"""The command palette: every command by name, from the keyboard."""

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.keys import moved_by_arrows


@dataclass(frozen=True, slots=True)
class Command:
    """Something that can be done now."""

    name: str
    keys: str
    action: Callable[[], object]


def matches(query: str, name: str) -> bool:
    """Return whether all words of the query begin words of the name."""
    words = name.lower().replace(":", " ").split()
    return all(any(word.startswith(part) for word in words) for part in query.lower().split())


class CommandPalette(QFrame):
    """A line to type in and what fits it."""

    def __init__(self, parent: QWidget, commands: list[Command]) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFrameShape(QFrame.Shape.Box)
        self.setAutoFillBackground(True)
        self.setAccessibleName("Commands")
        self._commands = commands
        self.line, self.list = QLineEdit(), QListWidget()
        self.line.setPlaceholderText("What do you want to do?")
        self.line.setAccessibleName("Command")
        column = QVBoxLayout(self)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.setFont(look.font(look.BODY))
        self.line.textChanged.connect(self._fill)
        self.line.installEventFilter(self)
        self.line.returnPressed.connect(self._do)
        self.list.itemClicked.connect(lambda _item: self._do())
        width, height = 460, 330
        self.setGeometry((parent.width() - width) // 2, 90, width, height)
        self._fill("")
        self.line.setFocus()
        application = QApplication.instance()
        if application is not None:
            application.installEventFilter(self)

    def show(self) -> None:
        super().show()
        self.raise_()
        self.line.setFocus()

    def _fill(self, query: str) -> None:
        self.list.clear()
        for command in self._commands:
            if matches(query, command.name):
                text = f"{command.name}   {command.keys}" if command.keys else command.name
                item = QListWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, command.name)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        name = item.data(Qt.ItemDataRole.UserRole)
        command = next(c for c in self._commands if c.name == name)
        self.close()
        command.action()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.MouseButtonPress and isinstance(watched, QWidget):
            inside = watched is self or self.isAncestorOf(watched)
            if self.isVisible() and not inside:
                self.close()  # and the click does what it was made for
            return False
        if watched is not self.line:
            return False
        return moved_by_arrows(self.list, event) or bool(super().eventFilter(watched, event))
