"""Linked plots of a rehearsal: one cursor through all, one range of time."""

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QResizeEvent, QWheelEvent

from oarlock.rehearse.envelope import MOST_FALLEN
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import dot, draw_text, handle, line, text_width
from oarlock.ui.kit.plot import Plot, linear_ticks, outward
from oarlock.ui.kit.thin import thinned
from oarlock.views.rehearsal import Varied
from oarlock.views.rehearsal_drawn import many_courses
from oarlock.views.scenario_edit import Handle

Array = NDArray[np.float64]
_LINE = 14.0  # px, of a label
_FLAT = 1e-3  # of how far a quantity goes in all: less is shown no larger
_NAMES = 20.0  # px at the top, for what a plot shows
_DENSE = 20  # samples on a column of the screen, from which curves are hatchings
_GRIP = 10.0  # px about a handle
_CLOSEST = 0.005  # s, the shortest range of time


class RunPlot(Plot):
    """One quantity over time: its mean, and how far it reaches within each bin."""

    moved = Signal(float)  # s, of the cursor
    zoomed = Signal(float, float)  # s, of the range of time
    dragged = Signal(int, float, float)  # a handle: its number, s and value
    dropped = Signal()

    def __init__(self, name: str, unit: str, colors: tuple[QColor, ...], *, last: bool) -> None:
        super().__init__(left=56, right=10, top=4, bottom=24 if last else 3, name=name)
        self._name, self.unit = name, unit
        t = look.theme()
        self._before = [self.curve(t.muted, 1.4) for _ in colors]
        self._asked = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._reach = [self.curve(look.faded(color, 90), 1.0) for color in colors for _ in "ab"]
        self._means = [self.curve(color, 1.8) for color in colors]
        self._bands = [self.curve(look.faded(color, 150), 1.0, Qt.PenStyle.DotLine)
                       for color in colors for _ in "ab"]  # fmt: skip
        self._fallen = [
            self.curve(t.attention, 1.2, Qt.PenStyle.DashLine) for _ in range(MOST_FALLEN)
        ]
        self._colors = colors
        self._values: tuple[tuple[str, str], ...] = ()
        self._points: list[tuple[float, QColor]] = []
        self._limit, self._cursor, self._text = 0.0, 0.0, ""
        self._whole = (0.0, 1.0)
        self.handles: tuple[Handle, ...] = ()
        self._grip = -1  # the handle that is dragged
        self._t = np.zeros(0)
        self._drawn: list[tuple[Any, Array]] = []  # each curve and its values, over `_t`
        self._kept_t = np.zeros(0)
        self._kept: list[tuple[Any, Array]] = []  # of the run that is compared with
        self._spread: list[tuple[Any, Array, Array]] = []  # of many machines: each curve, t, values
        self._flat = 0.0
        if last:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.over(self._annotate)

    def show_run(
        self, t: Array, curves: list[tuple[Array, Array, Array]], *, asked: Array | None = None,
        limit: float = 0.0, text: str = "", keep: bool = False,
    ) -> None:  # fmt: skip
        """Show (mean, least, most) of each colour.

        Parameters
        ----------
        limit : drawn to both sides; 0: none
        keep : stay at the range of time that is shown

        """
        self._t, self._limit, self._text = t, limit, text
        self._whole = (float(t[0]), float(t[-1])) if t.size > 1 else (0.0, 1.0)
        self._drawn = [] if asked is None else [(self._asked, asked)]
        for n, curve in enumerate(curves):
            items = (self._means[n], self._reach[2 * n], self._reach[2 * n + 1])
            self._drawn += zip(items, curve, strict=True)
        drawn = {id(item) for item, _ in self._drawn}
        for item in (self._asked, *self._means, *self._reach):
            if id(item) not in drawn:
                item.clear()
        reached = [float(np.ptp(values)) for _, values in self._drawn if values.size]
        self._flat = _FLAT * max(reached, default=0.0)
        if self.gripped:  # what is dragged does not move away from beneath the mouse
            self._fill()
            self.refresh()
        else:
            self.show_range(*(self.x_range if keep else self._whole))

    @property
    def gripped(self) -> bool:
        """Whether a handle is dragged."""
        return self._grip >= 0

    def show_before(self, t: Array | None, curves: list[Array]) -> None:
        """Have another run in grey, one curve for each colour, as the next is shown; None: none."""
        for item in self._before:
            item.clear()
        self._kept_t = t if t is not None else np.zeros(0)
        self._kept = list(zip(self._before, curves, strict=False)) if t is not None else []

    def show_spread(
        self, t: Array | None = None, bands: Sequence[tuple[Array, Array]] = (),
        fallen: Sequence[tuple[Array, Array]] = (),
    ) -> None:  # fmt: skip
        """Draw how far many machines reach, (least, most) of each colour, and who falls out.

        Parameters
        ----------
        fallen : (s, values) of each

        """
        for item in (*self._bands, *self._fallen):
            item.clear()
        if t is None and not self._spread:
            return
        sides = [side for band in bands for side in band]
        self._spread = [] if t is None else [
            (item, t, values) for item, values in zip(self._bands, sides, strict=False)
        ]  # fmt: skip
        self._spread += [(item, *one) for item, one in zip(self._fallen, fallen, strict=False)]
        self.show_range(*self.x_range)

    def _fill(self) -> None:
        """Give each curve what is seen of it."""
        low, high = self.x_range
        columns = max(round(self.area.width()), 1)
        for t, curves in ((self._t, self._drawn), (self._kept_t, self._kept)):
            seen = int(np.searchsorted(t, high) - np.searchsorted(t, low))
            for item, values in curves:
                x, y = thinned(t, values, low, high, columns)
                item.show(x, y, dense=seen > _DENSE * columns)
        for item, t, values in self._spread:
            item.show(*thinned(t, values, low, high, columns), dense=False)

    def show_range(self, low: float, high: float) -> None:
        """Show a range of time; the other axis follows what is in it."""
        ticks = linear_ticks(low, high, 6)
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} s")
        self.set_x(low, high, ticks)
        least, most = math.inf, -math.inf
        for t, curves in ((self._t, self._drawn), (self._kept_t, self._kept)):
            part = slice(np.searchsorted(t, low), np.searchsorted(t, high, side="right"))
            for _, values in curves:
                least = float(values[part].min(initial=least))
                most = float(values[part].max(initial=most))
        for _, t, values in self._spread:
            part = slice(np.searchsorted(t, low), np.searchsorted(t, high, side="right"))
            least = float(values[part].min(initial=least))
            most = float(values[part].max(initial=most))
        if least <= most:
            if most - least < self._flat:  # rounding is no picture
                middle = 0.5 * (most + least)
                least, most = middle - 0.5 * self._flat, middle + 0.5 * self._flat
            span = max(most - least, 1e-9)
            names = min(_NAMES / max(self.area.height(), 1.0), 0.5)  # share for what is written
            above = max(0.36, 1.12 * names / (1.0 - names)) * span
            ticks = linear_ticks(least, most, 3, self.unit)
            self.set_y(*outward(least - 0.12 * span, most + above), ticks)
        self._fill()
        self.refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._t.size:
            self.show_range(*self.x_range)

    def show_handles(self, handles: tuple[Handle, ...]) -> None:
        """Show what can be dragged: when, and what is asked from then on."""
        if handles != self.handles:
            self.handles = handles
            self.refresh()

    def _handle_at(self, at: QPointF) -> int:
        """Return the number of the handle under the mouse, -1 for none."""
        for n, one in enumerate(self.handles):
            near = at - QPointF(self.px(one.at), self._height(one.value))
            if math.hypot(near.x(), near.y()) <= _GRIP:
                return n
        return -1

    def _height(self, value: float) -> float:
        """Return where a handle is drawn: one beyond the range stands at its edge."""
        return min(max(self.py(value), self.area.top() + 8), self.area.bottom() - 6)

    def show_cursor(self, at: float, values: tuple[tuple[str, float], ...]) -> None:
        """Show the cursor, and what each curve is there, its text and its height."""
        self._cursor = at
        self._points = [(value, self._colors[min(n, len(self._colors) - 1)])
                        for n, (_, value) in enumerate(values)]  # fmt: skip
        self._values = tuple((text, "") for text, _ in values)
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        t, area = look.theme(), self.area
        for side in (1.0, -1.0):
            y = self.py(side * self._limit)
            if self._limit and area.top() < y < area.bottom():
                line(p, area.left(), y, area.right(), y, t.attention, 2)
        x = self.px(self._cursor)
        if area.left() <= x <= area.right():
            line(p, x, area.top(), x, area.bottom(), t.accent, 2)
        for n, one in enumerate(self.handles):
            if area.left() - 1 <= self.px(one.at) <= area.right() + 1:
                handle(p, self.px(one.at), self._height(one.value), self._colors[0],
                       filled=False, strong=n == self._grip)  # fmt: skip
        draw_text(p, area.left() + 6, area.top() + 13, self._name, t.muted, size=look.SMALL,
                  halo=t.halo)  # fmt: skip
        draw_text(p, area.right() - 4, area.top() + 13, self._text, t.muted, size=look.SMALL,
                  align="right", halo=t.halo)  # fmt: skip
        if not area.left() <= x <= area.right():
            return
        right = x < area.left() + 0.6 * area.width()
        heights = [min(max(self.py(value), area.top() + 3), area.bottom() - 3)
                   for value, _ in self._points]  # fmt: skip
        places = _apart([y - 6 for y in heights], area.top() + 26, area.bottom() - 4)
        for (text, _), (_, color), y, at in zip(
            self._values, self._points, heights, places, strict=True
        ):
            dot(p, x, y, color, filled=True)
            wide = text_width(text, look.SMALL, bold=True) + 6  # no curve runs through it
            p.fillRect(QRectF(x + 6 if right else x - 6 - wide, at - 11, wide, _LINE), t.panel)
            draw_text(p, x + 9 if right else x - 9, at, text, t.ink, size=look.SMALL, bold=True,
                      align="left" if right else "right", halo=t.halo)  # fmt: skip

    # One cursor and one range for all

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._grip = self._handle_at(event.position())
            if self._grip < 0:
                self.moved.emit(self._time(event.position()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            if self._grip >= 0:
                value = self.y_at(min(max(event.position().y(), self.area.top()),
                                      self.area.bottom()))  # fmt: skip
                self.dragged.emit(self._grip, self._time(event.position()), value)
            else:
                self.moved.emit(self._time(event.position()))
            return
        over = self._handle_at(event.position()) >= 0
        self.setCursor(Qt.CursorShape.SizeAllCursor if over else
                                  Qt.CursorShape.ArrowCursor)  # fmt: skip

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._grip >= 0:
            self._grip = -1
            self.refresh()
            self.dropped.emit()

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.zoomed.emit(*self._whole)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom(0.8 if event.angleDelta().y() > 0 else 1.25, self._time(event.position()))
        event.accept()

    def zoom(self, factor: float, about: float) -> None:
        """Show more or less time, a moment staying where it is."""
        low, high = self.x_range
        span = min(max((high - low) * factor, _CLOSEST), self._whole[1] - self._whole[0])
        low = about - (about - low) / max(high - low, 1e-12) * span
        low = min(max(low, self._whole[0]), self._whole[1] - span)
        self.zoomed.emit(low, low + span)

    def _time(self, at: QPointF) -> float:
        return min(max(self.x_at(at.x()), self._whole[0]), self._whole[1])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        low, high = self.x_range
        step = 0.05 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.005
        moves = {Qt.Key.Key_Right: step, Qt.Key.Key_Left: -step}
        if event.key() in moves:
            at = self._cursor + moves[Qt.Key(event.key())] * (high - low)
            self.moved.emit(min(max(at, self._whole[0]), self._whole[1]))
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(0.8, self._cursor)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom(1.25, self._cursor)
        elif event.key() == Qt.Key.Key_0:
            self.zoomed.emit(*self._whole)
        else:
            super().keyPressEvent(event)


def _apart(wanted: list[float], top: float, bottom: float) -> list[float]:
    """Return heights of labels near those wanted, within bounds, a line apart; the order stays."""
    order = sorted(range(len(wanted)), key=lambda n: wanted[n])
    places = list(wanted)
    least = top
    for n in order:
        places[n] = max(wanted[n], least)
        least = places[n] + _LINE
    most = bottom
    for n in reversed(order):
        places[n] = min(places[n], most)
        most = places[n] - _LINE
    return places


def run_plots() -> dict[str, RunPlot]:
    """Return the linked plots of a scenario, from above to below."""
    t = look.theme()
    return {
        "asked": RunPlot("asked, dashed, and followed", "", (t.speed, t.attention), last=False),
        "behind": RunPlot("behind", "", (t.torque,), last=False),
        "current": RunPlot("current: q, and d", "A", (t.q, t.d), last=False),
        "volts": RunPlot("voltage in use", "V", (t.accent,), last=True),
    }


def show_many(plots: Mapping[str, RunPlot], found: Varied) -> None:
    """Draw how far many machines reach, and who falls out, over each plot."""
    courses = many_courses(found.spread, found.picture.run.scenario.control, units.by_name())
    for key, plot in plots.items():
        plot.show_spread(found.spread.t, *courses[key])
