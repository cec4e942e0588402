"""Gain and phase of the speed loop under their own decades of the strip."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QResizeEvent

from oarlock.quantities.display import digits, sentence, whole_degrees
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import arrow, dot, draw_text, handle, line, text_width
from oarlock.ui.kit.plotted import stroke
from oarlock.ui.stages.frequency import FrequencyPlot
from oarlock.views.speed import SpeedPicture
from oarlock.views.speed_base import LOWEST
from oarlock.views.speed_sweep import Swept

HIGHEST = 1000.0  # Hz, where the frequency plots end


class SpeedGainPlot(FrequencyPlot):
    """Gain of open and closed loop, and what it would be without filters."""

    def __init__(self) -> None:
        super().__init__("Gain of the speed loop", bottom=0, low=LOWEST, high=HIGHEST, left=56)
        t = look.theme()
        self.set_y(-42.0, 28.0, [(20, "20 dB"), (0, "0"), (-20, "−20"), (-40, "−40")])
        self._bare = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._closed = self.curve(t.speed, 1.6, Qt.PenStyle.DashLine)
        self._open = self.curve(t.speed, 2.2)
        self._swept = self.points(t.speed, 4.5)
        self._shown: SpeedPicture | None = None
        self._sweep: Swept | None = None
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def show_gain(self, shown: SpeedPicture, sweep: Swept | None, *, verified: bool) -> None:
        """Show the loops' gains, and a measured one with the gains and filters there are."""
        self._shown, self._sweep = shown, sweep
        if sweep is None:
            self._swept.clear()
        else:
            keep = sweep.trusted
            self._swept.show(np.log10(sweep.f[keep]), sweep.gain[keep],
                            look.theme().speed)  # fmt: skip
        self.place(shown.crossover, shown.nyquist, verified=verified)
        self.place_filters(tuple(one.frequency / math.tau for one in shown.filters))
        x = np.log10(shown.f)
        self._open.show(x, shown.open_gain)
        self._closed.show(x, shown.closed_gain)
        if shown.filters:
            self._bare.show(x, shown.bare_gain)
        else:
            self._bare.clear()
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        self.paint_nyquist(p)
        zero = self.py(0.0)
        line(p, self.area.left(), zero, self.area.right(), zero, look.theme().ink)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p)
        x, zero = self.at(shown.crossover), self.py(0.0)
        handle(p, x, zero, t.accent, filled=self._verified, strong=True)
        draw_text(p, x + 14, zero - 12, f"crossover **{digits(shown.crossover, 3)} Hz**", t.ink,
                  size=look.FIGURE, halo=t.halo)  # fmt: skip
        if self._sweep is not None and self._sweep.crossover:
            word = "preview" if self._sweep.preview else "measured"
            text = f"{word} {digits(self._sweep.crossover, 3)}"
            side, align, below = self._measured_place(x, text_width(text, look.SMALL))
            draw_text(p, x + side, zero + below, text, t.muted, size=look.SMALL, align=align,
                      halo=t.halo)  # fmt: skip
        self._annotate_margin(p, shown)
        self._annotate_shaft(p, shown)
        self._annotate_sweep(p, self.at(shown.crossover))
        self.paint_filters(p)
        draw_text(p, self.area.left() + 8, self.area.top() + 15, "open loop", t.speed,
                  halo=t.halo)  # fmt: skip
        draw_text(p, self.area.left() + 8, zero + 16, "closed loop", t.speed, halo=t.halo)

    def _measured_place(self, x: float, width: float) -> tuple[float, str, float]:
        """Return where a measured crossover stands: px beside the handle, alignment, px below 0 dB.

        Left of the crossover no curve runs below 0 dB, but the closed loop's name stands there.
        """
        room = x - 14 - width - self.area.left() - 8
        if room < 0.0:
            return 14.0, "left", 17.0
        return -14.0, "right", 17.0 if room > text_width("closed loop") + 8 else 32.0

    def _annotate_margin(self, p: QPainter, shown: SpeedPicture) -> None:
        t, m = look.theme(), shown.margins
        hertz = m.phase_crossover / math.tau
        if not math.isfinite(shown.gain_margin) or hertz >= shown.nyquist or not m.stable:
            return
        x, bottom = self.at(hertz), self.py(max(-shown.gain_margin, -41.0))
        arrow(p, x, self.py(0.0) + 2, x, bottom, t.ink)
        dot(p, x, bottom, t.speed, filled=True)
        side, align, first = self.margin_place(x, shown.nyquist)
        draw_text(p, x + side, first, f"**{shown.gain_margin:.1f} dB**", t.ink,
                  size=look.FIGURE, align=align, halo=t.halo)  # fmt: skip
        draw_text(p, x + side, first + 15, "gain margin", t.ink, size=look.SMALL, align=align,
                  halo=t.halo)  # fmt: skip

    def margin_place(self, x: float, nyquist: float) -> tuple[float, str, float]:
        """Return where the margin's words stand: px beside its arrow, alignment, first baseline.

        Above 0 dB beyond the phase crossover no curve runs, where the loop is stable; where there
        is no room before Nyquist they stand below, over the filters' handles.

        Parameters
        ----------
        x : px, of the arrow
        nyquist : Hz

        """
        if x + 6 + text_width("gain margin", look.SMALL) < self.at(nyquist):
            return 6.0, "left", self.py(0.0) - 24.0
        return -8.0, "right", min(self.py(-27.0), self.area.bottom() - 44.0)

    def _annotate_sweep(self, p: QPainter, beside: float) -> None:
        """Draw points that cannot be trusted faintly, and say what the points are.

        Parameters
        ----------
        beside : px, of the handle's line, which takes no digit away

        """
        sweep, t = self._sweep, look.theme()
        if sweep is None:
            return
        p.setPen(QPen(look.faded(t.speed, 90), 1.0))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for f, gain in zip(sweep.f[~sweep.trusted], sweep.gain[~sweep.trusted], strict=True):
            y = self.py(float(gain))
            if self.area.top() < y < self.area.bottom():
                p.drawEllipse(QPointF(self.at(float(f)), y), 2.0, 2.0)
        color = t.attention if sweep.preview else t.speed
        word = "preview on what was measured" if sweep.preview else "circles: measured"
        told = [f"{word} {sweep.when}", *([sweep.shaft] if sweep.shaft else [])]
        left = self.area.left() + 8
        if beside < left + max(text_width(text, look.SMALL) for text in told) + 6:
            left = beside + 8
        for n, text in enumerate(reversed(told)):
            draw_text(p, left, self.area.bottom() - 8 - 14 * n, text, color, size=look.SMALL,
                      halo=t.halo)  # fmt: skip

    def _annotate_shaft(self, p: QPainter, shown: SpeedPicture) -> None:
        """Mark the shaft's resonance where it would stand without filters."""
        t, at = look.theme(), shown.loop.plant.shaft.resonance / math.tau
        if not LOWEST < at < shown.nyquist:
            return
        x = self.at(at)
        line(p, x, self.area.top(), x, self.area.top() + 20, t.muted, 1, Qt.PenStyle.DotLine)
        text = f"shaft {at:.0f}" + (", grey without filters" if shown.filters else "")
        if x - 12 - text_width(text, look.SMALL) < self.at(shown.crossover) < x:
            text = f"shaft {at:.0f}"  # the crossover's line would cut through the rest
        draw_text(p, x - 6, self.area.top() + 12, text, t.muted, size=look.SMALL, align="right",
                  halo=t.halo)  # fmt: skip


_LOW = 52  # px, below which the phase has no room for words


class SpeedPhasePlot(FrequencyPlot):
    """Phase of the open loop over the bands of guidance."""

    def __init__(self) -> None:
        super().__init__("Phase of the speed loop", bottom=24, low=LOWEST, high=HIGHEST, left=56)
        t = look.theme()
        self._phase = self.curve(t.speed, 2.2)
        self._swept = self.points(t.speed, 4.5)
        self._shown: SpeedPicture | None = None
        self._sweep: Swept | None = None
        self.in_frame(self._paint_limits)
        self.over(self._annotate)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._shown is not None:
            self._set_angles()

    def _set_angles(self) -> None:
        angles = (-180,) if self._tight else (-90, -180, -270)
        self.set_y(-285.0, -75.0, [(float(a), f"{a}°".replace("-", "−")) for a in angles])

    @property
    def _tight(self) -> bool:
        """Whether there is no room for words: the headline says the margin, too."""
        return self.area.height() < _LOW

    def show_phase(self, shown: SpeedPicture, sweep: Swept | None, *, verified: bool) -> None:
        """Show the open loop's phase, and the measured one."""
        self._shown, self._sweep = shown, sweep
        self._set_angles()
        if sweep is None:
            self._swept.clear()
        else:
            keep = sweep.trusted
            self._swept.show(np.log10(sweep.f[keep]), sweep.phase[keep],
                            look.theme().speed)  # fmt: skip
        self.place(shown.crossover, shown.nyquist, verified=verified)
        self._phase.pen = stroke(look.theme().speed, 2.2)
        self._phase.show(np.log10(shown.f), shown.phase)
        self.refresh()

    def _paint_limits(self, p: QPainter) -> None:
        if self._shown is not None:
            self.paint_bands(p)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p)
        margin = math.degrees(shown.margins.phase_margin)
        x, y = self.at(shown.crossover), self.py(min(margin, 100.0) - 180.0)
        dot(p, x, y, t.accent, filled=True)
        arrow(p, x - 9, y, x - 9, self.py(-180.0), t.ink)
        if self._tight:
            return
        left = x - self.area.left() > 150
        draw_text(p, x - 16 if left else x + 10, self.py(-180.0) + 18,
                  f"phase margin **{whole_degrees(margin)}°**", t.ink, size=look.FIGURE,
                  align="right" if left else "left", halo=t.halo)  # fmt: skip
        if self._sweep is not None and self._sweep.margin:
            text, below = f"measured {self._sweep.margin:.0f}°", 18 if left else 34
            draw_text(p, x + 10, self.py(-180.0) + below, text, t.muted, size=look.SMALL,
                      halo=t.halo)  # fmt: skip
        nyquist = self.at(shown.nyquist)
        draw_text(p, nyquist - 6, self.area.top() + 12,  # the phase has fallen before
                  f"Nyquist {sentence(shown.nyquist, 'Hz', 2)}", t.ink, size=look.SMALL,
                  align="right", halo=t.halo)  # fmt: skip
