"""What Sensing found and what is in use of it, in the numbers at the right."""

import math

from oarlock.machine import Axis, SensorKind
from oarlock.quantities.display import digits, signed
from oarlock.ui.kit import units
from oarlock.ui.kit.numbers import Panel
from oarlock.views.sensing import SensingStep
from oarlock.views.sensing_experiments import HAND, REST, TURN


class InUse:
    """One row for each number."""

    def __init__(self, panel: Panel) -> None:
        used = panel.block("In use", "± one std. uncert.")
        self._zero = used.row("Zero", "Electrical angle taken off what the sensor says")
        self._pairs = used.row("Pole pairs", "As counted by the forced turn, or by hall edges")
        self._side = used.row("Direction", "Whether the sensor counts as the field turns")
        self._offset = used.row("Offset, worst", "Reading of no current")
        self._noise = used.row("Noise, worst", "Of one phase's reading, rms")
        self._count = used.row("1 count is", "Scale of the current sense")
        self._counts = used.row("1 A is", "Scale of the current sense, the other way round")
        self._break = used.row("Breakaway", "Torque at which the shaft begins to move")

    def show_axis(self, axis: Axis, made: dict[str, SensingStep], breakaway: float) -> None:
        """Show what stands.

        Parameters
        ----------
        breakaway : N·m; 0: not found

        """
        sensor, inv = axis.sensor, axis.inverter
        if sensor.is_found and sensor.kind is not SensorKind.HALL:
            zero = math.degrees(sensor.zero.value) % 360.0
            self._zero.show_value(f"{zero:.2f}", "°", f"±{math.degrees(sensor.zero.std):.2f}",
                                  sensor.zero.best.origin)  # fmt: skip
        else:
            found = "table" if sensor.is_found else "–"
            self._zero.show_value(found, "", "", sensor.hall_1.best.origin)
        self._show_pairs(axis, made)
        way = "forward" if sensor.side.value > 0 else "reversed"
        self._side.show_value(way if sensor.is_found else "–", "", "", sensor.side.best.origin)
        self._show_currents(axis, made)
        self._break.show_value(*units.pair(digits(breakaway, 2) if breakaway else "–", "N·m"))
        known, count = inv.current_full_scale.is_known, inv.current_count
        scale = inv.current_full_scale.best.origin
        self._count.show_value(digits(1e3 * count, 3) if known else "–", "mA", "", scale)
        self._counts.show_value(digits(1.0 / count, 3) if known else "–", "counts", "", scale)

    def _show_pairs(self, axis: Axis, made: dict[str, SensingStep]) -> None:
        for kind, key, places in ((TURN, "pole pairs", 3), (HAND, "pole pairs by edges", 1)):
            finding = made[kind].finding if kind in made else None
            if finding and key in finding.extra:
                found = finding.extra[key]
                self._pairs.show_value(f"{found.value:.{places}f}", "", "", found.origin)
                return
        pairs = axis.machine.pole_pairs
        if not pairs.is_known:
            self._pairs.show_value("–", "", "not known", pairs.best.origin)
            return
        self._pairs.show_value(f"{pairs.value:.0f}", "", "entered", pairs.best.origin)

    def _show_currents(self, axis: Axis, made: dict[str, SensingStep]) -> None:
        rest, count = made[REST].finding, axis.inverter.current_count
        if rest is None:
            for row in (self._offset, self._noise):
                row.show_value("–")
            return
        worst = max(rest.estimates.values(), key=lambda e: abs(e.value))
        noise = max(e.value for e in rest.extra.values())
        self._offset.show_value(signed(worst.value / count, 2), "LSB",
                                f"±{digits((worst.std or 0) / count, 1)}",
                                worst.origin)  # fmt: skip
        self._noise.show_value(f"{noise / count:.1f}", "LSB", "", worst.origin)
