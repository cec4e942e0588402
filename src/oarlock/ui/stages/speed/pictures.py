"""Tracking and stiffness: the speed after a step of either, and the current that it takes."""

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.quantities.display import digits, sentence
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import arrow, dot, draw_text, line, text_width
from oarlock.ui.kit.plot import Plot, Trail, linear_ticks, outward
from oarlock.views.speed import SpeedPicture

Array = NDArray[np.float64]
Pinned = list[tuple[str, SpeedResult]]


_LOW = 30.0  # px
_ENDLESS = 1e3  # times the limit: of a loop that swings up


class SpeedTimePlot(Plot):
    """The speed over time: predicted, measured, pinned."""

    def __init__(self, name: str) -> None:
        super().__init__(left=56, right=8, top=4, bottom=2, name=name)
        t = look.theme()
        self._pins = [self.curve(t.muted, 1.2) for _ in range(3)]
        self._trail = Trail(self, t.speed)
        self._predicted = self.curve(t.speed, 2.2)
        self._measured = self.points(t.speed, 4.0)
        self._shown: SpeedPicture | None = None
        self._result: SpeedResult | None = None
        self._when = ""
        self.behind(self._back)
        self.over(self._annotate)

    def _draw(
        self, shown: SpeedPicture, y: Array, low: float, high: float, result: SpeedResult | None,
        scale: float, when: str, pinned: Pinned,
    ) -> None:  # fmt: skip
        """Show a prediction in rad/s, and what was measured, scaled to its size."""
        self._shown, self._result, self._when = shown, result, when
        scaled = units.speed()
        span = float(shown.t[-1])
        if shown.margins.stable:
            self._predicted.show(shown.t, y / scaled.per)
        else:
            self._predicted.clear()
        self.set_x(-0.05 * span, span, [(v, "") for v, _ in linear_ticks(0.0, span, 4)])
        low, high = outward(low / scaled.per, high / scaled.per)
        ticks = linear_ticks(low, high, 3)
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {scaled.unit}")
        self.set_y(low, high, ticks)
        if result is not None:
            keep = result.t <= span
            stride = max(int(np.sum(keep)) // 90, 1)
            self._measured.show(result.t[keep][::stride],
                            scale * result.speed[keep][::stride] / scaled.per,
                            look.theme().speed)  # fmt: skip
        else:
            self._measured.clear()
        for i, curve in enumerate(self._pins):
            if i >= len(pinned):
                curve.clear()
                continue
            keep = pinned[i][1].t <= span
            curve.show(pinned[i][1].t[keep], pinned[i][1].speed[keep] / scaled.per)
        self.refresh()

    def show_trail(self, results: list[SpeedResult]) -> None:
        """Draw the answers before the newest, the older the fainter."""
        self._trail.show([(one.t, one.speed / units.speed().per) for one in results])

    def _back(self, p: QPainter) -> None:
        """Draw what lies behind the curves."""

    def _annotate(self, p: QPainter) -> None:
        """Draw the figures where they are read."""

    def _swings(self, p: QPainter) -> None:
        """Say that there is nothing to read off."""
        t = look.theme()
        draw_text(p, self.area.left() + 12, self.area.top() + 18, "It would swing up.",
                  t.attention, size=look.FIGURE, halo=t.halo)  # fmt: skip

    @property
    def _circles(self) -> str:
        return f"circles: {self._when}"

    @property
    def _circles_left(self) -> float:
        """Where what is said of the circles begins, px."""
        return self.area.right() - 10 - text_width(self._circles, look.SMALL)

    def _measured_at(self, p: QPainter, y: float) -> None:
        t = look.theme()
        if self._result is not None:
            draw_text(p, self.area.right() - 4, y, self._circles, t.speed,
                      size=look.SMALL, align="right", halo=t.halo)  # fmt: skip


class TrackPlot(SpeedTimePlot):
    """The answer to a step of the speed asked for."""

    def __init__(self) -> None:
        super().__init__("Answer to a step of the speed asked for")

    def show_step(
        self, shown: SpeedPicture, result: SpeedResult | None, when: str, pinned: Pinned
    ) -> None:
        """Show the prediction, and what was measured with the same gains."""
        size = shown.amplitude
        top = max(1.35, 1.15 + min(shown.figures.overshoot, 1.5))
        scale = size / result.numbers["step"] if result else 1.0
        ends = sorted((-0.15 * size, top * size))
        self._draw(shown, shown.speed, ends[0], ends[1], result, scale, when, pinned)

    def _back(self, p: QPainter) -> None:
        if self._shown is not None and self._shown.margins.stable:
            low, high = self._shown.band
            per = units.speed().per
            self.paint_band(p, self._shown.t, low / per, high / per, look.theme().speed)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        if not shown.margins.stable:
            self._swings(p)
            return
        size, f = shown.amplitude / units.speed().per, shown.figures
        start, zero, one = self.px(0.0), self.py(0.0), self.py(size)
        line(p, self.area.left(), zero, start, zero, t.ink, 1, Qt.PenStyle.DashLine)
        line(p, start, zero, start, one, t.ink, 1, Qt.PenStyle.DashLine)
        line(p, start, one, self.area.right(), one, t.ink, 1, Qt.PenStyle.DashLine)
        peak_x, peak_y = self.px(f.peak_time), self.py(size * (1.0 + f.overshoot))
        if f.overshoot > 0.001:
            dot(p, peak_x, peak_y, t.speed, filled=True)
        found = self._result.step if self._result else None
        also = f", measured {100 * found.overshoot:.0f}" if found else ""
        text = f"overshoot **{100 * f.overshoot:.0f} %**{also}"
        x = min(peak_x + 8, self.area.right() - text_width(text, look.FIGURE) - 2)
        draw_text(p, x, max(peak_y - 4, self.area.top() + 12), text, t.ink, size=look.FIGURE,
                  halo=t.halo)  # fmt: skip
        below = zero - 6
        if math.isfinite(f.rise):
            also = f", measured {sentence(found.rise, 's').split()[0]}" if found else ""
            x1, x2 = self.px(f.rise_from), self.px(f.rise_from + f.rise)
            level = self.py(0.35 * size)
            line(p, x1, self.py(0.1 * size), x1, level, t.ink)
            line(p, x2, self.py(0.9 * size), x2, level, t.ink)
            arrow(p, x1, level, x2, level, t.ink)
            text = f"rise **{sentence(f.rise, 's')}**{also}"
            draw_text(p, x2 + 8, level + 5, text, t.ink, size=look.FIGURE, halo=t.halo)
            if below - level < 20 and x2 + 8 + text_width(text, look.FIGURE) > self._circles_left:
                below = min(zero + 12, self.area.bottom() - 3)  # a low plot has no room above
        self._measured_at(p, below)


class StiffPlot(SpeedTimePlot):
    """The answer to a step of load."""

    def __init__(self) -> None:
        super().__init__("Answer to a step of load")

    def show_load(
        self, shown: SpeedPicture, result: SpeedResult | None, when: str, pinned: Pinned
    ) -> None:
        """Show the prediction, and what was measured with the same gains."""
        deep = shown.load.dip if shown.margins.stable else 0.3 * abs(shown.turning)
        scale = shown.torque / result.numbers["load"] if result else 1.0
        self._draw(shown, shown.sag, -1.45 * deep, 0.5 * deep, result, scale, when, pinned)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        if not shown.margins.stable:
            self._swings(p)
            return
        f, zero, per = shown.load, self.py(0.0), units.speed().per
        line(p, self.area.left(), zero, self.area.right(), zero, t.ink, 1, Qt.PenStyle.DashLine)
        x, y = self.px(f.dip_at), self.py(-f.dip / per)
        arrow(p, x, zero, x, y, t.ink)
        dot(p, x, y, t.speed, filled=True)
        found = self._result.load if self._result else None
        also = f", measured {digits(found.dip / per, 2)}" if found else ""
        draw_text(p, x + 10, min(y + 15, self.area.bottom() - 4),
                  f"dip **{digits(f.dip / per, 2)} {units.speed().unit}**{also}", t.ink,
                  size=look.FIGURE, halo=t.halo)  # fmt: skip
        if math.isfinite(f.recovery):
            end, level = self.px(f.recovery), self.py(0.24 * f.dip / per)
            arrow(p, self.px(0.0), level, end, level, t.ink)
            text = f"back in **{sentence(f.recovery, 's', 2)}**"
            room = end + 8 + text_width(text, look.FIGURE) < self.area.right()
            draw_text(p, end + 8 if room else self.px(0.0) + 4, level + 4 if room else level - 5,
                      text, t.ink, size=look.FIGURE, halo=t.halo)  # fmt: skip
        narrow = self.area.width() < 400.0  # then the dip's figures need the lower edge
        middle = 0.5 * (zero + self.area.bottom())
        self._measured_at(p, middle if narrow else self.area.bottom() - 6)


class PushPlot(Plot):
    """The current that the speed controller asks for, under its limit."""

    def __init__(self, name: str) -> None:
        super().__init__(left=56, right=8, top=4, bottom=22, name=name)
        t = look.theme()
        self._curve = self.curve(t.torque, 1.8)
        self._measured = self.curve(t.muted, 1.0)
        self._limit, self._most = 1.0, 0.0
        self.over(self._annotate)

    def show_push(self, t: Array, push: Array, limit: float,
                  result: SpeedResult | RampResult | None, scale: float) -> None:  # fmt: skip
        """Show the current asked for, from before the step, in A."""
        self._limit, span = limit, float(t[-1])
        self._most = float(push[int(np.argmax(np.abs(push)))])
        if abs(self._most) > _ENDLESS * limit:
            self._curve.clear()
        else:
            self._curve.show(t, push)
        if result is not None:
            keep = result.t <= span
            self._measured.show(result.t[keep], scale * result.current[keep])
        else:
            self._measured.clear()
        ticks = [(v, f"{1e3 * v:.4g}") for v, _ in linear_ticks(0.0, span, 4)]
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} ms")
        self.set_x(-0.05 * span, span, ticks)
        above = 1.8 if self.area.height() > _LOW else 3.2  # room for the words over the curve
        top = above * min(max(float(np.max(push)), 0.05 * limit), 2.0 * limit)
        low = 1.25 * max(min(float(np.min(push)), -0.15 * top), -2.0 * limit)
        low, top = outward(low, top)
        self.set_y(low, top, units.ticks(units.current(), low, top, 2))
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        t = look.theme()
        cut = abs(self._most) > self._limit
        endless = abs(self._most) > _ENDLESS * self._limit
        scale = units.current()
        text = f"takes **{scale.text(abs(self._most))}**, limit {scale.number(self._limit)}"
        if endless:
            text = f"meets its limit of {scale.text(self._limit)}"
        draw_text(p, self.area.right() - 4, self.area.top() + 13, text,
                  t.attention if cut else t.torque, align="right", halo=t.halo)  # fmt: skip
        zero = self.py(0.0)
        line(p, self.area.left(), zero, self.area.right(), zero, t.rule)
