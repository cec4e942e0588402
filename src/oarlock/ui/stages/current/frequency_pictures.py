"""Gain and phase of the open and the closed loop, with what may be dragged."""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from oarlock.quantities.display import sentence, whole_degrees
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import arrow, dot, draw_text, handle, hatch, line
from oarlock.ui.kit.plot import Plot, stroke
from oarlock.ui.stages.current.pictures import axis_color
from oarlock.views.current import LOWEST, CurrentPicture
from oarlock.views.strip import HIGH


class FrequencyPlot(Plot):
    """A plot under its own part of the strip, at the same pixels per decade."""

    dragged = Signal(float)  # Hz
    released = Signal()

    def __init__(self, name: str, *, bottom: int) -> None:
        super().__init__(left=48, right=0, top=0, bottom=bottom, name=name)
        self._picture: CurrentPicture | None = None
        self._verified = False
        self._dragging = False
        labels = {200: "200", 500: "500", 1000: "1k", 2000: "2k", 5000: "5k", 10000: "10k",
                  20000: "20k", 100: "100"}  # fmt: skip
        ticks = [(math.log10(f), text) for f, text in sorted(labels.items())]
        self.set_x(math.log10(LOWEST), math.log10(HIGH), ticks)

    def take(self, shown: CurrentPicture, *, verified: bool) -> None:
        """Keep what is shown; what the sampling alone decides lies in the frame's picture."""
        old = self._picture
        self._picture, self._verified = shown, verified
        if old is None or old.nyquist != shown.nyquist:
            self.remake_frame()

    def at(self, hertz: float) -> float:
        """Return the viewport position of a frequency."""
        return self.px(math.log10(max(hertz, 1e-3)))

    def paint_nyquist(self, p: QPainter, shown: CurrentPicture) -> None:
        """Hatch what lies beyond half the sampling."""
        t, x = look.theme(), self.at(shown.nyquist)
        area = QRectF(x, self.area.top(), self.area.right() - x, self.area.height())
        hatch(p, area, look.faded(t.muted, 60))
        line(p, x, self.area.top(), x, self.area.bottom(), t.ink)

    def paint_handle_line(self, p: QPainter, shown: CurrentPicture) -> None:
        """Draw the handle's line over the whole height."""
        x = self.at(shown.crossover)
        line(p, x, 0, x, self.area.bottom(), look.theme().accent, 2)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        shown = self._picture
        if shown and abs(event.position().x() - self.at(shown.crossover)) < 12:
            self._dragging = True

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging:
            self.dragged.emit(10.0 ** self.x_at(event.position().x()))
            return
        shown = self._picture
        near = bool(shown and abs(event.position().x() - self.at(shown.crossover)) < 12)
        self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._dragging:
            self._dragging = False
            self.released.emit()


class GainPlot(FrequencyPlot):
    """Gain of open and closed loop."""

    def __init__(self) -> None:
        super().__init__("Gain", bottom=0)
        t = look.theme()
        self.set_y(-27.0, 20.0, [(20, "20 dB"), (10, "10"), (0, "0"), (-10, "−10"), (-20, "−20")])
        self._closed = self.curve(t.q, 1.6, Qt.PenStyle.DashLine)
        self._open = self.curve(t.q, 2.2)
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def show_gain(self, shown: CurrentPicture, *, verified: bool) -> None:
        """Show the loops' gains."""
        self.take(shown, verified=verified)
        color = axis_color(shown.axis_name)
        x = np.log10(shown.f)
        self._open.setPen(stroke(color, 2.2))
        self._closed.setPen(stroke(color, 1.6, Qt.PenStyle.DashLine))
        self._open.setData(x, shown.open_gain)
        self._closed.setData(x, shown.closed_gain)
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        if self._picture:
            self.paint_nyquist(p, self._picture)
            zero = self.py(0.0)
            line(p, self.area.left(), zero, self.area.right(), zero, look.theme().ink)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        color = axis_color(shown.axis_name)
        self.paint_handle_line(p, shown)
        x, zero = self.at(shown.crossover), self.py(0.0)
        handle(p, x, zero, t.accent, filled=self._verified, strong=True)
        room = self.area.right() - x > 150
        side, align = (14, "left") if room else (-14, "right")
        draw_text(p, x + side, zero - 26, f"crossover **{shown.crossover:.0f} Hz**", t.ink,
                  size=look.FIGURE, align=align, halo=t.halo)  # fmt: skip
        self._annotate_margin(p, shown)
        self._annotate_bandwidth(p, shown)
        gain = float(np.interp(150.0, shown.f, shown.open_gain))
        if gain < 17.0:
            draw_text(p, self.at(170), self.py(gain) - 8, "open loop", color, halo=t.halo)
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
        x, y, foot = self.at(shown.bandwidth), self.py(-3.01), self.py(-19.0)
        line(p, x, y + 5, x, foot, color, 1, Qt.PenStyle.DotLine)
        p.setPen(QPen(color, 1.4))
        p.setBrush(t.panel)
        p.drawEllipse(QPointF(x, y), 4, 4)
        shown_at = sentence(shown.bandwidth, "Hz")
        draw_text(p, x - 6, foot - 6, f"**{shown_at}**", t.ink, size=look.FIGURE, align="right",
                  halo=t.halo)  # fmt: skip
        draw_text(p, x - 6, foot + 9, "bandwidth", t.ink, size=look.SMALL, align="right",
                  halo=t.halo)  # fmt: skip


class PhasePlot(FrequencyPlot):
    """Phase of the open loop over the bands of guidance."""

    def __init__(self) -> None:
        super().__init__("Phase", bottom=26)
        t = look.theme()
        ticks = [(-90, "−90°"), (-135, "−135°"), (-180, "−180°"), (-225, "−225°")]
        self.set_y(-262.0, -82.0, ticks)
        self._phase = self.curve(t.q, 2.2)
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def show_phase(self, shown: CurrentPicture, *, verified: bool) -> None:
        """Show the open loop's phase."""
        self.take(shown, verified=verified)
        self._phase.setPen(stroke(axis_color(shown.axis_name), 2.2))
        self._phase.setData(np.log10(shown.f), shown.phase)
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        right = self.at(shown.nyquist)
        for low, alpha in ((60, 18), (45, 32), (30, 48)):
            top = self.py(-180.0 + low)
            bottom = self.py(-180.0 + {60: 45, 45: 30, 30: 0}[low])
            rect = QRectF(self.area.left(), top, right - self.area.left(), bottom - top)
            p.fillRect(rect, look.faded(t.attention, alpha))
        self.paint_nyquist(p, shown)
        for low, word in ((60, "60° good"), (45, "45° brisk"), (30, "30° risky")):
            draw_text(p, right - 7, self.py(-180.0 + low) + 14, word, t.attention,
                      size=look.SMALL, align="right")  # fmt: skip
        line(p, self.area.left(), self.py(-180), self.area.right(), self.py(-180), t.ink)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._picture, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p, shown)
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
        if shown.phase_crossover < shown.nyquist:
            px, py = self.at(shown.phase_crossover), self.py(-180.0)
            dot(p, px, py, axis_color(shown.axis_name), filled=True)
            draw_text(p, px + 8, py + 17, sentence(shown.phase_crossover, "Hz"), t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip
