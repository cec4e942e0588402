"""Gain and phase of the open and the closed loop, with what may be dragged."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from oarlock.quantities.display import sentence, whole_degrees
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import arrow, dot, draw_text, handle, line, text_width
from oarlock.ui.kit.plotted import stroke
from oarlock.ui.stages.current.pictures import axis_color
from oarlock.ui.stages.frequency import FrequencyPlot
from oarlock.views.current import LOWEST, CurrentPicture
from oarlock.views.current_sweep import Seen
from oarlock.views.strip import HIGH

_BUTTONS = 62  # px at the bottom of the gain plot, where buttons lie


class GainPlot(FrequencyPlot):
    """Gain of open and closed loop."""

    def __init__(self) -> None:
        super().__init__("Gain", bottom=0, low=LOWEST, high=HIGH)
        self._picture: CurrentPicture | None = None
        self._seen: Seen | None = None
        t = look.theme()
        self.set_y(-27.0, 20.0, [(20, "20 dB"), (10, "10"), (0, "0"), (-10, "−10"), (-20, "−20")])
        self._closed = self.curve(t.q, 1.6, Qt.PenStyle.DashLine)
        self._open = self.curve(t.q, 2.2)
        self._points = self.points(t.q, 4.5)
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def show_gain(self, shown: CurrentPicture, seen: Seen | None, *, verified: bool) -> None:
        """Show the loops' gains, and the open one as it was measured."""
        self._picture, self._seen = shown, seen
        if seen is None:
            self._points.clear()
        else:
            self._points.show(np.log10(seen.f), seen.gain, axis_color(shown.axis_name))
        self.place(shown.crossover, shown.nyquist, verified=verified)
        color = axis_color(shown.axis_name)
        x = np.log10(shown.f)
        self._open.pen = stroke(color, 2.2)
        self._closed.pen = stroke(color, 1.6, Qt.PenStyle.DashLine)
        self._open.show(x, shown.open_gain)
        self._closed.show(x, shown.closed_gain)
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        if self._picture:
            self.paint_nyquist(p)
            zero = self.py(0.0)
            line(p, self.area.left(), zero, self.area.right(), zero, look.theme().ink)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        color = axis_color(shown.axis_name)
        self.paint_handle_line(p)
        x, zero = self.at(shown.crossover), self.py(0.0)
        handle(p, x, zero, t.accent, filled=self._verified, strong=True)
        room = self.area.right() - x > 150
        side, align = (14, "left") if room else (-14, "right")
        draw_text(p, x + side, zero - 26, f"crossover **{shown.crossover:.0f} Hz**", t.ink,
                  size=look.FIGURE, align=align, halo=t.halo)  # fmt: skip
        if self._seen is not None:
            text = f"measured {self._seen.crossover:.0f}, {self._seen.when}"
            draw_text(p, x + side, zero - 10, text, t.muted, size=look.SMALL, align=align,
                      halo=t.halo)  # fmt: skip
        self._annotate_margin(p, shown)
        self._annotate_bandwidth(p, shown)
        beside = 150.0 if shown.crossover > 400.0 else 102.0  # Hz; left of what the handle says
        gain = float(np.interp(beside, shown.f, shown.open_gain))
        if gain < 17.0:
            draw_text(p, self.at(beside) + 8, self.py(gain) - 8, "open loop", color, halo=t.halo)
        else:
            draw_text(p, self.at(115), self.py(14.0), "open loop", color, halo=t.halo)
        draw_text(p, self.at(110), zero + 18, "closed loop", color, halo=t.halo)
        draw_text(p, self.at(shown.nyquist) - 6, 18, f"Nyquist {sentence(shown.nyquist, 'Hz', 2)}",
                  t.ink, size=look.SMALL, align="right", halo=t.halo)  # fmt: skip

    def _annotate_margin(self, p: QPainter, shown: CurrentPicture) -> None:
        t = look.theme()
        if not math.isfinite(shown.gain_margin) or shown.phase_crossover >= shown.nyquist:
            return
        x, bottom = self.at(shown.phase_crossover), self.py(max(-shown.gain_margin, -26.0))
        arrow(p, x, self.py(0.0) + 2, x, bottom, t.ink)
        dot(p, x, bottom, axis_color(shown.axis_name), filled=True)
        middle = 0.5 * (self.py(0.0) + bottom)
        draw_text(p, x + 8, middle, f"**{shown.gain_margin:.1f} dB**", t.ink, size=look.FIGURE,
                  halo=t.halo)  # fmt: skip
        draw_text(p, x + 8, middle + 15, "gain margin", t.ink, size=look.SMALL, halo=t.halo)

    def _annotate_bandwidth(self, p: QPainter, shown: CurrentPicture) -> None:
        t, color = look.theme(), axis_color(shown.axis_name)
        if shown.bandwidth >= shown.nyquist * 0.99:
            return
        x, y = self.at(shown.bandwidth), self.py(-3.01)
        foot = min(self.py(-19.0), self.height() - _BUTTONS)
        line(p, x, y + 5, x, foot, color, 1, Qt.PenStyle.DotLine)
        p.setPen(QPen(color, 1.4))
        p.setBrush(t.panel)
        p.drawEllipse(QPointF(x, y), 4, 4)
        shown_at = sentence(shown.bandwidth, "Hz")
        width = max(text_width(f"**{shown_at}**", look.FIGURE), text_width("bandwidth", look.SMALL))
        meets = x - 10 - width < self.at(shown.crossover)  # the handle's line takes no digit away
        right = meets and x + 6 + width < self.area.right()
        side, align = (6, "left") if right else (-6, "right")
        draw_text(p, x + side, foot - 6, f"**{shown_at}**", t.ink, size=look.FIGURE, align=align,
                  halo=t.halo)  # fmt: skip
        draw_text(p, x + side, foot + 9, "bandwidth", t.ink, size=look.SMALL, align=align,
                  halo=t.halo)  # fmt: skip


class PhasePlot(FrequencyPlot):
    """Phase of the open loop over the bands of guidance."""

    def __init__(self) -> None:
        super().__init__("Phase", bottom=26, low=LOWEST, high=HIGH)
        self._picture: CurrentPicture | None = None
        self._seen: Seen | None = None
        t = look.theme()
        ticks = [(-90, "−90°"), (-135, "−135°"), (-180, "−180°"), (-225, "−225°")]
        self.set_y(-262.0, -82.0, ticks)
        self._phase = self.curve(t.q, 2.2)
        self._points = self.points(t.q, 4.5)
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def show_phase(self, shown: CurrentPicture, seen: Seen | None, *, verified: bool) -> None:
        """Show the open loop's phase, and as it was measured."""
        self._picture, self._seen = shown, seen
        if seen is None:
            self._points.clear()
        else:
            self._points.show(np.log10(seen.f), seen.phase, axis_color(shown.axis_name))
        self.place(shown.crossover, shown.nyquist, verified=verified)
        self._phase.pen = stroke(axis_color(shown.axis_name), 2.2)
        self._phase.show(np.log10(shown.f), shown.phase)
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        if self._picture is not None:
            self.paint_bands(p)
            self.paint_band_names(p)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p)
        x, y = self.at(shown.crossover), self.py(shown.phase_margin - 180.0)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.accent)
        p.drawEllipse(QPointF(x, y), 4.5, 4.5)
        left = x - self.area.left() > 150
        side = -11 if left else 11
        arrow(p, x + side, y, x + side, self.py(-180.0), t.ink)
        text = f"phase margin **{whole_degrees(shown.phase_margin)}°**"
        middle = 0.5 * (y + self.py(-180.0)) + 4
        draw_text(p, x + side * 1.6, middle, text, t.ink, size=look.FIGURE,
                  align="right" if left else "left", halo=t.halo)  # fmt: skip
        if self._seen is not None and self._seen.margin:
            draw_text(p, x + side * 1.6, middle + 16, f"measured {self._seen.margin:.0f}°", t.muted,
                      size=look.SMALL, align="right" if left else "left",
                      halo=t.halo)  # fmt: skip
        if shown.phase_crossover < shown.nyquist:
            px, py = self.at(shown.phase_crossover), self.py(-180.0)
            dot(p, px, py, axis_color(shown.axis_name), filled=True)
            draw_text(p, px + 16, py + 17, sentence(shown.phase_crossover, "Hz"), t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip
