"""Choose a drive: the practice drive, or a CAN interface of this machine."""

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from oarlock.session.bench import PRACTICE
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button


class ConnectPanel(QFrame):
    """A small panel under the top bar."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setFrameShape(QFrame.Shape.Box)
        self.setFont(look.font(look.BODY))
        column = QVBoxLayout(self)
        self.practice = button("Practice drive", primary=True)
        self.practice.clicked.connect(lambda: self._choose(PRACTICE))
        column.addWidget(QLabel("A simulated drive that ships with Oarlock:"))
        column.addWidget(self.practice)
        column.addWidget(QLabel("A drive on a CAN interface of this machine, such as can0:"))
        self.channel = QLineEdit()
        self.channel.setPlaceholderText("can0")
        self.channel.setAccessibleName("CAN interface")
        connect = button("Connect")
        connect.clicked.connect(self._typed)
        self.channel.returnPressed.connect(self._typed)
        row = QHBoxLayout()
        row.addWidget(self.channel)
        row.addWidget(connect)
        column.addLayout(row)

    def open_at(self, under: QWidget) -> None:
        """Open below a widget."""
        self.adjustSize()
        corner = under.mapToGlobal(QPoint(under.width() - self.width(), under.height() + 4))
        self.move(corner)
        self.show()
        self.practice.setFocus()

    def _typed(self) -> None:
        if self.channel.text().strip():
            self._choose(self.channel.text().strip())

    def _choose(self, channel: str) -> None:
        self.close()
        self.chosen.emit(channel)
