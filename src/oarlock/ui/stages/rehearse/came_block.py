"""What a scenario came to, and what another one did that was kept to compare."""

import math

from PySide6.QtCore import QObject, Signal

from oarlock.quantities.display import digits
from oarlock.rehearse.figures import RehearsalFigures
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import Panel
from oarlock.views.rehearsal import RehearsePicture

_ROWS = {
    "behind": ("Behind, most", "Following error, where a position is asked for"),
    "top": ("Top speed", "The shaft's"),
    "peak": ("Peak current", "Of the current vector"),
    "rms": ("Current, rms", "Effective value: what heats the winding"),
    "loss": ("Copper loss", "Mean over the scenario"),
    "winding": ("Winding warms to", "If this goes on and on, in air of 40 °C"),
    "drawn": ("From the bus", "Energy: what the shaft takes and the copper loses"),
    "returned": ("Returned", "Energy that braking or a load pumps up: can the bus take it?"),
    "bus": ("Bus", "Least and most voltage of the link, by its supply and capacitor"),
    "burnt": ("Brake resistor", "Energy that it took"),
    "ripple": ("Ripple, rms", "What switching adds to a phase, effective value"),
    "volts": ("Bus in use", "Largest voltage over what the bus gives"),
    "over": ("At its limit", "Share of the time with the voltage at its limit"),
}
_NONE = 1e-3  # J
_BURNT = 999  # °C: what is hotter is not told
_KEEP, _DROP = "Keep it to compare", "Do not compare any more"


class CameBlock(QObject):
    """A block of the numbers; values of the run that was kept stand beside those of the newest."""

    changed = Signal()  # which run is kept

    def __init__(self, panel: Panel) -> None:
        super().__init__(panel)
        self._block = panel.block("Came to")
        self.rows = {key: self._block.row(name, tip) for key, (name, tip) in _ROWS.items()}
        self.before: RehearsePicture | None = None
        self._shown: RehearsePicture | None = None
        self.keep = link_button(_KEEP)
        self.keep.setToolTip("Its curves are drawn in grey behind those that follow")
        self.keep.clicked.connect(self._toggle)
        self.keep.hide()
        self.show_for(replay=False)
        self._block.add(self.keep)

    def show_for(self, *, replay: bool) -> None:
        """Show the block where a scenario's run is what is looked at."""
        self._block.setVisible(self._shown is not None and not replay)

    def show_run(self, shown: RehearsePicture) -> None:
        """Show the figures of a run; one of another loop is no longer compared with."""
        self._shown = shown
        kept = self.before
        if kept is not None and kept.run.scenario.control is not shown.run.scenario.control:
            self.before = None
        self.show_for(replay=False)
        self._fill()

    def keep_again(self, before: RehearsePicture | None) -> None:
        """Compare with a run that was kept elsewhere."""
        self.before = before

    @property
    def compared(self) -> RehearsePicture | None:
        """The run to draw behind the newest; None where that is the newest itself."""
        return self.before if self.before is not self._shown else None

    def _toggle(self) -> None:
        self.before = self._shown if self.before is None else None
        self._fill()
        self.changed.emit()

    def _fill(self) -> None:
        if self._shown is None:
            return
        other = _values(self.compared.figures) if self.compared is not None else {}
        for key in ("bus", "burnt"):
            self.rows[key].setVisible(self._shown.run.scenario.supply is not None)
        for key, (value, unit) in _values(self._shown.figures).items():
            was = f"was {other[key][0]}" if key in other and other[key][0] != value else ""
            self.rows[key].show_value(value, unit, was)
        self._block.set_hint("" if self.before is None else "grey: kept")
        self.keep.setText(_KEEP if self.before is None else _DROP)
        self.keep.show()


def _values(told: RehearsalFigures) -> dict[str, tuple[str, str]]:
    """Return each row's value and unit."""
    behind = math.degrees(told.following_peak)
    return {
        "behind": ("–" if math.isnan(behind) else digits(behind, 2), "°"),
        "top": (units.speed().number(told.top_speed), units.speed().unit),
        "peak": (digits(told.peak_current, 3), "A"),
        "rms": (digits(told.rms_current, 3), "A"),
        "loss": (digits(told.copper_loss, 3), "W"),
        "winding": (_warm(told.winding), "°C"),
        "drawn": (digits(told.drawn, 3), "J"),
        "returned": (digits(told.returned, 3) if told.returned >= _NONE else "0", "J"),
        "bus": (f"{told.bus_least:.0f} to {told.bus_most:.0f}", "V"),
        "burnt": (digits(told.burnt, 3) if told.burnt >= _NONE else "0", "J"),
        "ripple": ("–" if math.isnan(told.ripple) else digits(told.ripple, 2), "A"),
        "volts": (f"{100 * told.voltage:.0f}", "%"),
        "over": (f"{100 * told.saturated:.1f}", "%"),
    }


def _warm(celsius: float) -> str:
    if math.isnan(celsius):
        return "–"
    return f"{celsius:.0f}" if celsius < _BURNT else f"> {_BURNT}"
