"""The loops' lane of the timescales strip: markers, ratios between them, rings of the drive's."""

import math
from collections.abc import Callable
from itertools import pairwise

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import draw_text, handle, line, text_width
from oarlock.views.strip import HIGH, LOW, Strip

_RING = 14.0  # px, from a ring's middle to where something else may stand
XOf = Callable[[float], float]  # px of a frequency


def paint_loops(p: QPainter, strip: Strip, x_of: XOf, y: float, down_to: float) -> None:
    """Draw every loop's marker, and by what ratio neighbours lie apart.

    Parameters
    ----------
    y : px, of the lane
    down_to : px, to which the handle's line runs; 0: it has none

    """
    t, loops = look.theme(), strip.loops
    rings = [x_of(hertz) for marker in loops for hertz in (*marker.rings, marker.saved)
             if LOW <= hertz <= HIGH]  # fmt: skip
    for n, marker in enumerate(loops):
        end = loops[n + 1].hertz if n + 1 < len(loops) else strip.nyquist
        _paint_ratio(p, x_of(marker.hertz), x_of(end), y, end / marker.hertz, rings,
                     last=n + 1 == len(loops))  # fmt: skip
    taken: list[tuple[float, float]] = []
    for marker in sorted(loops, key=lambda m: not m.handle):
        x = x_of(marker.hertz)
        if marker.handle and down_to > 0.0:
            line(p, x, y, x, down_to, t.accent, 2)
        p.setBrush(Qt.BrushStyle.NoBrush)
        for hertz in marker.rings:  # in the drive, and what it would go back to
            p.setPen(QPen(t.accent, 1.5))
            p.drawEllipse(QPointF(x_of(hertz), y), 11.0, 11.0)
        handle(p, x, y, t.accent, filled=marker.measured, strong=marker.handle and down_to > 0.0)
        _paint_label(p, x, y, marker.label, t.ink, look.BODY, taken)
    for marker in loops:  # what a restart would begin with
        if LOW <= marker.saved <= HIGH:
            x = x_of(marker.saved)
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(t.attention, 1.5, Qt.PenStyle.DashLine))
            p.drawEllipse(QPointF(x, y), 6.5, 6.5)
            _paint_label(p, x, y, "saved", t.attention, look.SMALL, taken)


def _paint_label(
    p: QPainter, x: float, y: float, text: str, color: QColor, size: int,
    taken: list[tuple[float, float]],
) -> None:  # fmt: skip
    """Write a label above what it names, where there is room."""
    width = text_width(text, size)
    left = _free(x - 0.5 * width, width, taken)
    if abs(left + 0.5 * width - x) < width:
        taken.append((left, left + width))
        draw_text(p, left, y - 17, text, color, size=size, halo=look.theme().ground)


def _paint_ratio(
    p: QPainter, low: float, high: float, y: float, ratio: float, rings: list[float], *,
    last: bool,
) -> None:  # fmt: skip
    """Draw an arrow from one loop to what lies above it (px), with the ratio beside any ring."""
    t = look.theme()
    left, right = low + 12.0, high - (2.0 if last else 12.0)
    label = f"**× {ratio:.2g}**" if ratio < 99.5 else f"**× {ratio:.0f}**"
    if right - left < text_width(label, look.SMALL) + 22.0:
        return
    half = 0.5 * text_width(label, look.SMALL) + 3.0
    middle = _beside(left, right, half, rings)
    if middle is None:
        return
    line(p, left + 2, y, middle - half, y, t.muted)
    line(p, middle + half, y, right - 1, y, t.muted)
    for tip, sign in ((left, 1), (right, -1)):
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.muted)
        ends = [QPointF(tip + 6 * sign, y - 3), QPointF(tip + 6 * sign, y + 3)]
        p.drawPolygon(QPolygonF([QPointF(tip, y), *ends]))
    draw_text(p, middle, y + 4, label, t.ink, size=look.SMALL, align="center",
              halo=t.ground)  # fmt: skip


def _beside(left: float, right: float, half: float, rings: list[float]) -> float | None:
    """Return where a label stands clear of rings, in the middle where that is; None: nowhere."""
    ends = [left, *sorted(x for x in rings if left < x < right), right]
    if len(ends) == 2 or all(abs(x - 0.5 * (left + right)) > half + _RING for x in ends[1:-1]):
        return 0.5 * (left + right)
    rooms = [(a + (_RING if n else 0.0), b - (_RING if n + 2 < len(ends) else 0.0))
             for n, (a, b) in enumerate(pairwise(ends))]  # fmt: skip
    a, b = max(rooms, key=lambda room: room[1] - room[0])
    return 0.5 * (a + b) if b - a >= 2.0 * half else None


def _free(left: float, width: float, taken: list[tuple[float, float]]) -> float:
    """Return where a label of a width fits beside those there are, nearest to where it should."""
    places = [left, *(b + 8.0 for _, b in taken), *(a - 8.0 - width for a, _ in taken)]
    fit = [at for at in places if all(at > b + 7.0 or at + width < a - 7.0 for a, b in taken)]
    return min(fit, key=lambda at: abs(at - left)) if fit else math.inf
