"""The current loop's four plots: step, voltage, gain, phase, with their figures drawn in place."""

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter

from oarlock.experiments.loops.step_response import StepResult
from oarlock.quantities.display import fixed, sentence
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import arrow, dot, draw_text, line, text_width
from oarlock.ui.kit.plot import Plot, Trail, linear_ticks
from oarlock.ui.kit.plotted import Array, stroke
from oarlock.views.current import CurrentPicture

_SPANS = (0.0002, 0.0004, 0.0008, 0.0016, 0.0032, 0.0064, 0.0128, 0.0256, 0.0512, 0.1024)


def axis_color(name: str) -> QColor:
    """Return the colour of d or q."""
    t = look.theme()
    return t.d if name == "d" else t.q


def time_span(settling: float) -> float:
    """Return how many seconds to draw, in coarse steps so that a drag seldom rescales."""
    wanted = 2.2 * settling if math.isfinite(settling) else _SPANS[-1]
    return next((span for span in _SPANS if span >= wanted), _SPANS[-1])


class StepPlot(Plot):
    """Command and response over one another, predicted and measured."""

    def __init__(self) -> None:
        super().__init__(left=48, right=8, top=8, bottom=2, name="Step response")
        t = look.theme()
        self._pins = [self.curve(t.muted, 1.2) for _ in range(4)]
        self._trails = {"d": Trail(self, t.d), "q": Trail(self, t.q)}
        self._pin_labels: list[tuple[float, float, str]] = []
        self._predicted = self.curve(t.q, 2.2)
        self._measured = self.points(t.q)
        self._picture: CurrentPicture | None = None
        self._step: StepResult | None = None
        self._bias = 0.0
        self.behind(self._back)
        self.over(self._annotate)

    def show_step(
        self,
        shown: CurrentPicture,
        measured: StepResult | None,
        when: str,
        pinned: list[tuple[str, StepResult]],
        bias: float,
    ) -> None:
        """Show a prediction, and what was measured where it belongs to the same gains."""
        self._picture, self._step, self._when, self._bias = shown, measured, when, bias
        color, span = axis_color(shown.axis_name), float(shown.t[-1])
        self._predicted.show(shown.t, shown.current)
        self._predicted.pen = stroke(color, 2.2)
        peak = 1.0 + shown.figures.overshoot
        top = shown.amplitude * next((m for m in (1.28, 1.5, 1.8) if m > peak + 0.1), 2.2)
        if (-0.04 * span, span) != self.x_range:
            self.set_x(-0.04 * span, span, [(v, "") for v, _ in linear_ticks(0.0, span, 4)])
        ticks = units.ticks(units.current(), 0.0, shown.amplitude * 1.02, 4)
        self.set_y(-0.06 * shown.amplitude, top, ticks)
        if measured is not None:
            keep = (measured.t >= 0) & (measured.t <= span)
            scale = shown.amplitude
            self._measured.show(measured.t[keep], scale * measured.normal[keep], color)
        else:
            self._measured.clear()
        self._show_pins(pinned, shown, span)
        self.refresh()

    def show_trail(self, name: str, results: list[StepResult], amplitude: float) -> None:
        """Draw the answers before the newest, the older the fainter."""
        for which, trail in self._trails.items():
            trail.show([(s.t, amplitude * s.normal) for s in results] if which == name else [])

    def _show_pins(
        self, pinned: list[tuple[str, StepResult]], shown: CurrentPicture, span: float
    ) -> None:
        self._pin_labels = []
        for i, curve in enumerate(self._pins):
            if i >= len(pinned):
                curve.clear()
                continue
            label, step = pinned[i]
            keep = (step.t >= 0) & (step.t <= span)
            t, y = step.t[keep], shown.amplitude * step.normal[keep]
            curve.show(t, y)
            if t.size:
                k = int(np.argmin(np.abs(y - (0.62 - 0.11 * i) * shown.amplitude)))
                self._pin_labels.append((float(t[k]), float(y[k]), label))

    def _back(self, p: QPainter) -> None:
        shown = self._picture
        if shown is not None:
            self.paint_band(p, shown.t, *shown.band, axis_color(shown.axis_name))

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        color, f = axis_color(shown.axis_name), shown.figures
        one, zero = self.py(shown.amplitude), self.py(0.0)
        start = self.px(0.0)
        line(p, start, zero, start, one, t.ink, 1, Qt.PenStyle.DashLine)
        line(p, start, one, self.area.right(), one, t.ink, 1, Qt.PenStyle.DashLine)
        if not shown.margins.stable:
            draw_text(p, self.area.left() + 12, self.area.top() + 18, "It would swing up.",
                      t.attention, size=look.FIGURE, halo=t.halo)  # fmt: skip
            return
        self._annotate_rise(p, shown)
        peak_x, peak_y = self.px(f.peak_time), self.py(shown.amplitude * (1 + f.overshoot))
        if f.overshoot > 0.001:
            dot(p, peak_x, peak_y, color, filled=True)
        text = f"overshoot **{100 * f.overshoot:.1f} %**" + self._also(
            lambda s: fixed(100 * s.response.overshoot, 1)
        )
        width = text_width(text, look.FIGURE)
        x = min(max(peak_x + 6, self.area.left() + 60), self.area.right() - width - 2)
        draw_text(p, x, min(peak_y, one) - 10, text, t.ink, size=look.FIGURE, halo=t.halo)
        for tx, ty, label in self._pin_labels:
            x, y = self.px(tx), self.py(ty)
            line(p, x, y, x + 14, y, t.muted)
            draw_text(p, x + 17, y + 4, label, t.muted, size=look.SMALL, halo=t.halo)
        name = f"__i__~{shown.axis_name}~{units.in_words(units.current())}"
        above = f"{name} above {units.current().text(self._bias)}" if self._bias else name
        told = self.py(0.17 * shown.amplitude) + 5  # where the settling time stands
        low = self.area.height() < 190 or zero - 6 - told < 16  # the figures need the place
        at = self.area.top() + 0.62 * self.area.height() if low else zero - 6
        draw_text(p, self.area.right() - 4, at, above, color, align="right", halo=t.halo)
        if self._step is not None:
            fit, plan = self._step.fitted, self._step.predicted_fit
            hertz, meant = (f.natural_frequency / math.tau for f in (fit, plan))
            lines = (
                f"circles: {self._when}",
                f"fitted **{sentence(hertz, 'Hz')}**, damping **{fit.damping:.2f}**",
                f"predicted {sentence(meant, 'Hz')}, {plan.damping:.2f}",
            )
            for i, text in enumerate(lines):
                draw_text(p, self.area.right() - 4, one + 18 + 15 * i, text,
                          color if i == 0 else t.muted, size=look.SMALL, align="right",
                          halo=t.halo)  # fmt: skip

    def _annotate_rise(self, p: QPainter, shown: CurrentPicture) -> None:
        t, f, color = look.theme(), shown.figures, axis_color(shown.axis_name)
        if not math.isfinite(f.rise):
            return
        x1, x2 = self.px(f.rise_from), self.px(f.rise_from + f.rise)
        y1, y2 = self.py(0.1 * shown.amplitude), self.py(0.9 * shown.amplitude)
        level = self.py(0.37 * shown.amplitude)
        line(p, x1, y1, x1, level, t.ink)
        line(p, x2, y2, x2, level, t.ink)
        arrow(p, x1, level, x2, level, t.ink)
        dot(p, x1, y1, color, filled=True, radius=3.5)
        dot(p, x2, y2, color, filled=True, radius=3.5)
        text = f"rise **{sentence(f.rise, 's')}**" + self._also(
            lambda s: sentence(s.response.rise, "s").split()[0]
        )
        draw_text(p, x2 + 8, level + 5, text, t.ink, size=look.FIGURE, halo=t.halo)
        if math.isfinite(f.settling):
            level = self.py(0.17 * shown.amplitude)
            x = self.px(f.settling)
            line(p, x, self.py(shown.amplitude), x, level, t.muted)
            arrow(p, self.px(0.0), level, x, level, t.ink)
            text = f"within 2 % **{sentence(f.settling, 's')}**" + self._also(
                lambda s: sentence(s.response.settling, "s").split()[0]
            ).replace(" measured", "")
            width = text_width(text, look.FIGURE)
            x = min(x + 8, self.area.right() - width - 2)
            draw_text(p, x, level + 5, text, t.ink, size=look.FIGURE, halo=t.halo)

    def _also(self, figure: Callable[[StepResult], str]) -> str:
        """Return the measured figure as running text, where there is one."""
        if self._step is None:
            return ""
        return f", measured {figure(self._step)}"


class VoltagePlot(Plot):
    """The voltage that the step takes, under what the bus gives."""

    def __init__(self) -> None:
        super().__init__(left=48, right=8, top=6, bottom=26, name="Voltage of the step")
        t = look.theme()
        self._curve = self.curve(t.q, 1.8)
        self._measured = self.curve(t.muted, 1.0)
        self._picture: CurrentPicture | None = None
        self.over(self._annotate)

    def show_voltage(self, shown: CurrentPicture, measured: StepResult | None) -> None:
        """Show the commanded voltage, held over each sample, when it is applied."""
        self._picture = shown
        Ts, span = shown.loop.plant.Ts, float(shown.t[-1])
        t, u = _stairs(shown.t + Ts, shown.voltage, Ts)
        self._curve.pen = stroke(axis_color(shown.axis_name), 1.8)
        self._curve.show(t, u)
        if measured is not None:
            keep = (measured.t >= -Ts) & (measured.t <= span)
            offset = float(np.mean(measured.voltage[measured.t < -0.5 * Ts]))
            scale = shown.amplitude / measured.amplitude
            stairs = _stairs(measured.t[keep] + Ts, scale * (measured.voltage[keep] - offset), Ts)
            self._measured.show(*stairs)
        else:
            self._measured.clear()
        ticks = [(v, f"{1e3 * v:.4g}") for v, _ in linear_ticks(0.0, span, 4)]
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} ms")
        if (-0.04 * span, span) != self.x_range:
            self.set_x(-0.04 * span, span, ticks)
        peak = float(np.max(shown.voltage))
        top = 1.25 * max(shown.v_max, min(peak, 3.0 * shown.v_max))
        least = max(float(np.min(shown.voltage)), -2.0 * shown.v_max)
        low = 1.15 * min(least, -0.06 * shown.v_max)
        low = math.floor(low / (0.1 * shown.v_max)) * 0.1 * shown.v_max
        labels = linear_ticks(low, top, 3)
        if labels:
            labels[-1] = (labels[-1][0], f"{labels[-1][1]} V")
        self.set_y(low, top, labels)
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        color = axis_color(shown.axis_name)
        y = self.py(shown.v_max)
        line(p, self.area.left(), y, self.area.right(), y, t.attention, 2)
        draw_text(p, self.area.right() - 4, y - 6, f"bus gives **{shown.v_max:.0f} V**",
                  t.attention, align="right", halo=t.halo)  # fmt: skip
        pulse = float(np.max(shown.voltage))
        x = self.px(shown.loop.plant.Ts * 4.6)  # the pulse has fallen below the words
        text = f"first pulse **{pulse:.0f} V**"
        if shown.cut:
            text += ": the bus cuts it"
        at = max(self.py(pulse) + 14, y + 16)
        draw_text(p, x, at, text, t.attention if shown.cut else t.ink, size=look.BODY, halo=t.halo)
        draw_text(p, self.area.right() - 4, self.py(0) - 12, f"__u__~{shown.axis_name}~", color,
                  align="right", halo=t.halo)  # fmt: skip


def _stairs(t: Array, u: Array, Ts: float) -> tuple[Array, Array]:
    """Return a held signal as a line with corners, from zero."""
    times = np.concatenate([[t[0]], np.repeat(t[1:], 2), [t[-1] + Ts]])
    levels = np.repeat(u, 2)
    return np.concatenate([[t[0] - Ts, t[0]], times]), np.concatenate([[0.0, 0.0], levels])
