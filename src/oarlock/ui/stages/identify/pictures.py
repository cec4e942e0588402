"""The evidence of a finding: data and fit, what is left over, and both in small."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from oarlock.experiments.identify.evidence import CurrentWave, VoltageLine
from oarlock.quantities.display import digits, fixed, sentence
from oarlock.quantities.kinds import RPM
from oarlock.records import Finding
from oarlock.records.evidence import Fitted
from oarlock.session.jobs import Doing
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import draw_text, paint_progress
from oarlock.ui.kit.plot import Plot, linear_ticks
from oarlock.ui.kit.plotted import stroke

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Shown:
    """How a quantity's evidence is drawn: units of both axes, and of what is left over."""

    x_unit: str
    y_unit: str
    left_unit: str
    left_scale: float = 1.0
    logarithmic: bool = False


_SHOWN = {
    "resistance": Shown("A", "V", "mV", 1e3),
    "inductance_d": Shown("turn", "A", "mA", 1e3),
    "inductance_q": Shown("turn", "A", "mA", 1e3),
    "flux": Shown("rad/s", "V", "mV", 1e3),
    "inertia": Shown("s", "rpm", "rpm"),
    "resonance": Shown("Hz", "dB", "dB", logarithmic=True),
}


def quantity_color(quantity: str) -> QColor:
    """Return the colour of a quantity's evidence."""
    t = look.theme()
    return {
        "inductance_d": t.d, "inductance_q": t.q, "flux": t.torque, "inertia": t.accent,
        "resonance": t.accent,
    }.get(quantity, t.ink)  # fmt: skip


def evidence_curves(quantity: str, e: Fitted) -> tuple[Array, Array, Array, Array]:
    """Return (x, y) of the data and (x, y) of the fit, as they are drawn."""
    if _SHOWN[quantity].logarithmic:
        return np.log10(e.x), e.y, np.log10(e.fit_x), e.fit_y
    times = _times(_SHOWN[quantity].y_unit)
    return e.x, times * e.y, e.fit_x, times * e.fit_y


def _times(unit: str) -> float:
    """Return by what numbers in a usual unit are multiplied, to be drawn in the unit chosen."""
    return RPM / units.speed().per if unit == "rpm" else 1.0


def _called(unit: str) -> str:
    """Return the unit that numbers in a usual one are drawn in."""
    return units.speed().unit if unit == "rpm" else unit


def ticks_of(quantity: str, low: float, high: float) -> list[tuple[float, str]]:
    """Return the ticks along x, the last with its unit."""
    if _SHOWN[quantity].logarithmic:
        at = [f for f in (5, 10, 20, 50, 100, 200, 500, 1000) if low <= math.log10(f) <= high]
        ticks = [(math.log10(f), f"{f}") for f in at]
    else:
        ticks = linear_ticks(low, high, 5)
    if ticks:
        ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {_SHOWN[quantity].x_unit}")
    return ticks


def _range(x: Array, fx: Array, quantity: str) -> tuple[float, float]:
    low = float(min(fx.min(), x.min()))
    high = float(max(fx.max(), x.max()))
    if quantity in ("resistance", "inertia") or quantity.startswith("inductance"):
        low = min(low, 0.0)
    return low, high if high > low else low + 1.0


class EvidencePlot(Plot):
    """Data and fit of one finding, with runs before it over one another."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=10, bottom=4, name="Evidence")
        self._doing = Doing()
        t = look.theme()
        self._line = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._before = [self.curve(t.muted, 1.0) for _ in range(3)]
        self._fit = self.curve(t.q, 2.0)
        self._data = self.points(t.q, 7)
        self._finding: Finding | None = None
        self._repeats = 0
        self.over(self._annotate)

    def show_doing(self, doing: Doing) -> None:
        """Show what is being done in the place where its evidence will be."""
        self._doing = doing
        self.refresh()

    def show_finding(self, finding: Finding | None, before: tuple[Finding, ...] = ()) -> None:
        """Show the evidence of a finding; of those before it, the fits in grey."""
        self._finding, self._repeats = finding, len(before)
        self._data.clear()
        for curve in (self._line, self._fit, *self._before):
            curve.clear()
        if finding is None or not isinstance(finding.evidence, Fitted):
            self.refresh()
            return
        x, y, fx, fy = evidence_curves(finding.quantity, finding.evidence)
        color = quantity_color(finding.quantity)
        for item, old in zip(self._before, before, strict=False):
            if isinstance(old.evidence, Fitted):
                item.show(*evidence_curves(old.quantity, old.evidence)[2:])
        self._fit.pen = stroke(color, 2.0)
        self._fit.show(fx, fy)
        step = max(x.size // 400, 1)
        self._data.show(x[::step], y[::step], color)
        if isinstance(finding.evidence, VoltageLine):
            self._line.show(fx, finding.evidence.line)
        low, high = _range(x, fx, finding.quantity)
        self.set_x(low, high, [(v, "") for v, _ in ticks_of(finding.quantity, low, high)])
        self._scale_y(finding, y, fy)
        self.refresh()

    def _scale_y(self, finding: Finding, y: Array, fitted: Array) -> None:
        top, bottom = float(y.max()), float(y.min())
        if finding.quantity == "flux":
            top, bottom = max(top, float(fitted.max())), min(bottom, float(fitted.min()))
        span = max(top - bottom, 1e-9)
        if finding.quantity == "resistance":
            low, high = 0.0, 1.15 * top
        elif finding.quantity.startswith("inductance"):
            low, high = 1.6 * bottom, (2.0 if finding.extra else 1.4) * top
        else:
            room = 0.5 if finding.quantity == "inertia" else 0.16
            low, high = bottom - 0.1 * span, top + room * span
        ticks = linear_ticks(low, high, 5)
        unit = _called(_SHOWN[finding.quantity].y_unit)
        if ticks and len(ticks[-1][1]) + len(unit) < 6:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {unit}")
        self.set_y(low, high, ticks)

    def _annotate(self, p: QPainter) -> None:
        finding, t = self._finding, look.theme()
        if finding is None:
            at = self.area.center()
            if self._doing.text:
                paint_progress(p, at, self._doing.text, self._doing.fraction)
                return
            text = "The evidence appears here once it is measured."
            draw_text(p, at.x(), at.y(), text, t.muted, align="center")
            return
        paint = {
            "resistance": self._on_resistance, "flux": self._on_flux, "inertia": self._on_inertia,
            "resonance": self._on_resonance,
        }.get(finding.quantity, self._on_inductance)  # fmt: skip
        if finding.estimates and isinstance(finding.evidence, Fitted):
            paint(p, finding, finding.evidence)
        if self._repeats:
            text = f"grey: {self._repeats} run{'s' * (self._repeats > 1)} before"
            draw_text(p, self.area.right() - 8, self.area.bottom() - 12, text, t.muted,
                      size=look.SMALL, align="right", halo=t.halo)  # fmt: skip

    def _on_resistance(self, p: QPainter, finding: Finding, evidence: Fitted) -> None:
        t = look.theme()
        R = finding.estimates["machine.R"].value
        x = 0.62 * float(evidence.fit_x.max())
        y = float(np.interp(x, evidence.fit_x, evidence.fit_y))
        draw_text(p, self.px(x) - 14, self.py(y) - 12, f"slope R **{digits(R, 3)} Ω**", t.ink,
                  size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip
        y = R * x
        draw_text(p, self.px(x) + 8, self.py(y) + 20, "R·i without dead time", t.muted,
                  size=look.SMALL, halo=t.halo)  # fmt: skip
        volts = finding.estimates["inverter.dead_voltage"].value
        text = f"dead time **{digits(volts, 3)} V** a phase"
        draw_text(p, self.px(0) + 12, self.py(0) - 10, text, t.ink, halo=t.halo)

    def _on_inductance(self, p: QPainter, finding: Finding, evidence: Fitted) -> None:
        t, color = look.theme(), quantity_color(finding.quantity)
        if isinstance(evidence, CurrentWave):
            amplitude = 0.5 * float(np.ptp(evidence.fit_y))
            volts = 0.5 * float(np.ptp(evidence.volts))
            text = f"current **{digits(amplitude, 3)} A** at {digits(volts, 3)} V, one period"
            draw_text(p, self.area.left() + 12, self.area.bottom() - 12, text, color, halo=t.halo)
        extra = [f"held at {name}: **{sentence(e.value, 'H', 4)}**"
                 for name, e in finding.extra.items()]  # fmt: skip
        if "inverter.delay" in finding.estimates:
            delay = finding.estimates["inverter.delay"].value
            extra.append(f"delay of the loop: **{sentence(delay, 's', 3)}**")
        for i, text in enumerate(extra):
            draw_text(p, self.area.right() - 8, self.area.top() + 20 + 17 * i, text, t.ink,
                      align="right", halo=t.halo)  # fmt: skip

    def _on_flux(self, p: QPainter, finding: Finding, _: Fitted) -> None:
        t = look.theme()
        psi = finding.estimates["machine.psi"].value
        draw_text(p, self.px(0) - 12, self.py(0) - 40, f"slope ψ **{sentence(psi, 'Wb', 4)}**",
                  t.ink, size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip
        draw_text(p, self.area.left() + 12, self.area.top() + 18, "back-EMF on q, electrical speed",
                  t.muted, size=look.SMALL, halo=t.halo)  # fmt: skip
        zero = finding.extra.get("zero off by")
        if zero:
            text = f"zero off by **{fixed(math.degrees(zero.value), 2)}°**"
            text += f" ± {fixed(math.degrees(zero.std or 0.0), 2)}"
            draw_text(p, self.px(0) + 14, self.py(0) + 44, text, t.ink, halo=t.halo)

    def _on_inertia(self, p: QPainter, finding: Finding, _: Fitted) -> None:
        t, e = look.theme(), finding.estimates
        words = (("friction", "mechanics.coulomb"), ("viscous", "mechanics.viscous"),
                 ("breakaway", "mechanics.breakaway"), ("load", "mechanics.load_torque"),
                 ("with the square of speed", "mechanics.load_square"))  # fmt: skip
        found = [(word, e[path]) for word, path in words
                 if path in e and abs(e[path].value) > 2.0 * (e[path].std or 0.0)]  # fmt: skip
        texts = []
        for word, one in found:
            number, unit = sentence(one.value, one.unit).split(" ", 1)
            number, unit = units.pair(number, unit)
            texts.append(f"{word} **{number}** {unit}")
        for i, text in enumerate(("   ".join(texts[:3]), "   ".join(texts[3:]))):
            draw_text(p, self.area.left() + 12, self.area.top() + 18 + 17 * i, text, t.ink,
                      halo=t.halo)  # fmt: skip
        draw_text(p, self.area.left() + 12, self.area.bottom() - 12, units.speed().unit, t.muted,
                  size=look.SMALL, halo=t.halo)  # fmt: skip

    def _on_resonance(self, p: QPainter, finding: Finding, _: Fitted) -> None:
        t, e = look.theme(), finding.estimates
        draw_text(p, self.area.right() - 8, self.area.bottom() - 12, "speed over torque", t.muted,
                  size=look.SMALL, align="right", halo=t.halo)  # fmt: skip
        words = (("dip", "mechanics.anti_resonance"), ("peak", "mechanics.resonance"))
        lines = [f"{word} **{digits(e[path].value / math.tau, 4)} Hz**"
                 for word, path in words if path in e and e[path].value]  # fmt: skip
        names = ("motor inertia", "load inertia", "stiffness", "damping ratio")
        lines += [f"{n} **{sentence(finding.extra[n].value, finding.extra[n].unit)}**"
                  for n in names if n in finding.extra]  # fmt: skip
        lines = lines or ["no dip and peak: rigid"]
        for i, text in enumerate(lines):
            y = self.area.bottom() - 12 - 16 * (len(lines) - 1 - i)
            draw_text(p, self.area.left() + 12, y, text, t.ink, halo=t.halo)


class ResidualPlot(Plot):
    """Measured less fitted."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=18, bottom=26, name="Residual")
        self._data = self.points(look.theme().q, 5)
        self._rms = 0.0
        self._unit = "mV"
        self.behind(self._back)
        self.over(self._annotate)

    def show_finding(self, finding: Finding | None) -> None:
        """Show the residual of a finding."""
        self._rms = 0.0
        if finding is None or not isinstance(finding.evidence, Fitted):
            self._data.clear()
            self.refresh()
            return
        x, _, fx, _ = evidence_curves(finding.quantity, finding.evidence)
        shown = _SHOWN[finding.quantity]
        residual = shown.left_scale * _times(shown.left_unit) * finding.evidence.residual
        self._unit = _called(shown.left_unit)
        self._rms = float(np.sqrt(np.mean(residual**2)))
        step = max(x.size // 400, 1)
        self._data.show(x[::step], residual[::step], quantity_color(finding.quantity))
        low, high = _range(x, fx, finding.quantity)
        self.set_x(low, high, ticks_of(finding.quantity, low, high))
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
            draw_text(p, self.area.left(), self.area.top() - 5, text, t.muted, size=look.SMALL)
