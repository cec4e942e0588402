"""The Machine stage: what this machine can do on this bus."""

import math

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QLabel
from shiboken6 import isValid

from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.machine.pasted import pasted
from oarlock.machine.unknown import is_known
from oarlock.quantities.display import digits, signed
from oarlock.session.entries import entered_all
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.numbers import Block, Panel, Why
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.machine.begun import ComingTable
from oarlock.ui.stages.machine.kind_row import KindRow
from oarlock.ui.stages.machine.paste import PastePanel
from oarlock.ui.stages.machine.pictures import CurrentPlane, CurrentsPlot, TorquePlot
from oarlock.ui.stages.machine.rows import ParameterRow
from oarlock.views.machine import MachinePicture, can_be_mapped, characteristic_why, machine_picture
from oarlock.views.machine_begun import begun, hint_of

_RATING = (
    "machine.rated_current", "machine.peak_current", "machine.max_speed", "inverter.bus_voltage",
)  # fmt: skip
_WINDING = (
    "machine.pole_pairs", "machine.R", "machine.Ld", "machine.Lq", "machine.psi", "machine.inertia",
)  # fmt: skip
_INVERTER = (
    "inverter.control_frequency", "inverter.pwm_frequency", "inverter.dead_time",
    "inverter.current_full_scale", "inverter.adc_bits",
)  # fmt: skip
_LIMITS = (
    "inverter.max_current", "inverter.steady_current", "inverter.max_voltage",
    "inverter.max_temperature", "machine.max_voltage", "machine.max_temperature",
    "mechanics.max_turns",
)  # fmt: skip
_SENSOR = {
    SensorKind.ENCODER: ("sensor.counts", "sensor.side", "sensor.zero"),
    SensorKind.RESOLVER: ("sensor.pairs", "sensor.side", "sensor.zero"),
    SensorKind.HALL: (),
    SensorKind.NONE: (),
}


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
        self.coming = ComingTable(self)
        self.paste: PastePanel | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        kept = session.screen.map_omega
        self._omega = 0.6 * session.axis.top_speed if kept is None else kept
        self.rows = self._fill(self.numbers)
        self.commission = button("Commission …  F8", tip="Measure, tune and verify what is missing")
        self.commission.setParent(self)
        self.commission.clicked.connect(around.commission)

    def _fill(self, panel: Panel) -> dict[str, ParameterRow]:
        rows: dict[str, ParameterRow] = {}
        self._blocks: list[Block] = []
        for title, hint, paths in (
            ("Rating", "as printed → as used", _RATING),
            ("Winding and shaft", "measured", _WINDING),
        ):
            self._blocks.append(panel.block(title, hint))
            for path in paths:
                rows[path] = ParameterRow(path, self)
                self._blocks[-1].add(rows[path])
        self._refusal = QLabel(self)
        self._refusal.setWordWrap(True)
        self._refusal.setFont(look.font(look.SMALL))
        self._refusal.setStyleSheet(f"color: {look.theme().attention.name()}")
        self._refusal.hide()
        binds = panel.block("Short circuit")
        self._short = binds.row("Current ψ/L~d~", "Current with shorted phases at high speed")
        self._why = Why()
        binds.add(self._why)
        more = panel.block("Inverter", "told by the drive, or typed")
        for path in _INVERTER:
            rows[path] = ParameterRow(path, self)
            more.add(rows[path])
        bounds = panel.block("Limits", "besides the rating")
        for path in _LIMITS:
            rows[path] = ParameterRow(path, self)
            bounds.add(rows[path])
        sensor = panel.block("Position sensor")
        self.sensor_kind = KindRow(self.session)
        sensor.add(self.sensor_kind)
        for path in _SENSOR[self.session.axis.sensor.kind]:
            rows[path] = ParameterRow(path, self)
            sensor.add(rows[path])
        self._found = sensor.row("Offsets", "Readings of no current, phases a, b and c")
        self._blocks += [more, bounds, sensor]
        panel.finish()
        return rows

    def update_rows(self) -> None:
        """Paint all values anew: their units changed."""
        for row in self.rows.values():
            row.update()

    def preview(self, text: str) -> None:
        """Show what pasted lines would be taken for."""
        pairs = self.session.axis.machine.pole_pairs
        lines = pasted(text, pole_pairs=pairs.value if pairs.is_known else None)
        if self.paste is not None and isValid(self.paste):
            self.paste.close()
        self.paste = PastePanel(lines, self._take_lines, self)
        self.paste.setGeometry(8, 98, self.width() - 16, self.height() - 106)
        self.paste.show()
        self.paste.raise_()
        self.paste.take_button.setFocus()

    def _take_lines(self, entries: list[tuple[str, str]]) -> None:
        try:
            axis = entered_all(self.session.axis, entries)
            self.session.edit(f"Enter {len(entries)} values", axis)
        except InputError as error:
            self.around.tell(f"{error.cause}. {error.remedy}")
        self.refresh()

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
        self.coming.setGeometry(look.MARGIN, 96, w - 2 * look.MARGIN, h - 96)
        middle = round(0.515 * w)
        self.plane.setGeometry(8, 84, middle - 8, h - 84)
        split = h - 168
        self.torque.setGeometry(middle + 4, 84, w - middle - 8, split - 84)
        self.currents.setGeometry(middle + 4, split + 4, w - middle - 8, h - split - 4)

    def refresh(self) -> None:
        axis = self.session.axis
        for path, row in self.rows.items():
            row.show_parameter(axis.optional(path), hint_of(axis, path))
        self.sensor_kind.show_kind()
        mapped = can_be_mapped(axis)
        for plot in (self.plane, self.torque, self.currents):
            plot.setVisible(mapped)
        self.coming.setVisible(not mapped)
        if mapped:
            self._show_map(axis)
        else:
            self._show_begun()
        inv = axis.inverter
        worst = max((inv.offset_a, inv.offset_b, inv.offset_c), key=lambda p: abs(p.value))
        told = f"{signed(worst.value / inv.current_count, 1)}" if worst.adopted else "–"
        self._found.show_value(told, "LSB at most", "", worst.best.origin)

    def _show_map(self, axis: Axis) -> None:
        shown = self.shown = machine_picture(axis, self._omega)
        self.question = MachineStage.question
        self.say(shown.answer, *shown.reasons)
        self.plane.show_plane(shown)
        self.torque.show_map(shown)
        self.currents.show_map(shown)
        self._short.show_value(digits(shown.characteristic, 3), "A")
        self._why.show_lines(*characteristic_why(shown))

    def _show_begun(self) -> None:
        self.shown, self.question = None, "What is this motor?"
        shown = begun(self.session.now, connected=self.bench.connected)
        self.say(shown.answer, *shown.reasons)
        self.coming.show_begun(shown)
        self._short.show_value("–", "A")
        self._why.show_lines("follows from ψ and L~d~")

    def move_cursor(self, omega: float) -> None:
        """Put the speed cursor somewhere else."""
        top = self.session.axis.top_speed
        self._omega = min(max(omega, 0.0), top)
        self.session.show(map_omega=self._omega)
        self.refresh()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.01
        top = self.session.axis.top_speed
        if event.key() == Qt.Key.Key_Right:
            self.move_cursor(self._omega + step * top)
        elif event.key() == Qt.Key.Key_Left:
            self.move_cursor(self._omega - step * top)
        else:
            super().keyPressEvent(event)

    def read_out(self) -> ReadOut:
        shown = self.shown
        if shown is None:
            paths = (*_RATING, *_WINDING[:-1])
            known = sum(is_known(self.session.axis, path) for path in paths)
            return ReadOut("known of this motor", str(known), f"of {len(paths)} numbers",
                           ("filled: measured; hollow: not yet",))  # fmt: skip
        top = shown.limits.p * shown.limits.omega_max / math.tau
        sampling = self.session.axis.inverter.control_frequency.value
        return ReadOut(
            f"electrical frequency at {units.speed().text(shown.omega)}",
            digits(shown.electrical_hertz, 3),
            "Hz",
            (f"at top speed {top:.0f} Hz, 1/{sampling / top:.0f} of sampling",
             "filled: measured; hollow: not yet"),
        )  # fmt: skip


STAGE = MachineStage
