"""A plot with a frame of its own: fixed axis sizes, explicit ticks, annotations in pixels.

Curves are pyqtgraph's; frame and annotations are painted in viewport pixels, the frame from a
cached picture, so that a drag repaints little.
"""

import math
from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFont,
    QFontMetricsF,
    QPainter,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QWidget

from oarlock.quantities.preferred import at_least
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import line

Array = NDArray[np.float64]
Painter = Callable[[QPainter], None]
Ticks = Sequence[tuple[float, str]]
_STEPS_OF_A_RANGE = 20.0
_ROUND = (1.0, 2.0, 2.5, 5.0, 10.0)


class Plot(pg.GraphicsView):  # type: ignore[misc]  # pyqtgraph is untyped
    """One pair of axes."""

    def __init__(
        self, *, left: int = 48, right: int = 8, top: int = 8, bottom: int = 26, name: str = ""
    ) -> None:
        super().__init__(background=None, useOpenGL=False)
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
        self._box = pg.ViewBox(enableMenu=False, enableMouse=False, defaultPadding=0.0)
        self._box.setBorder(None)
        self.setCentralItem(_Nothing())
        self.scene().addItem(self._box)
        self.setAccessibleName(name)
        self.setFrameShape(pg.GraphicsView.Shape.NoFrame)
        # The frame keeps its own picture; what lies behind the curves changes with them.
        self.setCacheMode(pg.GraphicsView.CacheModeFlag.CacheNone)
        self.setViewportUpdateMode(pg.GraphicsView.ViewportUpdateMode.FullViewportUpdate)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMinimumSize(40, 40)
        self.setMouseTracking(True)

    # Axes

    def set_x(self, low: float, high: float, ticks: Ticks) -> None:
        """Set the range of x and what is written under it."""
        if (low, high) == self._x and list(ticks) == list(self._x_ticks):
            return
        self._x, self._x_ticks = (low, high), ticks
        self._box.setXRange(low, high, padding=0.0)
        self._gauge()

    def set_y(self, low: float, high: float, ticks: Ticks) -> None:
        """Set the range of y and what is written beside it."""
        if (low, high) == self._y and list(ticks) == list(self._y_ticks):
            return
        self._y, self._y_ticks = (low, high), ticks
        self._box.setYRange(low, high, padding=0.0)
        self._gauge()

    @property
    def area(self) -> QRectF:
        """Where data is drawn, viewport px."""
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
        """Return the viewport position of an x value."""
        return self._margins[0] + (x - self._x[0]) * self._per_x

    def py(self, y: float) -> float:
        """Return the viewport position of a y value."""
        return self._area.bottom() - (y - self._y[0]) * self._per_y

    def x_at(self, px: float) -> float:
        """Return the x value at a viewport position."""
        return self._x[0] + (px - self._margins[0]) / self._per_x

    def y_at(self, py: float) -> float:
        """Return the y value at a viewport position."""
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
    ) -> Any:
        """Add a curve; its `setData(x, y)` takes arrays."""
        item = _Curve(stroke(color, width, style))
        self._box.addItem(item, ignoreBounds=True)
        return item

    def paint_band(self, p: QPainter, x: Array, low: Array, high: Array, color: QColor) -> None:
        """Fill between two curves."""
        across = self._margins[0] + (x - self._x[0]) * self._per_x
        down = self._area.bottom() - (np.concatenate([low, high[::-1]]) - self._y[0]) * self._per_y
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.faded(color, 50))
        p.drawPolygon(pg.functions.arrayToQPolygonF(np.concatenate([across, across[::-1]]), down))

    def clear(self, item: Any) -> None:
        """Take a curve's or a point set's data away, if it has any."""
        data = item.getData()[0]
        if data is not None and len(data):
            item.setData([], [])

    def points(self, color: QColor, size: float = 5.0, *, filled: bool = False) -> Any:
        """Add round points; `setData(x, y)` takes arrays."""
        item = pg.ScatterPlotItem(
            size=size,
            pen=stroke(color, 1.2),
            brush=color if filled else look.theme().panel,
            antialias=True,
        )
        self._box.addItem(item, ignoreBounds=True)
        return item

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

    def set_points(self, item: Any, x: Array, y: Array, color: QColor) -> None:
        """Put round points of one colour where `x` and `y` say."""
        brush = QBrush(look.theme().panel)
        item.setData(x=x, y=y, pen=stroke(color, 1.2), brush=brush, symbol="o")

    def refresh(self) -> None:
        """Repaint, once, together with the curves that changed."""
        self.scene().update()

    # Qt

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if not hasattr(self, "_margins"):
            return
        self._gauge()
        self._box.setGeometry(self.area)
        self._box.setXRange(*self._x, padding=0.0)
        self._box.setYRange(*self._y, padding=0.0)

    def drawBackground(self, p: QPainter, _rect: QRectF) -> None:
        if self._frame is None or self._frame.size() != self.size() * self.devicePixelRatio():
            self._frame = self._paint_frame()
        p.save()
        p.resetTransform()
        p.drawPixmap(0, 0, self._frame)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for painter in self._backs:
            painter(p)
        p.restore()

    def drawForeground(self, p: QPainter, _rect: QRectF) -> None:
        p.save()
        p.resetTransform()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for painter in self._fronts:
            painter(p)
        p.restore()

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


def stroke(color: QColor, width: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """Return a pen whose width is in px, whatever the axes' scale."""
    pen = QPen(color, width, style)
    pen.setCosmetic(True)
    pen.setJoinStyle(Qt.PenJoinStyle.BevelJoin)  # round ones cost an arc at every sample
    return pen


class Trail:
    """Curves that fade: what was answered before, the oldest the faintest."""

    def __init__(self, plot: Plot, color: QColor, most: int = 5) -> None:
        self._plot = plot
        shades = [look.faded(color, 40 + 150 * (n + 1) // most) for n in range(most)]
        self._curves = [plot.curve(shade, 1.4) for shade in shades]

    def show(self, curves: list[tuple[Array, Array]]) -> None:
        """Show x and y of each, the oldest first; none takes all away."""
        shown = curves[-len(self._curves) :]
        for item in self._curves:
            self._plot.clear(item)
        for item, (x, y) in zip(self._curves[len(self._curves) - len(shown) :], shown, strict=True):
            item.setData(x, y)


_PIECE, _LONG = 32, 150  # points; a short curve is drawn as quickly as it is cut
_EVERYWHERE = QRectF(-1e6, -1e6, 2e6, 2e6)


class _Curve(pg.PlotCurveItem):  # type: ignore[misc]
    """A curve in axes of fixed range: nobody needs to know how far its data reaches."""

    def __init__(self, pen: QPen) -> None:
        self._pieces: list[QPolygonF] | None = None
        super().__init__(pen=pen, antialias=True)
        self.opts["connect"] = "finite"
        self._hair = QPen(pen)
        self._own = pen
        self._hair.setWidthF(1.0)

    def trace(self, x: Array, y: Array, *, dense: bool) -> None:
        """Draw it; a dense one, which fills its columns, as hairlines: that is drawn quickly."""
        self.setData(x, y, pen=self._hair if dense else self._own, antialias=not dense)

    def boundingRect(self) -> QRectF:
        return _EVERYWHERE

    def updateData(
        self, x: Any = (), y: Any = (), *, pen: QPen | None = None, antialias: bool | None = None
    ) -> None:
        """Take data and how it is drawn; nobody is told: ranges do not follow it here."""
        self.xData, self.yData = (np.asarray(a, dtype=float) for a in (x, y))
        self.opts["pen"] = pen or self.opts["pen"]
        self.opts["antialias"] = self.opts["antialias"] if antialias is None else antialias
        self._pieces = self.path = None
        self._lineSegmentsRendered = False
        self.update()

    def paint(self, p: QPainter, opt: QWidget, widget: QWidget | None) -> None:
        """Draw it, a long wide one piece by piece: as one outline that takes ten times as long."""
        if not self.xData.size:
            return
        if self._pieces is None:
            self._pieces = self._cut()
        if not self._pieces:
            super().paint(p, opt, widget)  # a hairline, as lines by themselves
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(self.opts["pen"])
        for piece in self._pieces:
            p.drawPolyline(piece)

    def _cut(self) -> list[QPolygonF]:
        """Return its pieces, one between gaps where their ends would show; none of a hairline."""
        pen, (x, y) = self.opts["pen"], (self.xData, self.yData)
        if pen.widthF() <= 1.0 or not self.opts["antialias"]:
            return []
        there = np.isfinite(x) & np.isfinite(y)
        ends = [0, x.size] if there.all() else [0, *(np.flatnonzero(np.diff(there)) + 1), x.size]
        shows = pen.color().alpha() < 255 or pen.style() != Qt.PenStyle.SolidLine
        found = []
        for first, last in list(pairwise(ends))[0 if there[0] else 1 :: 2]:
            most = last - first if shows or last - first < _LONG else _PIECE
            for at in range(first, last - 1, most):
                end = min(at + most + 1, last)
                piece = pg.functions.create_qpolygonf(end - at)
                points = pg.functions.ndarray_from_qpolygonf(piece)
                points[:, 0], points[:, 1] = x[at:end], y[at:end]
                found.append(piece)
        return found


class _Nothing(pg.GraphicsWidget):  # type: ignore[misc]
    """Keeps the view from laying anything out."""


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
