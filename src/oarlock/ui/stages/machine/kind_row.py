"""What kind of position sensor there is: told by the drive, or chosen here."""

from dataclasses import replace

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from oarlock.machine import SensorKind
from oarlock.session.session import Session
from oarlock.ui.kit import theme as look

_WORDS = {
    SensorKind.ENCODER: "encoder",
    SensorKind.RESOLVER: "resolver",
    SensorKind.HALL: "halls",
    SensorKind.NONE: "none",
}
_UNKNOWN = "told by the drive"


class KindRow(QWidget):
    """The kind of sensor as a choice."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.box = QComboBox()
        self.box.setAccessibleName("Kind of position sensor")
        self.box.setFont(look.font(look.BODY))
        for kind, words in _WORDS.items():
            self.box.addItem(words, kind.value)
        self.box.setPlaceholderText(_UNKNOWN)
        self.box.activated.connect(self._choose)
        label = QLabel("Kind")
        label.setFont(look.font(look.BODY))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 4, 0, 4)
        row.addWidget(label)
        row.addWidget(self.box, 1)

    def show_kind(self) -> None:
        """Show what is known."""
        sensor = self._session.axis.sensor
        at = list(_WORDS).index(sensor.kind) if sensor.kind_known else -1
        if at != self.box.currentIndex():
            self.box.setCurrentIndex(at)

    def _choose(self, number: int) -> None:
        kind = list(_WORDS)[number]
        axis = self._session.axis
        if axis.sensor.kind is not kind or not axis.sensor.kind_known:
            sensor = replace(axis.sensor, kind=kind, kind_known=True)
            self._session.edit("Set the kind of sensor", replace(axis, sensor=sensor))
