"""Curves painted into a rectangle, where no plot with axes is wanted."""

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

Array = NDArray[np.float64]


def draw_curve(
    p: QPainter, points: list[QPointF], color: QColor, width: float = 1.6,
    style: Qt.PenStyle = Qt.PenStyle.SolidLine,
) -> None:  # fmt: skip
    """Draw points joined by a line."""
    p.setPen(QPen(color, width, style))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawPolyline(QPolygonF(points))


def curve(rect: QRectF, x: Array, y: Array, low: float, high: float) -> list[QPointF]:
    """Return points of y over x, x over the width and low to high over the height."""
    left, span = float(x[0]), float(x[-1] - x[0]) or 1.0
    return [
        QPointF(rect.left() + (float(u) - left) / span * rect.width(),
                rect.bottom() - (float(v) - low) / (high - low) * rect.height())
        for u, v in zip(x, y, strict=True)
    ]  # fmt: skip
