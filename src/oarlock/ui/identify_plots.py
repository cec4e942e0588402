"""The evidence of a finding: data and fit, what is left over, and both in small."""

from typing import Any

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from oarlock.quantities.display import digits
from oarlock.records import Finding
from oarlock.ui import theme as look
from oarlock.ui.paint import draw_text
from oarlock.ui.plot import Plot, linear_ticks, stroke


def quantity_color(quantity: str) -> QColor:
    """Return the colour of a quantity's evidence."""
    t = look.theme()
    return {"resistance": t.ink, "inductance_d": t.d, "inductance_q": t.q}[quantity]


def evidence_curves(finding: Finding) -> tuple[Any, Any, Any, Any]:
    """Return (x, y) of the data and (x, y) of the fit."""
    e = finding.evidence
    if finding.quantity == "resistance":
        return e["i"], e["v"], e["fit_i"], e["fit_v"]
    return e["phase"], e["measured"], e["phase"], e["fitted"]


class EvidencePlot(Plot):
    """Data and fit of one finding."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=10, bottom=4, name="Evidence")
        t = look.theme()
        self._line = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._fit = self.curve(t.q, 2.0)
        self._data = self.points(t.q, 7)
        self._finding: Finding | None = None
        self.over(self._annotate)

    def show_finding(self, finding: Finding | None) -> None:
        """Show the evidence of a finding."""
        self._finding = finding
        if finding is None:
            for item in (self._line, self._fit, self._data):
                item.setData([], [])
            self.refresh()
            return
        x, y, fx, fy = evidence_curves(finding)
        color = quantity_color(finding.quantity)
        self._fit.setPen(stroke(color, 2.0))
        self._fit.setData(fx, fy)
        step = max(x.size // 400, 1)
        self.set_points(self._data, x[::step], y[::step], color)
        resistance = finding.quantity == "resistance"
        if resistance:
            self._line.setData(fx, finding.evidence["line_v"])
        else:
            self._line.setData([], [])
        top = float(max(fx.max(), x.max()))
        self.set_x(0.0, top, [(v, "") for v, _ in linear_ticks(0.0, top, 5)])
        low = 0.0 if resistance else 1.6 * float(y.min())
        high = (1.15 if resistance else 2.0 if finding.extra else 1.4) * float(y.max())
        ticks = linear_ticks(low, high, 5)
        unit = "V" if resistance else "A"
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {unit}")
        self.set_y(low, high, ticks)
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        finding, t = self._finding, look.theme()
        if finding is None:
            text, at = "The evidence appears here once it is measured.", self.area.center()
            draw_text(p, at.x(), at.y(), text, t.muted, align="center")
            return
        color = quantity_color(finding.quantity)
        if finding.quantity == "resistance":
            R = finding.estimates["machine.R"].value
            fx = finding.evidence["fit_i"]
            x = 0.62 * float(fx.max())
            y = float(np.interp(x, fx, finding.evidence["fit_v"]))
            draw_text(p, self.px(x) - 14, self.py(y) - 12, f"slope R **{digits(R, 3)} Ω**", t.ink,
                      size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip
            y = R * x
            draw_text(p, self.px(x) + 8, self.py(y) + 20, "R·i without dead time", t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip
            volts = finding.estimates["inverter.dead_voltage"].value
            text = f"dead time **{digits(volts, 3)} V** a phase"
            draw_text(p, self.px(0) + 12, self.py(0) - 10, text, t.ink, halo=t.halo)
            return
        amplitude = 0.5 * float(np.ptp(finding.evidence["fitted"]))
        volts = 0.5 * float(np.ptp(finding.evidence["volts"]))
        text = f"current **{digits(amplitude, 3)} A** at {digits(volts, 3)} V, one period"
        draw_text(p, self.area.left() + 12, self.area.bottom() - 12, text, color, halo=t.halo)
        extra = [f"{name}: **{digits(1e3 * e.value, 4)} mH**" for name, e in finding.extra.items()]
        for i, text in enumerate(extra):
            draw_text(p, self.area.right() - 8, self.area.top() + 20 + 17 * i, f"held at {text}",
                      t.ink, align="right", halo=t.halo)  # fmt: skip


class ResidualPlot(Plot):
    """Measured less fitted."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=4, bottom=26, name="Residual")
        self._data = self.points(look.theme().q, 5)
        self._rms = 0.0
        self._unit = "mV"
        self.behind(self._back)
        self.over(self._annotate)

    def show_finding(self, finding: Finding | None) -> None:
        """Show the residual of a finding."""
        self._rms = 0.0
        if finding is None:
            self._data.setData([], [])
            self.refresh()
            return
        x, _, fx, _ = evidence_curves(finding)
        residual = 1e3 * finding.evidence["residual"]
        resistance = finding.quantity == "resistance"
        self._unit = "mV" if resistance else "mA"
        self._rms = float(np.sqrt(np.mean(residual**2)))
        step = max(x.size // 400, 1)
        self.set_points(self._data, x[::step], residual[::step], quantity_color(finding.quantity))
        top = float(max(fx.max(), x.max()))
        ticks = linear_ticks(0.0, top, 5)
        unit = "A" if resistance else "turn"
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {unit}")
        self.set_x(0.0, top, ticks)
        most = max(1.15 * float(np.abs(residual).max()), 1e-6)
        self.set_y(-most, most, linear_ticks(-most, most, 3))
        self.refresh()

    def _back(self, p: QPainter) -> None:
        if self._rms:
            top, bottom = self.py(2 * self._rms), self.py(-2 * self._rms)
            band = QRectF(self.area.left(), top, self.area.width(), bottom - top)
            p.fillRect(band, look.faded(look.theme().accent, 26))

    def _annotate(self, p: QPainter) -> None:
        t = look.theme()
        if self._rms:
            text = f"measured − fit, {self._unit}; band: ±2 × {digits(self._rms, 2)} rms"
            draw_text(p, self.area.left() + 8, self.area.top() + 14, text, t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip
