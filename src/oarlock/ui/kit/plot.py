"""A plot with a frame of its own: fixed axis sizes, explicit ticks, annotations in pixels.

The frame is painted from a cached picture, curves and points over it, so that a drag repaints
little.
"""

import math
from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontMetricsF,
    QPainter,
    QPaintEvent,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from oarlock.quantities.preferred import at_least
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import line
from oarlock.ui.kit.plotted import Array, Curve, Points, Scale, outline, stroke

Painter = Callable[[QPainter], None]
Ticks = Sequence[tuple[float, str]]
_STEPS_OF_A_RANGE = 20.0
_ROUND = (1.0, 2.0, 2.5, 5.0, 10.0)


class Plot(QWidget):
    """One pair of axes."""

    def __init__(
        self, *, left: int = 48, right: int = 8, top: int = 8, bottom: int = 26, name: str = ""
    ) -> None:
        super().__init__()
        self._margins = (left, top, right, bottom)
        self._x = (0.0, 1.0)
        self._y = (0.0, 1.0)
        self._x_ticks: Ticks = ()
        self._y_ticks: Ticks = ()
        self._frame: QPixmap | None = None
        self._in_frame: list[Painter] = []
        self._backs: list[Painter] = []
        self._fronts: list[Painter] = []
        self._area = QRectF(0, 0, 1, 1)
        self._per_x = self._per_y = 1.0
        self._plotted: list[Curve | Points] = []
        self.setAccessibleName(name)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # the frame covers all of it
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(40, 40)
        self.setMouseTracking(True)

    # Axes

    def set_x(self, low: float, high: float, ticks: Ticks) -> None:
        """Set the range of x and what is written under it."""
        if (low, high) == self._x and list(ticks) == list(self._x_ticks):
            return
        self._x, self._x_ticks = (low, high), ticks
        self._gauge()

    def set_y(self, low: float, high: float, ticks: Ticks) -> None:
        """Set the range of y and what is written beside it."""
        if (low, high) == self._y and list(ticks) == list(self._y_ticks):
            return
        self._y, self._y_ticks = (low, high), ticks
        self._gauge()

    @property
    def area(self) -> QRectF:
        """Where data is drawn, px."""
        return self._area

    def _gauge(self) -> None:
        """Work out where values lie; called whenever size or range changes."""
        left, top, right, bottom = self._margins
        width = max(self.width() - left - right, 1)
        height = max(self.height() - top - bottom, 1)
        self._area = QRectF(left, top, width, height)
        self._per_x = width / (self._x[1] - self._x[0])
        self._per_y = height / (self._y[1] - self._y[0])
        self._frame = None

    def px(self, x: float) -> float:
        """Return the position (px) of an x value."""
        return self._margins[0] + (x - self._x[0]) * self._per_x

    def py(self, y: float) -> float:
        """Return the position (px) of a y value."""
        return self._area.bottom() - (y - self._y[0]) * self._per_y

    def x_at(self, px: float) -> float:
        """Return the x value at a position (px)."""
        return self._x[0] + (px - self._margins[0]) / self._per_x

    def y_at(self, py: float) -> float:
        """Return the y value at a position (px)."""
        return self._y[0] + (self._area.bottom() - py) / self._per_y

    @property
    def x_range(self) -> tuple[float, float]:
        """The range of x."""
        return self._x

    @property
    def y_range(self) -> tuple[float, float]:
        """The range of y."""
        return self._y

    # What is drawn

    def curve(
        self, color: QColor, width: float = 2.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine
    ) -> Curve:
        """Add a curve, over those that are there."""
        made = Curve(stroke(color, width, style))
        self._plotted.append(made)
        return made

    def points(self, color: QColor, size: float = 5.0) -> Points:
        """Add round points, `size` px wide, over what is there."""
        made = Points(color, size)
        self._plotted.append(made)
        return made

    def paint_band(self, p: QPainter, x: Array, low: Array, high: Array, color: QColor) -> None:
        """Fill between two curves."""
        there_and_back = np.concatenate([x, x[::-1]]), np.concatenate([low, high[::-1]])
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.faded(color, 50))
        p.drawPolygon(outline(*self._scale().placed(*there_and_back)))

    def in_frame(self, painter: Painter) -> None:
        """Have `painter` called whenever the frame's picture is made, over the grid."""
        self._in_frame.append(painter)

    def remake_frame(self) -> None:
        """Have the frame's picture made again."""
        self._frame = None

    def behind(self, painter: Painter) -> None:
        """Have `painter` called between frame and curves."""
        self._backs.append(painter)

    def over(self, painter: Painter) -> None:
        """Have `painter` called over the curves."""
        self._fronts.append(painter)

    def refresh(self) -> None:
        """Repaint, once, together with the curves that changed."""
        self.update()

    def _scale(self) -> Scale:
        return Scale(self.px(0.0), self.py(0.0), self._per_x, self._per_y)

    # Qt

    def sizeHint(self) -> QSize:
        return QSize(256, 192)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._gauge()

    def paintEvent(self, _event: QPaintEvent) -> None:
        if self._frame is None or self._frame.size() != self.size() * self.devicePixelRatio():
            self._frame = self._paint_frame()
        p = QPainter(self)
        p.drawPixmap(0, 0, self._frame)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for painter in self._backs:
            painter(p)
        p.save()
        p.setClipRect(self._area)
        scale = self._scale()
        for item in self._plotted:
            item.paint(p, scale)
        p.restore()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for painter in self._fronts:
            painter(p)

    def _paint_frame(self) -> QPixmap:
        ratio = self.devicePixelRatio()
        pixmap = QPixmap(self.size() * ratio)
        pixmap.setDevicePixelRatio(ratio)
        t, area = look.theme(), self.area
        pixmap.fill(t.panel)
        p = QPainter(pixmap)
        small: QFont = look.font(look.SMALL)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        for x, label in self._x_ticks:
            at = self.px(x)
            line(p, at, area.top(), at, area.bottom(), t.grid)
            if label and self._margins[3] >= 18:
                self._tick_label(p, at, area.bottom() + 18, label, metrics, t.muted)
        told: list[float] = []
        for y, label in self._y_ticks:
            at = self.py(y)
            line(p, area.left(), at, area.right(), at, t.grid)
            if any(abs(at - other) < metrics.ascent() for other in told):
                continue  # no two labels meet
            told.append(at)
            p.setPen(t.muted)
            width = metrics.horizontalAdvance(label)
            low = min(max(round(at + 4), 12), self.height() - 2)  # whole, also at the edges
            p.drawText(QPointF(round(area.left() - 7 - width), low), label)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for painter in self._in_frame:
            painter(p)
        line(p, area.left(), area.top(), area.left(), area.bottom(), t.muted)
        line(p, area.left(), area.bottom(), area.right(), area.bottom(), t.muted)
        p.end()
        return pixmap

    def _tick_label(
        self, p: QPainter, x: float, y: float, label: str, metrics: QFontMetricsF, color: QColor
    ) -> None:
        width = metrics.horizontalAdvance(label)
        left = min(max(x - 0.5 * width, 0.0), self.width() - width)
        p.setPen(color)
        p.drawText(QPointF(round(left), round(y)), label)


class Trail:
    """Curves that fade: what was answered before, the oldest the faintest."""

    def __init__(self, plot: Plot, color: QColor, most: int = 5) -> None:
        shades = [look.faded(color, 40 + 150 * (n + 1) // most) for n in range(most)]
        self._curves = [plot.curve(shade, 1.4) for shade in shades]

    def show(self, curves: list[tuple[Array, Array]]) -> None:
        """Show x and y of each, the oldest first; none takes all away."""
        shown = curves[-len(self._curves) :]
        for item in self._curves:
            item.clear()
        for item, (x, y) in zip(self._curves[len(self._curves) - len(shown) :], shown, strict=True):
            item.show(x, y)


def outward(low: float, high: float) -> tuple[float, float]:
    """Return a range that begins and ends at round numbers: it stands while a loop is dragged."""
    if not high > low:
        return low, high
    step = at_least((high - low) / _STEPS_OF_A_RANGE)
    return step * math.floor(low / step), step * math.ceil(high / step)


def linear_ticks(
    low: float, high: float, count: int = 5, unit: str = ""
) -> list[tuple[float, str]]:
    """Return about `count` round ticks; the last one carries the unit."""
    if not high > low:
        return []
    raw = (high - low) / max(count, 1)
    power = 10.0 ** np.floor(np.log10(raw))
    steps = [scale * m for scale in (0.1 * power, power) for m in _ROUND]
    widest = next(n for n, one in enumerate(steps) if raw <= one * 1.0001)
    for step in steps[widest::-1]:  # one number alone tells no scale
        first = np.ceil(low / step - 1e-9)
        values = [float(step * n) for n in np.arange(first, np.floor(high / step + 1e-9) + 1)]
        if len(values) > 1:
            break
    exponent = int(np.floor(np.log10(step) + 1e-9))
    places = max(0, -exponent + (1 if abs(step / 10.0**exponent - 2.5) < 0.01 else 0))
    values = [0.0 if abs(v) < 1e-9 * step else v for v in values]
    labels = [f"{v:.{places}f}".replace("-", "−") for v in values]
    if unit and labels:
        labels[-1] = f"{labels[-1]} {unit}"
    return list(zip(values, labels, strict=True))
