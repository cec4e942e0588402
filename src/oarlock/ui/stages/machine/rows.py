"""One parameter of the Machine stage: its entry as printed, what is used, where that is from."""

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from oarlock.errors import InputError
from oarlock.machine import Parameter
from oarlock.machine.fields import BY_PATH
from oarlock.quantities import Origin
from oarlock.quantities.display import engineering, with_std
from oarlock.quantities.kinds import Kind
from oarlock.quantities.shown import CURRENT, SPEED, after, chosen, plain_number
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import Entry, origin_mark, plain
from oarlock.ui.kit.paint import draw_text

if TYPE_CHECKING:
    from oarlock.ui.stages.machine.stage import MachineStage

NAMES = {
    "machine.R": "Resistance",
    "machine.Ld": "Inductance L~d~",
    "machine.Lq": "Inductance L~q~",
    "machine.psi": "Magnet flux ψ",
}
NEEDED = "needed first"
_ENTRY = 112  # px: the value in use begins beside it


class ParameterRow(QWidget):
    """One parameter: its entry as printed, what is used, and where that comes from."""

    def __init__(self, path: str, stage: "MachineStage") -> None:
        super().__init__()
        self._path, self._stage = path, stage
        field = BY_PATH[path]
        self._label = NAMES.get(path, field.label)
        self._parameter: Parameter | None = None
        self._error = ""
        self._missing = False
        self._switched = {Kind.SPEED: SPEED, Kind.CURRENT: CURRENT}.get(field.kind, "")
        self.unit = link_button("")
        self.unit.setParent(self)
        self.unit.setGeometry(161, 20, 46, 18)
        self.unit.setToolTip("Show it in another unit; what is stored stays the same")
        self.unit.setVisible(bool(self._switched))
        self.unit.clicked.connect(self._switch)
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
        self.entry.pasted_lines.connect(stage.preview)
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
        self._stage.refresh()

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

    def show_parameter(self, parameter: Parameter | None, hint: str = "not known") -> None:
        """Show a parameter's state; None, or a guess, where nothing is known of it yet.

        Parameters
        ----------
        hint : what an empty entry says of itself

        """
        if parameter is None or _is_guess(parameter):
            self.entry.setPlaceholderText(hint)
            self._missing = hint == NEEDED
            self.setAccessibleName(f"{plain(self._label)}: not known. {hint}")
            self._parameter = None
            if not self._error:
                self.entry.show_text("")
            self.update()
            return
        self._missing = False
        self.entry.setPlaceholderText(hint if parameter.adopted is None else "")
        if not self._error:
            self.entry.show_text(parameter.printed.source)
        if self._switched:
            self.update()  # the unit may be another one
        if parameter != self._parameter:
            self._parameter = parameter
            best = parameter.best
            source = best.source or "no source"
            self.entry.setToolTip(f"As printed: {parameter.printed.source}")
            self.setToolTip(f"{plain(self._label)}: {best.value:.6g} {best.unit}, "
                            f"{best.origin.value} ({source})")  # fmt: skip
            self.setAccessibleName(self.toolTip())
            self.update()

    def _chosen(self, value: float) -> tuple[str, str] | None:
        """Return a value in the unit that was chosen for its kind; None: it has but one."""
        units = chosen(dict(self._stage.session.screen.units))
        if self._switched == SPEED:
            pairs = self._stage.session.axis.machine.pole_pairs
            number, unit = units.speed_in(value, pairs.value if pairs.is_known else None)
        elif self._switched == CURRENT:
            number, unit = units.current_in(value)
        else:
            return None
        return plain_number(number), unit

    def _switch(self) -> None:
        """Show values of this kind in the next unit."""
        session = self._stage.session
        kept = dict(session.screen.units)
        now = chosen(kept)
        unit = now.speed if self._switched == SPEED else now.current
        session.show(units={**kept, self._switched: after(self._switched, unit)})
        self._stage.update_rows()
        session.axis_changed.emit(session.axis)  # it is shown elsewhere, too

    def _texts(self, parameter: Parameter) -> tuple[str, str]:
        best = parameter.best
        told = self._chosen(best.value)
        if told is not None:
            return told
        if self._path == "sensor.side":
            return ("forward" if best.value > 0 else "reversed"), ""
        if best.unit == "1":
            return f"{best.value:.0f}", ""
        if self._path == "sensor.zero":
            return f"{math.degrees(best.value) % 360.0:.1f}", "°"
        number, _, unit = with_std(best.value, best.std, best.unit)
        if best.origin is Origin.ROUGH:
            number, unit = engineering(best.value, best.unit, 2)
            return f"≈ {number}", unit
        if parameter.adopted is None or best.origin is Origin.TOLD:
            number, unit = engineering(best.value, best.unit, 3)
        return number, unit

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, parameter = QPainter(self), look.theme(), self._parameter
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_text(p, 0, 12, self._label, t.ink, size=look.SMALL)
        if parameter is None:
            if self._missing:
                draw_text(p, self.width(), 12, "missing", t.attention, size=look.SMALL,
                          align="right")  # fmt: skip
            draw_text(p, 168, 33, "–", t.muted, size=look.NAME - 1, align="right")
            self._paint_error(p)
            return
        if parameter.adopted is not None and parameter.printed.source:
            number, unit = engineering(parameter.printed.value, parameter.printed.unit, 3)
            draw_text(p, self.width(), 12, f"{number} {unit} printed", t.muted, size=look.SMALL,
                      align="right")  # fmt: skip
        number, unit = self._texts(parameter)
        end = 158 if self._switched else 168  # a unit that can be switched takes more room
        draw_text(p, end, 33, number, t.ink, size=look.NAME - 1, bold=True, align="right")
        if self._switched:
            self.unit.setText(unit)
            self.unit.setAccessibleName(f"{plain(self._label)} in {unit}, show in another unit")
        else:
            draw_text(p, 172, 33, unit, t.muted, size=look.SMALL)
        origin_mark(p, self.width() - 5, 28, parameter.best.origin)
        self._paint_error(p)

    def _paint_error(self, p: QPainter) -> None:
        t = look.theme()
        if self._error:
            p.setPen(QPen(t.attention, 1.5))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(0.5, 16, _ENTRY, 22))


def _is_guess(parameter: Parameter) -> bool:
    """Return whether nobody said it; what nearly every drive has is no guess."""
    return parameter.best.origin is Origin.ASSUMED and not parameter.printed.source
