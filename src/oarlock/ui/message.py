"""One line for the user, in the window where it happened; no box to click away."""

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QWidget

from oarlock.ui import theme as look
from oarlock.ui.paint import diamond


class Message(QLabel):
    """Stands between stage and logbook while there is something to say; a click dismisses it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWordWrap(True)
        self.setMinimumHeight(40)
        self.setFont(look.font(look.BODY))
        self.setContentsMargins(44, 8, 16, 8)
        self.setToolTip("Click to dismiss")
        self.hide()

    def say(self, text: str) -> None:
        """Show a text; an empty one hides the line."""
        self.setText(text)
        self.setAccessibleName(text)
        self.setVisible(bool(text))

    def paintEvent(self, event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.panel)
        p.fillRect(self.rect(), look.faded(t.attention, 30))
        p.fillRect(QRectF(0, 0, 4, self.height()), t.attention)
        diamond(p, 24, 0.5 * self.height(), t.attention, t.panel)
        p.end()
        super().paintEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.hide()
