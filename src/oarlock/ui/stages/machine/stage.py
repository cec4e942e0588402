"""The Machine stage: what this machine can do on this bus."""

import math

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QLabel, QWidget

from oarlock.errors import InputError
from oarlock.machine import Parameter, SensorKind
from oarlock.machine.fields import BY_PATH
from oarlock.quantities.display import digits, engineering, signed, with_std
from oarlock.quantities.kinds import RPM
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.numbers import Entry, Panel, Why, origin_mark, plain
from oarlock.ui.kit.paint import draw_text
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.machine.pictures import CurrentPlane, CurrentsPlot, TorquePlot
from oarlock.views.machine import MachinePicture, characteristic_why, machine_picture

_SHOWN = (
    "machine.R", "machine.Ld", "machine.Lq", "machine.psi", "machine.pole_pairs",
    "machine.peak_current", "machine.max_speed", "machine.inertia", "inverter.bus_voltage",
)  # fmt: skip
_MORE = (
    "machine.rated_current", "inverter.control_frequency", "inverter.pwm_frequency",
    "inverter.dead_time", "inverter.current_full_scale", "inverter.adc_bits",
    "mechanics.max_turns",
)  # fmt: skip
_SENSOR = {
    SensorKind.ENCODER: ("sensor.counts", "sensor.side", "sensor.zero"),
    SensorKind.RESOLVER: ("sensor.pairs", "sensor.side", "sensor.zero"),
    SensorKind.HALL: (),
    SensorKind.NONE: (),
}
_NAMES = {
    "machine.R": "Resistance",
    "machine.Ld": "Inductance L~d~",
    "machine.Lq": "Inductance L~q~",
    "machine.psi": "Magnet flux ψ",
}
_UNIT_RPM = {"machine.max_speed"}
_ENTRY = 112  # px: the value in use begins beside it


class ParameterRow(QWidget):
    """One parameter: its entry as printed, what is used, and where that comes from."""

    def __init__(self, path: str, stage: "MachineStage") -> None:
        super().__init__()
        self._path, self._stage = path, stage
        field = BY_PATH[path]
        self._label = _NAMES.get(path, field.label)
        self._parameter: Parameter | None = None
        self._error = ""
        self._asked = ""  # the entry that was asked about
        self.setFixedHeight(43)
        t = look.theme()
        self.entry = Entry(self._label, self)
        self.entry.setGeometry(0, 16, _ENTRY, 22)
        self.entry.setTextMargins(5, 0, 2, 0)
        self.entry.setStyleSheet(
            f"QLineEdit {{ background: {t.panel.name()}; border: 1px solid {t.rule.name()}; }}"
            f"QLineEdit:focus {{ border: 1px solid {t.accent.name()}; }}"
        )
        self.entry.returnPressed.connect(self._enter)
        self.entry.editingFinished.connect(self._left)

    def _enter(self) -> None:
        if not self.entry.isModified():
            return
        text = self.entry.text().strip()
        try:
            doubt = self._stage.session.doubt(self._path, text)
            if doubt and text != self._asked:
                self._asked = text
                self.show_error(f"Is '{text}' meant? {doubt}. Enter again to use it")
                return
            self._stage.session.enter(self._path, text)
        except InputError as error:
            self.show_error(f"{error.cause}. {error.remedy}")
            return
        self.entry.setModified(False)
        self._asked = ""
        self.show_error("")
        self.show_parameter(self._stage.session.axis.parameter(self._path))

    def _left(self) -> None:
        """Take what was typed when the focus goes elsewhere; a doubt waits for Enter."""
        if not self._asked:
            self._enter()

    def show_error(self, text: str) -> None:
        """Say in place why an entry cannot be taken; the axis stays as it is."""
        self._error = text
        self._stage.show_refusal(self, text)
        self.update()

    @property
    def error(self) -> str:
        """Why the entry was refused, or nothing."""
        return self._error

    def show_parameter(self, parameter: Parameter | None) -> None:
        """Show a parameter's state; None where nothing is known of it yet."""
        if parameter is None:
            self.entry.setPlaceholderText("not known")
            self._parameter = None
            if not self._error:
                self.entry.show_text("")
            self.update()
            return
        if not self._error:
            self.entry.show_text(parameter.printed.source)
        if parameter != self._parameter:
            self._parameter = parameter
            best = parameter.best
            source = best.source or "no source"
            self.entry.setToolTip(f"As printed: {parameter.printed.source}")
            self.setToolTip(f"{plain(self._label)}: {best.value:.6g} {best.unit}, "
                            f"{best.origin.value} ({source})")  # fmt: skip
            self.setAccessibleName(self.toolTip())
            self.update()

    def _texts(self, parameter: Parameter) -> tuple[str, str]:
        best = parameter.best
        if self._path in _UNIT_RPM:
            return digits(best.value, 3), "rad/s"
        if self._path == "sensor.side":
            return ("forward" if best.value > 0 else "reversed"), ""
        if best.unit == "1":
            return f"{best.value:.0f}", ""
        if self._path == "sensor.zero":
            return f"{math.degrees(best.value) % 360.0:.1f}", "°"
        number, _, unit = with_std(best.value, best.std, best.unit)
        if parameter.adopted is None:
            number, unit = engineering(best.value, best.unit, 3)
        return number, unit

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, parameter = QPainter(self), look.theme(), self._parameter
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_text(p, 0, 12, self._label, t.ink, size=look.SMALL)
        if parameter is None:
            return
        if parameter.adopted is not None:
            number, unit = engineering(parameter.printed.value, parameter.printed.unit, 3)
            draw_text(p, self.width(), 12, f"{number} {unit} printed", t.muted, size=look.SMALL,
                      align="right")  # fmt: skip
        number, unit = self._texts(parameter)
        draw_text(p, 168, 33, number, t.ink, size=look.NAME - 1, bold=True, align="right")
        draw_text(p, 172, 33, unit, t.muted, size=look.SMALL)
        origin_mark(p, self.width() - 5, 28, parameter.best.origin)
        if self._error:
            p.setPen(QPen(t.attention, 1.5))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(0.5, 16, _ENTRY, 22))


class MachineStage(StageView):
    """Entries as printed at the right, the operating map in the middle."""

    key = "machine"
    question = "What can this machine do on this bus?"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        session = self.session
        self.shown: MachinePicture | None = None
        self.plane, self.torque, self.currents = CurrentPlane(), TorquePlot(), CurrentsPlot()
        for plot in (self.plane, self.torque, self.currents):
            plot.setParent(self)
        for over_speed in (self.torque, self.currents):
            over_speed.moved.connect(self.move_cursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        kept = session.screen.map_omega
        self._omega = 0.6 * session.axis.machine.max_speed.value if kept is None else kept
        self.rows = self._fill(self.numbers)
        self.commission = button("Commission …  F8", tip="Measure, tune and verify what is missing")
        self.commission.setParent(self)
        self.commission.clicked.connect(around.commission)

    def _fill(self, panel: Panel) -> dict[str, ParameterRow]:
        block = panel.block("As printed", "as used")
        rows = {}
        for path in _SHOWN:
            rows[path] = ParameterRow(path, self)
            block.add(rows[path])
        self._refusal = QLabel(self)
        self._refusal.setWordWrap(True)
        self._refusal.setFont(look.font(look.SMALL))
        self._refusal.setStyleSheet(f"color: {look.theme().attention.name()}")
        self._refusal.hide()
        binds = panel.block("Short circuit")
        self._short = binds.row("Current ψ/L~d~", "Current with shorted phases at high speed")
        self._why = Why()
        binds.add(self._why)
        more = panel.block("Rating and inverter", "as used")
        for path in _MORE:
            rows[path] = ParameterRow(path, self)
            more.add(rows[path])
        sensor = panel.block("Position sensor", self.session.axis.sensor.kind.value)
        for path in _SENSOR[self.session.axis.sensor.kind]:
            rows[path] = ParameterRow(path, self)
            sensor.add(rows[path])
        self._found = sensor.row("Offsets", "Readings of no current, phases a, b and c")
        self._blocks = (block, more, sensor)
        panel.finish()
        return rows

    def show_refusal(self, row: ParameterRow, text: str) -> None:
        """Show why an entry was refused, just below it."""
        for block in self._blocks:
            block.remove(self._refusal)
        if text:
            next(block for block in self._blocks if block.has(row)).put_below(self._refusal, row)
        self._refusal.setText(text)
        self._refusal.setVisible(bool(text))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        w, h = self.width(), self.height()
        self.commission.setGeometry(w - 166, 12, 150, 30)
        middle = round(0.515 * w)
        self.plane.setGeometry(8, 84, middle - 8, h - 84)
        split = h - 168
        self.torque.setGeometry(middle + 4, 84, w - middle - 8, split - 84)
        self.currents.setGeometry(middle + 4, split + 4, w - middle - 8, h - split - 4)

    def refresh(self) -> None:
        axis = self.session.axis
        shown = machine_picture(axis, self._omega)
        self.shown = shown
        self.say(shown.answer, *shown.reasons)
        self.plane.show_plane(shown)
        self.torque.show_map(shown)
        self.currents.show_map(shown)
        for path, row in self.rows.items():
            row.show_parameter(axis.optional(path))
        self._short.show_value(digits(shown.characteristic, 3), "A")
        inv = axis.inverter
        worst = max((inv.offset_a, inv.offset_b, inv.offset_c), key=lambda p: abs(p.value))
        told = f"{signed(worst.value / inv.current_count, 1)}" if worst.adopted else "–"
        self._found.show_value(told, "LSB at most", "", worst.best.origin)
        self._why.show_lines(*characteristic_why(shown))

    def move_cursor(self, omega: float) -> None:
        """Put the speed cursor somewhere else."""
        top = self.session.axis.machine.max_speed.value
        self._omega = min(max(omega, 0.0), top)
        self.session.show(map_omega=self._omega)
        self.refresh()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.01
        top = self.session.axis.machine.max_speed.value
        if event.key() == Qt.Key.Key_Right:
            self.move_cursor(self._omega + step * top)
        elif event.key() == Qt.Key.Key_Left:
            self.move_cursor(self._omega - step * top)
        else:
            super().keyPressEvent(event)

    def read_out(self) -> ReadOut:
        shown = self.shown
        if shown is None:
            return ReadOut("", "", "")
        top = shown.limits.p * shown.limits.omega_max / math.tau
        sampling = self.session.axis.inverter.control_frequency.value
        return ReadOut(
            f"electrical frequency at {shown.omega / RPM:.0f} rpm",
            digits(shown.electrical_hertz, 3),
            "Hz",
            (f"at top speed {top:.0f} Hz, 1/{sampling / top:.0f} of sampling",
             "filled: measured; hollow: not yet"),
        )  # fmt: skip


STAGE = MachineStage
