"""The move over time: landing, speed, following error, current; and the loop's gain and phase."""

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter

from oarlock.experiments.loops.position_response import MoveResult
from oarlock.quantities.display import digits, whole_degrees
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import arrow, dot, draw_text, handle, line, text_width
from oarlock.ui.kit.plot import Plot, Trail, linear_ticks, outward
from oarlock.ui.stages.frequency import FrequencyPlot
from oarlock.views.position import LOWEST, PositionPicture, angle
from oarlock.views.speed_sweep import Swept

Array = NDArray[np.float64]
HIGHEST = 100.0  # Hz
_POINTS = 110


class PositionGainPlot(FrequencyPlot):
    """Gain of open and closed position loop."""

    def __init__(self) -> None:
        super().__init__("Gain of the position loop", bottom=0, low=LOWEST, high=HIGHEST, left=56)
        t = look.theme()
        self.set_y(-34.0, 24.0, [(20, "20 dB"), (0, "0"), (-20, "−20")])
        self._closed = self.curve(t.speed, 1.6, Qt.PenStyle.DashLine)
        self._open = self.curve(t.speed, 2.2)
        self._swept = self.points(t.speed, 4.0)
        self._shown: PositionPicture | None = None
        self._sweep: Swept | None = None
        self.in_frame(self._paint_zero)
        self.over(self._annotate)

    def show_gain(self, shown: PositionPicture, sweep: Swept | None, *, verified: bool) -> None:
        """Show the loops' gains, and the open one over what the speed loop's sweep measured."""
        self._shown, self._sweep = shown, sweep
        if sweep is None:
            self._swept.clear()
        else:
            keep = sweep.trusted & (sweep.f < HIGHEST)
            self._swept.show(np.log10(sweep.f[keep]), sweep.gain[keep],
                            look.theme().speed)  # fmt: skip
        self.place(shown.crossover, shown.nyquist, verified=verified)
        x = np.log10(shown.f)
        self._open.show(x, shown.open_gain)
        self._closed.show(x, shown.closed_gain)
        self.refresh()

    def _paint_zero(self, p: QPainter) -> None:
        zero = self.py(0.0)
        line(p, self.area.left(), zero, self.area.right(), zero, look.theme().ink)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p)
        x, zero = self.at(shown.crossover), self.py(0.0)
        handle(p, x, zero, t.accent, filled=self._verified, strong=True)
        text = f"crossover **{digits(shown.crossover, 3)} Hz**"
        room = x + 12 + text_width(text, look.FIGURE) < self.area.right()
        draw_text(p, x + 12 if room else x - 14, zero - 12, text, t.ink, size=look.FIGURE,
                  align="left" if room else "right", halo=t.halo)  # fmt: skip
        if self._sweep is not None:
            # Below zero the open loop runs to the right of the crossover.
            self._annotate_sweep(p, self._sweep, x, room=x - self.area.left() < 150)
        quiet = self.at(shown.quiet_crossover)
        line(p, quiet, zero - 6, quiet, zero + 22, t.attention, 2)
        room = quiet + 140 < self.area.right()
        side = 6 if room else -6
        text = f"overshoots from {digits(shown.quiet_crossover, 2)} Hz"
        align = "right" if side < 0 else "left"
        draw_text(p, quiet + side, zero + 34, text, t.attention, size=look.SMALL, align=align,
                  halo=t.halo)  # fmt: skip
        left, top, wide = self.area.left() + 6, self.area.top(), text_width("open loop", look.BODY)
        p.fillRect(QRectF(left, top + 2, wide + 4, 16), t.panel)  # no curve runs through it
        draw_text(p, left + 2, top + 14, "open loop", t.speed, halo=t.halo)
        draw_text(p, self.area.left() + 8, zero + 16, "closed loop", t.speed, halo=t.halo)

    def _annotate_sweep(self, p: QPainter, sweep: Swept, x: float, *, room: bool) -> None:
        """Say where the circles come from, and what is read off them."""
        t = look.theme()
        said = "preview on the speed loop's sweep" if sweep.preview else "circles: by the sweep of"
        color = t.attention if sweep.preview else t.speed
        draw_text(p, self.area.left() + 8, self.area.bottom() - 6, f"{said} {sweep.when}", color,
                  size=look.SMALL, halo=t.halo)  # fmt: skip
        if sweep.crossover:
            draw_text(p, x + 14 if room else x - 14, self.py(0.0) + 17,
                      f"measured {digits(sweep.crossover, 3)}", t.muted, size=look.SMALL,
                      align="left" if room else "right", halo=t.halo)  # fmt: skip


class PositionPhasePlot(FrequencyPlot):
    """Phase of the open position loop."""

    def __init__(self) -> None:
        super().__init__("Phase of the position loop", bottom=24, low=LOWEST, high=HIGHEST, left=56)
        t = look.theme()
        self.set_y(-215.0, -70.0, [(-90, "−90°"), (-180, "−180°")])
        self._phase = self.curve(t.speed, 2.2)
        self._swept = self.points(t.speed, 4.0)
        self._shown: PositionPicture | None = None
        self._sweep: Swept | None = None
        self.in_frame(self.paint_bands)
        self.over(self._annotate)

    def show_phase(self, shown: PositionPicture, sweep: Swept | None, *, verified: bool) -> None:
        """Show the open loop's phase, and what the speed loop's sweep makes of it."""
        self._shown, self._sweep = shown, sweep
        if sweep is None:
            self._swept.clear()
        else:
            keep = sweep.trusted & (sweep.f < HIGHEST)
            self._swept.show(np.log10(sweep.f[keep]), sweep.phase[keep],
                            look.theme().speed)  # fmt: skip
        self.place(shown.crossover, shown.nyquist, verified=verified)
        self._phase.show(np.log10(shown.f), shown.phase)
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        self.paint_handle_line(p)
        x, y = self.at(shown.crossover), self.py(min(shown.phase_margin, 105.0) - 180.0)
        dot(p, x, y, t.accent, filled=True)
        arrow(p, x - 9, y, x - 9, self.py(-180.0), t.ink)
        left = x - self.area.left() > 150
        draw_text(p, x - 16 if left else x + 10, self.py(-180.0) - 8,
                  f"margin **{whole_degrees(shown.phase_margin)}°**", t.ink, size=look.FIGURE,
                  align="right" if left else "left", halo=t.halo)  # fmt: skip
        if self._sweep is not None and self._sweep.margin:
            draw_text(p, x - 16 if left else x + 10, self.py(-180.0) + 12,
                      f"measured {self._sweep.margin:.0f}°", t.muted, size=look.SMALL,
                      align="right" if left else "left", halo=t.halo)  # fmt: skip


class LandingPlot(Plot):
    """The end of the move through a lens: what is missing, and the window it has to stay in."""

    def __init__(self) -> None:
        super().__init__(left=48, right=8, top=6, bottom=22, name="Landing")
        t = look.theme()
        self._predicted = self.curve(t.speed, 2.2)
        self._trail = Trail(self, t.speed)
        self._measured = self.points(t.speed, 4.0)
        self._shown: PositionPicture | None = None
        self._result: MoveResult | None = None
        self.behind(self._back)
        self.over(self._annotate)

    def show_landing(
        self, shown: PositionPicture, result: MoveResult | None, before: list[MoveResult]
    ) -> None:
        """Show what is missing to the target, degrees, round the profile's end.

        Parameters
        ----------
        before : answers before the newest, the oldest first

        """
        self._shown, self._result = shown, result
        end, window = shown.test.move.duration, math.degrees(shown.test.window)
        target, moved = shown.moved.asked[-1], shown.moved
        span = max(0.5 * end, 0.05)
        low, high = end - 0.25 * span, min(end + span, float(moved.t[-1]))
        side = math.copysign(1.0, shown.test.distance)
        keep = (moved.t >= low) & (moved.t <= high)
        self._predicted.show(1e3 * moved.t[keep], side * np.degrees(moved.position[keep] - target))
        self._trail.show([(1e3 * one.t, side * np.degrees(one.position - target))
                          for one in before])  # fmt: skip
        if result is not None:
            inside = (result.t >= low) & (result.t <= high)
            stride = max(int(inside.sum()) // 60, 1)
            self._measured.show(1e3 * result.t[inside][::stride],
                            side * np.degrees(result.position[inside] - target)[::stride],
                            look.theme().speed)  # fmt: skip
        else:
            self._measured.clear()
        ticks = linear_ticks(1e3 * low, 1e3 * high, 4, "ms")
        self.set_x(1e3 * low, 1e3 * high, ticks)
        deep = max(4.0 * window, min(1.3 * math.degrees(shown.figures.late), 12.0 * window))
        least, most = outward(-deep, 2.0 * window)
        self.set_y(least, most, linear_ticks(least, most, 3, "°"))
        self.refresh()

    def _back(self, p: QPainter) -> None:
        if self._shown is None:
            return
        t, window = look.theme(), math.degrees(self._shown.test.window)
        top, bottom = self.py(window), self.py(-window)
        p.fillRect(QRectF(self.area.left(), top, self.area.width(), bottom - top), t.wash)
        line(p, self.area.left(), self.py(0), self.area.right(), self.py(0), t.ink, 1,
             Qt.PenStyle.DashLine)  # fmt: skip

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        f, end = shown.figures, shown.test.move.duration
        draw_text(p, self.area.left() + 6, self.py(math.degrees(shown.test.window)) - 3,
                  f"window ±{digits(math.degrees(shown.test.window), 2)}°", t.accent,
                  size=look.SMALL, halo=t.halo)  # fmt: skip
        if not math.isfinite(f.settling):
            return
        x = self.px(1e3 * (end + f.settling))
        bottom = self.area.bottom()
        line(p, x, self.py(-math.degrees(shown.test.window)), x, bottom, t.ink, 1,
             Qt.PenStyle.DotLine)  # fmt: skip
        found = self._result.measured if self._result else None
        also = ""
        if found is not None and math.isfinite(found.settling):
            also = f", measured {1e3 * (end + found.settling):.0f}"
        text = f"in place after **{1e3 * (end + f.settling):.0f} ms**{also}"
        draw_text(p, self.area.right() - 4, bottom - 8, text, t.ink, size=look.FIGURE,
                  align="right", halo=t.halo)  # fmt: skip


class MovePlot(Plot):
    """One curve of the move over its whole time, asked and followed."""

    def __init__(self, name: str, unit: str, *, last: bool = False) -> None:
        super().__init__(left=56, right=8, top=3, bottom=22 if last else 2, name=name)
        t = look.theme()
        self._name, self._unit = name, unit
        self._color = t.torque if unit == "A" else t.speed
        self._asked = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._curve = self.curve(self._color, 2.0)
        self._measured = self.points(self._color, 3.5)
        self._text, self._limit = "", 0.0
        self.over(self._annotate)

    def show_curve(
        self, t: Array, y: Array, *, asked: Array | None = None,
        measured: tuple[Array, Array] | None = None, text: str = "", limit: float = 0.0,
        unit: str | None = None,
    ) -> None:  # fmt: skip
        """Show a curve, what was asked, what was measured, a text and a limit to both sides."""
        self._text, self._limit = text, limit
        self._unit = self._unit if unit is None else unit
        self._curve.show(t, y)
        if asked is None:
            self._asked.clear()
        else:
            self._asked.show(t, asked)
        if measured is None:
            self._measured.clear()
        else:
            keep = measured[0] <= float(t[-1])
            stride = max(int(keep.sum()) // _POINTS, 1)
            self._measured.show(measured[0][keep][::stride],
                            measured[1][keep][::stride], self._color)  # fmt: skip
        ticks = [(v, f"{1e3 * v:.4g}") for v, _ in linear_ticks(0.0, float(t[-1]), 6)]
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} ms")
        self.set_x(-0.02 * float(t[-1]), float(t[-1]), ticks)
        low, high = float(np.min(y)), float(np.max(y))
        room = 0.35 * max(high - low, 1e-9)
        self.set_y(*outward(low - room, high + room), linear_ticks(low, high, 3, self._unit))
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        t = look.theme()
        zero = self.py(0.0)
        if self.area.top() < zero < self.area.bottom():
            line(p, self.area.left(), zero, self.area.right(), zero, t.rule)
        for side in (1.0, -1.0):
            y = self.py(side * self._limit)
            if self._limit and self.area.top() < y < self.area.bottom():
                line(p, self.area.left(), y, self.area.right(), y, t.attention, 2)
        draw_text(p, self.area.left() + 6, self.area.top() + 13, self._name, self._color,
                  size=look.SMALL, halo=t.halo)  # fmt: skip
        draw_text(p, self.area.right() - 4, self.area.top() + 14, self._text, t.ink,
                  size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip


def move_curves(
    shown: PositionPicture, result: MoveResult | None, plots: tuple[MovePlot, MovePlot, MovePlot]
) -> None:
    """Fill the plots of speed, following error and current."""
    speed, behind, current = plots
    m, f = shown.moved, shown.figures
    found = result.measured if result else None
    per = units.speed().per
    speed.show_curve(m.t, m.speed / per, asked=m.speed_asked / per, unit=units.speed().unit,
                     measured=(result.t, result.speed / per) if result else None)  # fmt: skip
    also = f", measured {angle(found.following)}" if found else ""
    points = (result.t, np.degrees(result.curve)) if result else None
    behind.show_curve(m.t, np.degrees(m.lag), text=f"at most **{angle(f.following)}**{also}",
                      measured=points)  # fmt: skip
    cut = shown.takes > shown.limit
    amps = units.current()
    text = f"takes **{amps.text(shown.takes)}**, limit {amps.number(shown.limit)}"
    current.show_curve(m.t, m.push / amps.per, limit=shown.limit / amps.per,
                       unit="" if units.in_words(amps) else amps.unit,
                       text=f"{text}: cut" if cut else text,
                       measured=(result.t, result.current / amps.per) if result
                       else None)  # fmt: skip
