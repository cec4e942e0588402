"""The operating map: the id-iq plane, torque and currents over speed, one cursor through all."""

import math
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QResizeEvent

from oarlock.quantities.display import digits, fixed
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import dot, draw_text, handle, line
from oarlock.ui.kit.plot import Plot, linear_ticks
from oarlock.ui.kit.plotted import Array
from oarlock.views.machine import MachinePicture

_APART = 60.0  # px, from where two labels do not meet
_NEAR_TOP = 0.84  # of the top speed: a label beyond would meet the one at the end


class CurrentPlane(Plot):
    """The id-iq plane: circle, ellipses, most torque per ampere, field weakening."""

    def __init__(self) -> None:
        super().__init__(left=40, right=8, top=8, bottom=26, name="Current plane")
        t = look.theme()
        self._circle = self.curve(t.ink, 1.6)
        self._contours = [self.curve(look.faded(t.torque, 150), 1) for _ in range(5)]
        self._ellipses = [self.curve(t.muted, 1, Qt.PenStyle.DashLine) for _ in range(6)]
        self._cursor = self.curve(t.accent, 2.2)
        self._mtpa = self.curve(t.torque, 2.4)
        self._weakening = self.curve(t.torque, 2.4)
        self._shown: MachinePicture | None = None
        self.over(self._annotate)

    def show_plane(self, shown: MachinePicture) -> None:
        """Show a map."""
        self._shown = shown
        i_max = shown.limits.i_max
        self._fit(i_max)
        angle = np.linspace(0, 2 * np.pi, 181)
        self._circle.show(i_max * np.cos(angle), i_max * np.sin(angle))
        for curve, item in _padded(self._contours, shown.contours):
            curve.show(*(item[1:] if item else ([], [])))
        for curve, item in _padded(self._ellipses, shown.ellipses):
            curve.show(*(item[1:] if item else ([], [])))
        self._cursor.show(*shown.cursor_ellipse)
        self._mtpa.show(*shown.mtpa)
        self._weakening.show(*shown.weakening)
        self.refresh()

    def _fit(self, i_max: float) -> None:
        """Keep amperes as long upwards as sideways."""
        area = self.area
        low_x, high_x = -1.22 * i_max, 0.28 * i_max
        height = (high_x - low_x) * area.height() / max(area.width(), 1.0)
        low_y = -0.14 * i_max
        scale = units.current()
        ticks_x = units.ticks(scale, low_x * 0.95, high_x, 6, named=False)
        ticks_x = [(v, f"{s} {scale.unit}" if i == 0 else s) for i, (v, s) in enumerate(ticks_x)]
        ticks_y = units.ticks(scale, 0.0, low_y + height, 6)
        self.set_x(low_x, high_x, ticks_x)
        self.set_y(low_y, low_y + height, ticks_y)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._shown is not None:
            self._fit(self._shown.limits.i_max)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        line(p, self.px(0), self.area.top(), self.px(0), self.area.bottom(), t.ink)
        line(p, self.area.left(), self.py(0), self.area.right(), self.py(0), t.ink)
        i_max = shown.limits.i_max
        for omega, i_d, i_q in shown.ellipses:
            k = int(np.argmin(np.abs(i_d + 1.12 * i_max) + 1e3 * (i_q < 0)))
            if -1.2 * i_max < i_d[k] < 0.2 * i_max and 0 < i_q[k] < self.y_range[1]:
                draw_text(p, max(self.px(i_d[k]), self.area.left() + 6), self.py(i_q[k]) - 4,
                          units.speed().number(omega), t.muted, size=look.SMALL,
                          halo=t.halo)  # fmt: skip
        for torque, i_d, i_q in shown.contours:
            value = float(np.interp(0.17 * i_max, i_d, i_q))
            if value < 1.15 * i_max:
                text = f"{float(f'{torque / units.torque().per:.3g}'):g}"
                draw_text(p, self.area.right() - 4, self.py(value) - 2, text, t.torque,
                          size=look.SMALL, align="right", halo=t.halo)  # fmt: skip
        self._annotate_lines(p, shown)
        self._annotate_cursor(p, shown)

    def _annotate_lines(self, p: QPainter, shown: MachinePicture) -> None:
        t, i_max = look.theme(), shown.limits.i_max
        corner_d, corner_q = float(shown.mtpa[0][-1]), float(shown.mtpa[1][-1])
        x, y = self.px(corner_d), self.py(corner_q)
        p.setPen(QPen(t.torque, 1.8))
        p.setBrush(t.panel)
        p.drawEllipse(QPointF(x, y), 4.5, 4.5)
        _, d, q = shown.at_cursor
        if math.hypot(self.px(d) - x, self.py(q) - y) > _APART:  # else the cursor says it
            text = f"**{units.torque().text(float(shown.best.torque[0]))}**"
            draw_text(p, x - 8, y - 9, text, t.ink, size=look.FIGURE, align="right", halo=t.halo)
        half = len(shown.mtpa[0]) // 2
        x, y = self.px(float(shown.mtpa[0][half])), self.py(float(shown.mtpa[1][half]))
        draw_text(p, x + 10, y - 4, "most torque", t.torque, halo=t.halo)
        draw_text(p, x + 10, y + 12, "per ampere", t.torque, halo=t.halo)
        if shown.weakening[0].size > 3:
            k = shown.weakening[0].size // 12
            x, y = self.px(float(shown.weakening[0][k])), self.py(float(shown.weakening[1][k]))
            draw_text(p, x - 10, y - 12, "field weakening", t.torque, align="right", halo=t.halo)
        x, y = self.px(-shown.characteristic), self.py(0)
        if x > self.area.left():
            p.setPen(QPen(t.ink, 1.8))
            p.drawLine(QPointF(x - 5, y), QPointF(x + 5, y))
            p.drawLine(QPointF(x, y - 5), QPointF(x, y + 5))
            text = f"short circuit **{units.current().text(shown.characteristic)}**"
            draw_text(p, x + 8, y + 18, text, t.ink, halo=t.halo)
        draw_text(p, self.area.right() - 4, self.py(0) - 6, "__i__~d~", t.d, align="right")
        draw_text(p, self.area.left() + 8, self.area.top() + 12, "__i__~q~", t.q)
        draw_text(p, self.px(0.0) + 6, self.py(i_max) - 6, units.current().text(i_max), t.ink,
                  size=look.SMALL, halo=t.halo)  # fmt: skip

    def _annotate_cursor(self, p: QPainter, shown: MachinePicture) -> None:
        t = look.theme()
        torque, i_d, i_q = shown.at_cursor
        x, y = self.px(i_d), self.py(i_q)
        handle(p, x, y, t.accent, filled=True, strong=True)
        draw_text(p, x + 16, y + 18, f"**{units.torque().text(torque)}**", t.ink,
                  size=look.FIGURE, halo=t.halo)  # fmt: skip
        per, unit = units.current().per, units.current().unit
        text = f"__i__~d~ {fixed(i_d / per, 1)}, __i__~q~ {fixed(i_q / per, 1)} {unit}"
        draw_text(p, x + 16, y + 34, text, t.ink, size=look.SMALL, halo=t.halo)


class SpeedPlot(Plot):
    """A plot over speed; the cursor can be dragged in it."""

    moved = Signal(float)  # rad/s

    def __init__(self, name: str, *, bottom: int) -> None:
        super().__init__(left=44, right=8, top=8, bottom=bottom, name=name)
        self._shown: MachinePicture | None = None
        self._labels = bottom > 10

    def show_map(self, shown: MachinePicture) -> None:
        """Show a map."""
        self._shown = shown
        scale = units.speed()
        top = shown.limits.omega_max / scale.per
        ticks = linear_ticks(0.0, top, 4)
        ticks = [(v, s) for v, s in ticks if v < _NEAR_TOP * top or not self._labels]
        if self._labels and ticks:
            ticks.append((top, scale.text(shown.limits.omega_max)))
        if (0.0, top * 1.02) != self.x_range:
            self.set_x(0.0, top * 1.02, ticks)
        self._show(shown)
        self.refresh()

    def _show(self, shown: MachinePicture) -> None:
        raise NotImplementedError

    def paint_cursor(self, p: QPainter) -> float:
        """Draw the cursor's line; return where it is."""
        x = self.px(self._shown.omega / units.speed().per) if self._shown else 0.0
        line(p, x, self.area.top(), x, self.area.bottom(), look.theme().accent, 2)
        return x

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.moved.emit(self.x_at(event.position().x()) * units.speed().per)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        if event.buttons() & Qt.MouseButton.LeftButton:
            self.moved.emit(self.x_at(event.position().x()) * units.speed().per)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        return


class TorquePlot(SpeedPlot):
    """Torque and power over speed, with the datasheet's map behind."""

    def __init__(self) -> None:
        super().__init__("Torque over speed", bottom=4)
        t = look.theme()
        self._printed = self.curve(t.ink, 1.2, Qt.PenStyle.DashLine)
        self._power = self.curve(t.speed, 1.4)
        self._torque = self.curve(t.torque, 2.4)
        self.behind(self._back)
        self.over(self._annotate)

    def _show(self, shown: MachinePicture) -> None:
        turning = shown.best.omega / units.speed().per
        most = float(shown.best.torque.max())
        if shown.printed is not None:
            most = max(most, float(shown.printed.torque.max()))
            self._printed.show(shown.printed.omega / units.speed().per, shown.printed.torque)
        else:
            self._printed.clear()
        self._torque.show(turning, shown.best.torque)
        power = shown.best.power
        self._power.show(turning, power / power.max() * 0.86 * most)
        ticks = units.ticks(units.torque(), 0.0, most * 1.05, 5, named=False)
        self.set_y(0.0, most * 1.1, ticks[1:])

    def _back(self, p: QPainter) -> None:
        if self._shown is None:
            return
        shown = self._shown
        points = [
            QPointF(self.px(float(w) / units.speed().per), self.py(float(m)))
            for w, m in zip(shown.best.omega, shown.best.torque, strict=True)
        ]
        points += [QPointF(self.px(float(shown.best.omega[-1]) / units.speed().per), self.py(0)),
                   QPointF(self.px(0), self.py(0))]  # fmt: skip
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.faded(look.theme().torque, 24))
        p.drawPolygon(points)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        x = self.paint_cursor(p)
        torque = shown.at_cursor[0]
        handle(p, x, self.py(torque), t.accent, filled=True, strong=True)
        right = x < self.area.right() - 120
        align = "left" if right else "right"
        falls = shown.omega > shown.best.base_speed
        beneath = not falls or x > self.area.left() + 190  # else the curve's name is there
        to = "right" if falls and beneath else align
        draw_text(p, x + (14 if to == "left" else -14), self.py(torque) + (24 if beneath else -6),
                  f"**{units.torque().text(torque)}**", t.ink, size=look.FIGURE, align=to,
                  halo=t.halo)  # fmt: skip
        draw_text(p, x + 4 if right else x - 4, 20, units.speed().text(shown.omega),
                  t.accent, align=align, halo=t.halo)  # fmt: skip
        base = shown.best.base_speed / units.speed().per
        y, low = self.py(float(shown.best.torque[0])), self.area.bottom()
        line(p, self.px(base), y, self.px(base), low, t.ink, 1, Qt.PenStyle.DotLine)
        end = units.speed().text(shown.best.base_speed)
        draw_text(p, self.px(base) - 6, low - 10, f"**{end}**", t.ink, align="right",
                  halo=t.halo)  # fmt: skip
        draw_text(
            p, self.area.left() + 6, y + 38, f"torque, {units.torque().unit}", t.torque, halo=t.halo
        )
        watts = float(shown.best.power.max())
        last = float(shown.best.power[-1]) / watts * 0.86 * self.y_range[1] / 1.1
        draw_text(p, self.area.right() - 6, self.py(last) - 10,
                  f"power, {digits(watts / 1e3, 2)} kW at most", t.speed, align="right",
                  halo=t.halo)  # fmt: skip
        if shown.printed is not None:
            late = shown.omega < 0.55 * shown.limits.omega_max
            k = shown.printed.omega.size * (6 if late else 3) // 8
            px = self.px(float(shown.printed.omega[k]) / units.speed().per)
            py = float(shown.printed.torque[k])
            draw_text(p, px + 8 if late else px - 6, self.py(py) - 6, "datasheet values", t.ink,
                      size=look.SMALL, align="left" if late else "right", halo=t.halo)  # fmt: skip


class CurrentsPlot(SpeedPlot):
    """The currents along the limit."""

    def __init__(self) -> None:
        super().__init__("Currents over speed", bottom=26)
        t = look.theme()
        self._i_q = self.curve(t.q, 2.0)
        self._i_d = self.curve(t.d, 2.0, Qt.PenStyle.DashLine)
        self.over(self._annotate)

    def _show(self, shown: MachinePicture) -> None:
        turning, i_max = shown.best.omega / units.speed().per, shown.limits.i_max
        self._i_q.show(turning, shown.best.i_q)
        self._i_d.show(turning, shown.best.i_d)
        ticks = units.ticks(units.current(), -i_max * 1.05, i_max * 1.05, 4)
        self.set_y(-1.2 * i_max, 1.25 * i_max, ticks)

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        line(p, self.area.left(), self.py(0), self.area.right(), self.py(0), t.muted)
        x = self.paint_cursor(p)
        _, i_d, i_q = shown.at_cursor
        side, align = (10, "left") if x < self.area.right() - 60 else (-10, "right")
        for value, color in ((i_q, t.q), (i_d, t.d)):
            dot(p, x, self.py(value), color, filled=True)
            number = fixed(value / units.current().per, 1)
            draw_text(p, x + side, self.py(value) - 7, f"**{number}**", t.ink, align=align,
                      halo=t.halo)  # fmt: skip
        words = f"__i__~q~ along the limit{units.in_words(units.current())}"
        draw_text(p, self.area.left() + 8, self.py(float(shown.best.i_q[0])) + 18, words, t.q,
                  halo=t.halo)  # fmt: skip
        draw_text(p, self.area.left() + 8, self.py(float(shown.best.i_d[0])) + 18, "__i__~d~", t.d,
                  halo=t.halo)  # fmt: skip


def _padded(
    curves: list[Any], items: tuple[tuple[float, Array, Array], ...]
) -> list[tuple[Any, tuple[float, Array, Array] | None]]:
    """Pair curves with items; curves left over get None."""
    return [(c, items[i] if i < len(items) else None) for i, c in enumerate(curves)]
