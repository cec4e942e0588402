"""One line for the user, in the window where it happened; no box to click away."""

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.paint import diamond

Answers = tuple[tuple[str, Callable[[], object]], ...]


class Message(QWidget):
    """Stands between stage and logbook while there is something to say; a click dismisses it."""

    changed = Signal()  # it is shown, or no longer

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.label = QLabel()
        self.label.setWordWrap(True)
        self.label.setFont(look.font(look.BODY))
        self.setMinimumHeight(40)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(44, 6, 16, 6)
        self._row.addWidget(self.label, 1)
        self.buttons: list[QPushButton] = []
        self.hide()

    def text(self) -> str:
        """Return what is said; empty where nothing is."""
        return self.label.text()

    def say(self, text: str) -> None:
        """Show a text; an empty one hides the line."""
        self.ask(text, ())

    def ask(self, text: str, answers: Answers) -> None:
        """Show a question with a button for each answer; choosing one hides the line."""
        for old in self.buttons:
            self._row.removeWidget(old)
            old.deleteLater()
        self.buttons = [self._answer(*answer) for answer in answers]
        self.label.setText(text)
        self.setToolTip("" if answers else "Click to dismiss")
        self.setAccessibleName(text)
        self.setVisible(bool(text))
        self.changed.emit()
        if self.buttons:
            self.buttons[0].setFocus()

    def _answer(self, name: str, action: Callable[[], object]) -> QPushButton:
        made = button(name)

        def chosen() -> None:
            self.say("")
            action()

        made.clicked.connect(chosen)
        self._row.addWidget(made)
        return made

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.panel)
        p.fillRect(self.rect(), look.faded(t.attention, 30))
        p.fillRect(QRectF(0, 0, 4, self.height()), t.attention)
        diamond(p, 24, 0.5 * self.height(), t.attention, t.panel)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and not self.buttons:
            self.hide()
            self.changed.emit()
