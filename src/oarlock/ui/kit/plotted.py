"""What a plot shows of arrays: curves and points, placed in its pixels by a scale."""

from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF
from shiboken6 import VoidPtr

from oarlock.ui.kit import theme as look

Array = NDArray[np.float64]
_PIECE, _LONG = 16, 32  # points; a short curve is drawn as quickly as it is cut
_NONE = np.empty(0)


@dataclass(frozen=True, slots=True)
class Scale:
    """Where values lie: px of the origin, and px for one of either axis' unit (downwards)."""

    left: float
    bottom: float
    per_x: float
    per_y: float

    def placed(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Return the positions (px) of points."""
        return self.left + self.per_x * x, self.bottom - self.per_y * y


def outline(x: Array, y: Array) -> QPolygonF:
    """Return points (px) as one outline; they are written where Qt keeps them."""
    made = QPolygonF()
    made.resize(x.size)
    if x.size:
        memory: Any = VoidPtr(made.data(), 16 * x.size, True)  # type: ignore[call-arg,arg-type]
        kept = np.frombuffer(memory, dtype=np.float64)
        kept[::2], kept[1::2] = x, y
    return made


def stroke(color: QColor, width: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """Return a pen for curves, its width in px."""
    pen = QPen(color, width, style)
    pen.setJoinStyle(Qt.PenJoinStyle.BevelJoin)  # round ones cost an arc at every sample
    return pen


class Curve:
    """Points joined by a line; where one is not finite there is a gap."""

    def __init__(self, pen: QPen) -> None:
        self.pen = pen
        self.x = self.y = _NONE
        self._dense = False
        self._pieces: list[QPolygonF] | None = None
        self._scale: Scale | None = None

    def show(self, x: Array, y: Array, *, dense: bool = False) -> None:
        """Take arrays; a dense curve, which fills its columns, is a hairline: quickly drawn."""
        self.x, self.y, self._dense = np.asarray(x, float), np.asarray(y, float), dense
        self._pieces = None

    def clear(self) -> None:
        """Take the data away."""
        self.show(_NONE, _NONE)

    @property
    def drawn_with(self) -> QPen:
        """The pen that is used."""
        if not self._dense:
            return self.pen
        hair = QPen(self.pen)
        hair.setWidthF(1.0)
        return hair

    def paint(self, p: QPainter, scale: Scale) -> None:
        """Draw it, a long wide one piece by piece: as one outline that takes ten times as long."""
        if not self.x.size:
            return
        if self._pieces is None or scale != self._scale:
            self._pieces, self._scale = self._cut(scale), scale
        p.setRenderHint(QPainter.RenderHint.Antialiasing, not self._dense)
        p.setPen(self.drawn_with)
        for piece in self._pieces:
            p.drawPolyline(piece)

    def _cut(self, scale: Scale) -> list[QPolygonF]:
        """Return its pieces: between gaps, and shorter ones where their ends do not show."""
        x, y = scale.placed(self.x, self.y)
        there = np.isfinite(x) & np.isfinite(y)
        ends = [0, x.size] if there.all() else [0, *(np.flatnonzero(np.diff(there)) + 1), x.size]
        pen = self.pen
        shows = pen.color().alpha() < 255 or pen.style() != Qt.PenStyle.SolidLine
        whole = shows or self._dense
        found = []
        for first, last in list(pairwise(ends))[0 if there[0] else 1 :: 2]:
            most = last - first if whole or last - first < _LONG else _PIECE
            for at in range(first, last - 1, most):
                end = min(at + most + 1, last)
                found.append(outline(x[at:end], y[at:end]))
        return found


class Points:
    """Round points of one colour, hollow."""

    def __init__(self, color: QColor, size: float) -> None:
        self.x = self.y = _NONE
        self._color, self._size = color, size

    def show(self, x: Array, y: Array, color: QColor) -> None:
        """Take arrays."""
        self.x, self.y, self._color = np.asarray(x, float), np.asarray(y, float), color

    def clear(self) -> None:
        """Take the data away."""
        self.x = self.y = _NONE

    def paint(self, p: QPainter, scale: Scale) -> None:
        """Draw them, each from one picture."""
        if not self.x.size:
            return
        device = p.device()
        ratio = device.devicePixelRatio() if device else 1.0
        ring = _ring(self._color.rgba(), look.theme().panel.rgba(), self._size, ratio)
        half = 0.5 * ring.width() / ratio
        x, y = scale.placed(self.x, self.y)
        there = np.isfinite(x) & np.isfinite(y)
        for at, down in zip((x[there] - half).tolist(), (y[there] - half).tolist(), strict=True):
            p.drawPixmap(QPointF(at, down), ring)


@lru_cache(maxsize=50)
def _ring(color: int, inner: int, size: float, ratio: float) -> QPixmap:
    """Return a point as a picture."""
    wide = round((size + 3.0) * ratio)
    picture = QPixmap(wide, wide)
    picture.setDevicePixelRatio(ratio)
    picture.fill(Qt.GlobalColor.transparent)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(QPen(QColor.fromRgba(color), 1.2))
    p.setBrush(QColor.fromRgba(inner))
    middle = 0.5 * wide / ratio
    p.drawEllipse(QPointF(middle, middle), 0.5 * size, 0.5 * size)
    p.end()
    return picture
