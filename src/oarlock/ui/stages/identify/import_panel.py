"""Import a recording: what it is of, which column is which channel, and how it looks."""

import math
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from oarlock.errors import InputError
from oarlock.experiments.identify.two_terminals import ACCURACY
from oarlock.machine import Axis
from oarlock.records.csv_file import read_record
from oarlock.records.imports.columns import form_of, wanted
from oarlock.records.imports.recording import (
    CHANNELS,
    UNITS,
    Mapping,
    Preview,
    Source,
    guess,
    preview,
    recording,
)
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.paint import draw_text, line

_NONE = "–"


class ColumnLook(QWidget):
    """The beginning of one column, drawn small."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(150, 26)
        self._values = np.zeros(0)

    def show_values(self, values: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> None:
        """Draw these values."""
        self._values = values[np.isfinite(values)]
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, v = QPainter(self), look.theme(), self._values
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        line(p, 0, self.height() - 1, self.width(), self.height() - 1, t.rule)
        if v.size < 2:
            draw_text(p, 0, 17, "not used", t.muted, size=look.SMALL)
            return
        low, span = float(v.min()), float(np.ptp(v)) or 1.0
        p.setPen(QPen(t.accent, 1.4))
        p.drawPolyline(QPolygonF([
            QPointF(i / (v.size - 1) * self.width(), 23 - (float(x) - low) / span * 20)
            for i, x in enumerate(v)
        ]))  # fmt: skip


class ImportPanel(QDialog):
    """Pick what a recording is of and what its columns mean; nothing is read before that."""

    accepted_source = Signal(object)  # what reads the whole file, for a job

    def __init__(self, path: Path, quantity: str, axis: Axis, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Import {path.name}")
        self.setFont(look.font(look.BODY))
        self._axis = axis
        self.seen: Preview = preview(path)
        self._column = QVBoxLayout(self)
        self._make_head(quantity)
        self._grid = QGridLayout()
        self._column.addLayout(self._grid)
        self._make_foot()
        self.picks: dict[str, tuple[QComboBox, QComboBox, ColumnLook]] = {}
        self._rebuild()

    def _make_head(self, quantity: str) -> None:
        rows, cols = self.seen.rows.shape
        head = QLabel(f"{self.seen.path.name}: {cols} columns, first {rows} rows seen")
        head.setFont(look.font(look.ANSWER))
        self._column.addWidget(head)
        line_ = QHBoxLayout()
        line_.addWidget(QLabel("It is a recording of"))
        self.quantity = QComboBox()
        self.quantity.setAccessibleName("What was recorded")
        for key in KEYS:
            self.quantity.addItem(BY_KEY[key].name, key)
        self.quantity.setCurrentIndex(KEYS.index(quantity))
        self.quantity.currentIndexChanged.connect(self._rebuild)
        line_.addWidget(self.quantity)
        line_.addStretch(1)
        self._column.addLayout(line_)

    def _make_foot(self) -> None:
        more = QHBoxLayout()
        self.phase = QCheckBox("vab is phase to star point, not line to line")
        more.addWidget(self.phase)
        self.counts = QLineEdit()
        self.counts.setPlaceholderText("counts a turn")
        self.counts.setAccessibleName("Counts a turn of an angle in counts")
        self.counts.setFixedWidth(110)
        more.addWidget(self.counts)
        self.frequency = QLineEdit()
        self.frequency.setPlaceholderText("frequency, Hz (several: commas)")
        self.frequency.setAccessibleName("Frequency in Hz, several with commas")
        more.addWidget(self.frequency)
        self.accuracy = QLineEdit()
        self.accuracy.setPlaceholderText(f"accuracy {100 * ACCURACY:g} %")
        self.accuracy.setToolTip("Standard uncertainty of each instrument's gain, in per cent")
        self.accuracy.setAccessibleName("Accuracy of the instruments in per cent")
        self.accuracy.setFixedWidth(110)
        more.addWidget(self.accuracy)
        self.locked = QCheckBox("rotor locked")
        more.addWidget(self.locked)
        self._column.addLayout(more)
        self.message = QLabel()
        self.message.setWordWrap(True)
        self.message.setFont(look.font(look.SMALL))
        self._column.addWidget(self.message)
        row = QHBoxLayout()
        self.read = button("Read it", primary=True)
        self.read.clicked.connect(self._read)
        leave = button("Leave it")
        leave.clicked.connect(self.reject)
        row.addWidget(self.read)
        row.addWidget(leave)
        row.addStretch(1)
        self._column.addLayout(row)

    def _rebuild(self) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            if widget := item.widget():
                widget.deleteLater()
        self.picks = {}
        quantity = str(self.quantity.currentData())
        found = guess(self.seen, quantity, wanted(quantity))
        for n, channel in enumerate(wanted(quantity)):
            label = QLabel(f"{channel}  [{CHANNELS[channel][0]}]")
            column, unit, shape = QComboBox(), QComboBox(), ColumnLook()
            column.setAccessibleName(f"Column of {channel}")
            unit.setAccessibleName(f"Unit of {channel}")
            column.addItems([_NONE, *self.seen.names])
            of = CHANNELS[channel][0]
            units = [u for u, (base, _) in UNITS.items() if base == of and u]
            unit.addItems([*units, *(["counts"] if of == "rad" else [])])
            source = found.sources.get(channel)
            if source:
                column.setCurrentText(source.column)
                unit.setCurrentText(source.unit or of)
            column.currentTextChanged.connect(self._judge)
            unit.currentTextChanged.connect(self._judge)
            place = n % 12, 4 * (n // 12)
            for k, widget in enumerate((label, column, unit, shape)):
                self._grid.addWidget(widget, place[0], place[1] + k)
            self.picks[channel] = (column, unit, shape)
        self._judge()

    def mapping(self) -> Mapping:
        """Return what is picked.

        Raises
        ------
        InputError : a number that is none

        """
        quantity = str(self.quantity.currentData())
        sources = {}
        for channel, (column, unit, _) in self.picks.items():
            if column.currentText() != _NONE:
                scale = math.sqrt(3.0) if channel == "vab" and self.phase.isChecked() else 1.0
                if quantity in ("resistance", "inductance_d", "inductance_q") and scale > 1.0:
                    scale = 2.0
                sources[channel] = Source(column.currentText(), unit.currentText(), scale)
        settings: dict[str, object] = {}
        given = _numbers(self.frequency.text(), "frequency")
        if len(given) == 1 and quantity != "resonance":
            settings["frequency"] = given[0]
        elif given:
            settings["frequencies"] = given
        share = _numbers(self.accuracy.text().replace("%", ""), "accuracy")
        if share:
            settings["accuracy"] = 0.01 * share[0]
        if self.locked.isChecked():
            settings["locked"] = 1.0
        counts = _numbers(self.counts.text(), "counts")
        return Mapping(experiment=quantity, sources=sources, settings=settings,
                       counts=counts[0] if counts else 0.0)  # fmt: skip

    def _judge(self) -> None:
        """Show each column's look, and what is missing."""
        for column, _, shape in self.picks.values():
            name = column.currentText()
            values = np.zeros(0)
            if name in self.seen.names:
                values = self.seen.rows[:, self.seen.names.index(name)]
            shape.show_values(values)
        if self.seen.experiment:
            self.message.setText(f"Its head says: {self.seen.experiment}. It is read by that.")
            self.read.setEnabled(True)
            return
        try:
            form = form_of(str(self.quantity.currentData()), set(self.mapping().sources))
            self.message.setText(f"Read as: {form.words}.")
            self.read.setEnabled(True)
        except InputError as error:
            self.message.setText(str(error))
            self.read.setEnabled(False)

    def _read(self) -> None:
        try:
            mapping = self.mapping()
        except InputError as error:
            self.message.setText(str(error))
            return
        seen = self.seen
        if seen.experiment:
            self.accepted_source.emit(lambda: read_record(seen.path))
        else:
            self.accepted_source.emit(lambda: recording(seen, mapping))
        self.accept()


def _numbers(text: str, what: str) -> list[float]:
    try:
        return [float(part) for part in text.split(",") if part.strip()]
    except ValueError as error:
        raise InputError(f"'{text}' is no {what}", remedy="Write numbers") from error
