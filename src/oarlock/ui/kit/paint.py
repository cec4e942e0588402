"""Painting text with subscripts and halos, crisp lines, and the marks of state."""

import re
from dataclasses import dataclass
from enum import Enum, auto
from functools import lru_cache

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
)

from oarlock.ui.kit import theme as look

_RUNS = re.compile(r"(\*\*.+?\*\*|~.+?~|__.+?__)")
_HALO = ((-1.2, -1.2), (-1.2, 1.2), (1.2, -1.2), (1.2, 1.2))


class Mark(Enum):
    """State by shape."""

    VALID = auto()  # check in a disc
    ATTENTION = auto()  # diamond with a bar
    STALE = auto()  # open arc
    EMPTY = auto()  # ring


@dataclass(frozen=True, slots=True)
class Run:
    """A piece of a line in one font."""

    text: str
    font: QFont
    width: float  # px
    drop: float  # px below the baseline


@lru_cache(maxsize=64)
def _metrics(size: int, bold: bool, italic: bool) -> QFontMetricsF:
    return QFontMetricsF(look.font(size, bold=bold, italic=italic))


def _run(text: str, size: int, *, bold: bool, italic: bool = False, drop: float = 0.0) -> Run:
    width = _metrics(size, bold, italic).horizontalAdvance(text)
    return Run(text, look.font(size, bold=bold, italic=italic), width, drop)


@lru_cache(maxsize=500)  # what is drawn was measured just before
def runs(text: str, size: int, *, bold: bool = False) -> tuple[Run, ...]:
    """Return the pieces of a marked-up line.

    `**bold**`, `~subscript~` and `__italic__` are understood.
    """
    made: list[Run] = []
    for part in _RUNS.split(text):
        if not part:
            continue
        if part.startswith("**"):
            made += runs(part[2:-2], size, bold=True)
        elif part.startswith("~"):
            made.append(_run(part[1:-1], max(size - 3, 9), bold=bold, drop=0.22 * size))
        elif part.startswith("__"):
            made.append(_run(part[2:-2], size, bold=bold, italic=True))
        else:
            made.append(_run(part, size, bold=bold))
    return tuple(made)


@lru_cache(maxsize=2000)
def text_width(text: str, size: int = look.BODY, *, bold: bool = False) -> float:
    """Return the width of a marked-up line, px."""
    return sum(run.width for run in runs(text, size, bold=bold))


def draw_text(
    p: QPainter,
    x: float,
    y: float,
    text: str,
    color: QColor,
    *,
    size: int = look.BODY,
    bold: bool = False,
    align: str = "left",
    halo: QColor | None = None,
) -> float:
    """Draw a marked-up line with its baseline at `y`; return its width.

    A line that is drawn again is kept as a picture: most of them stay the same while something
    is dragged, and those that change are not worth a picture.
    """
    device = p.device()
    ratio = device.devicePixelRatio() if device else 1.0
    key = (text, color.rgba(), size, bold, None if halo is None else halo.rgba(), ratio)
    if key in _kept:
        picture, total = _kept[key] = _kept.pop(key) or _picture(*key)  # the newest is the last
        x = round(x - _SHARE[align] * total)
        p.drawPixmap(QPointF(x - _PAD, round(y) - size - _PAD), picture)
        return total
    _kept[key] = None
    if len(_kept) > _REMEMBERED:
        del _kept[next(iter(_kept))]
    parts = runs(text, size, bold=bold)
    total = sum(part.width for part in parts)
    _draw_runs(p, round(x - _SHARE[align] * total), round(y), parts, color, halo)
    return total


_SHARE = {"left": 0.0, "right": 1.0, "center": 0.5}
_PAD, _REMEMBERED = 3, 700  # px round a picture; lines that may have one
_Key = tuple[str, int, int, bool, int | None, float]
_kept: dict[_Key, tuple[QPixmap, float] | None] = {}  # a line that was drawn once: no picture yet


def _draw_runs(
    p: QPainter, x: float, y: float, parts: tuple[Run, ...], color: QColor, halo: QColor | None
) -> None:
    for part in parts:
        p.setFont(part.font)
        if halo is not None:
            p.setPen(halo)
            for dx, dy in _HALO:
                p.drawText(QPointF(x + dx, y + part.drop + dy), part.text)
        p.setPen(color)
        p.drawText(QPointF(x, y + part.drop), part.text)
        x += part.width


def _picture(
    text: str,
    color: int,
    size: int,
    bold: bool,
    halo: int | None,
    ratio: float,
) -> tuple[QPixmap, float]:
    """Return a marked-up line as a picture with its width, px."""
    parts = runs(text, size, bold=bold)
    total = sum(part.width for part in parts)
    wide = int((total + 2 * _PAD + size) * ratio) + 1
    picture = QPixmap(wide, int((2 * size + 2 * _PAD) * ratio) + 1)
    picture.setDevicePixelRatio(ratio)
    picture.fill(Qt.GlobalColor.transparent)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    around = None if halo is None else QColor.fromRgba(halo)
    _draw_runs(p, _PAD, _PAD + size, parts, QColor.fromRgba(color), around)
    p.end()
    return picture, total


def line(
    p: QPainter,
    x1: float,
    y1: float,
    x2: float,
    y2: float,
    color: QColor,
    width: float = 1.0,
    style: Qt.PenStyle = Qt.PenStyle.SolidLine,
) -> None:
    """Draw an axis-parallel line without blur: odd widths on half pixels."""
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    p.setPen(_flat(color.rgba(), width, style))
    p.drawLine(round(x1), round(y1), round(x2), round(y2))
    p.restore()


@lru_cache(maxsize=100)
def _flat(color: int, width: float, style: Qt.PenStyle) -> QPen:
    """Return a pen whose lines end where they are told to."""
    return QPen(QColor.fromRgba(color), width, style, c=Qt.PenCapStyle.FlatCap)


def arrow(p: QPainter, x1: float, y1: float, x2: float, y2: float, color: QColor) -> None:
    """Draw a dimension line with heads at both ends, upright or level."""
    line(p, x1, y1, x2, y2, color)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(color)
    level = abs(y2 - y1) < abs(x2 - x1)
    for (x, y), sign in (((x1, y1), 1), ((x2, y2), -1)):
        sign = sign if (x2 >= x1 if level else y2 >= y1) else -sign
        tip = QPointF(x, y)
        if level:
            ends = (QPointF(x + 5 * sign, y - 3), QPointF(x + 5 * sign, y + 3))
        else:
            ends = (QPointF(x - 3, y + 5 * sign), QPointF(x + 3, y + 5 * sign))
        p.drawPolygon(QPolygonF([tip, *ends]))


def handle(p: QPainter, x: float, y: float, color: QColor, *, filled: bool, strong: bool) -> None:
    """Draw what can be dragged: a disc, hollow while unverified, with a halo when selected."""
    device = p.device()
    ratio = device.devicePixelRatio() if device else 1.0
    inner = color if filled else look.theme().panel
    disc = _disc(color.rgba(), inner.rgba(), strong, ratio)
    p.drawPixmap(QPointF(round(x) - _DISC, round(y) - _DISC), disc)


_DISC = 12  # px, half of its picture


@lru_cache(maxsize=50)
def _disc(color: int, inner: int, strong: bool, ratio: float) -> QPixmap:
    """Return a handle as a picture: it is drawn at each step of a drag, in every plot."""
    picture = QPixmap(round(2 * _DISC * ratio), round(2 * _DISC * ratio))
    picture.setDevicePixelRatio(ratio)
    picture.fill(Qt.GlobalColor.transparent)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    middle = QPointF(_DISC, _DISC)
    if strong:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.faded(QColor.fromRgba(color), 60))
        p.drawEllipse(middle, 11, 11)
    p.setPen(QPen(QColor.fromRgba(color), 2.5))
    p.setBrush(QColor.fromRgba(inner))
    p.drawEllipse(middle, 6, 6)
    p.end()
    return picture


def dot(p: QPainter, x: float, y: float, color: QColor, *, filled: bool, radius: float = 4) -> None:
    """Draw a round mark, filled where it is measured."""
    p.setPen(QPen(color, 1.5))
    p.setBrush(color if filled else Qt.BrushStyle.NoBrush)
    p.drawEllipse(QPointF(x, y), radius, radius)


def mark(p: QPainter, x: float, y: float, which: Mark) -> None:
    """Draw the mark of a state, about 16 px wide."""
    t = look.theme()
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    if which is Mark.VALID:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.accent)
        p.drawEllipse(QPointF(x, y), 8, 8)
        p.setPen(QPen(t.on_accent, 2, c=Qt.PenCapStyle.RoundCap, j=Qt.PenJoinStyle.RoundJoin))
        p.drawPolyline(QPolygonF([QPointF(x - 4, y), QPointF(x - 1, y + 3), QPointF(x + 4, y - 3)]))
    elif which is Mark.ATTENTION:
        diamond(p, x, y, t.attention, t.panel)
    elif which is Mark.STALE:
        p.setPen(QPen(t.attention, 2))
        p.setBrush(t.panel)
        p.drawArc(QRectF(x - 7, y - 7, 14, 14), 100 * 16, 280 * 16)
        p.drawLine(QPointF(x, y - 4), QPointF(x, y))
        p.drawLine(QPointF(x, y), QPointF(x + 3, y))
    else:
        p.setPen(QPen(t.muted, 1.5))
        p.setBrush(t.ground)
        p.drawEllipse(QPointF(x, y), 4.5, 4.5)
    p.restore()


def diamond(
    p: QPainter, x: float, y: float, color: QColor, ground: QColor, size: float = 9
) -> None:
    """Draw the mark of a failed check."""
    p.setPen(QPen(color, 1.8))
    p.setBrush(ground)
    corners = [(x, y - size), (x + size, y), (x, y + size), (x - size, y)]
    p.drawPolygon(QPolygonF([QPointF(*corner) for corner in corners]))
    p.drawLine(QPointF(x, y - 0.45 * size), QPointF(x, y + 0.1 * size))
    p.drawPoint(QPointF(x, y + 0.45 * size))


def tick(p: QPainter, x: float, y: float, color: QColor) -> None:
    """Draw a small check mark."""
    p.setPen(QPen(color, 2, c=Qt.PenCapStyle.RoundCap, j=Qt.PenJoinStyle.RoundJoin))
    p.drawPolyline(QPolygonF([QPointF(x - 4, y), QPointF(x - 1, y + 3), QPointF(x + 5, y - 4)]))


def hatch(p: QPainter, rect: QRectF, color: QColor, *, crossed: bool = False) -> None:
    """Fill a rectangle with thin slanted lines."""
    style = Qt.BrushStyle.DiagCrossPattern if crossed else Qt.BrushStyle.BDiagPattern
    p.fillRect(rect, QBrush(color, style))


def elided(text: str, room: float, size: int = look.BODY, *, bold: bool = False) -> str:
    """Return a text that fits into `room` px, its end replaced by dots where it does not."""
    if text_width(text, size, bold=bold) <= room:
        return text
    low, high = 0, len(text)
    while low < high:
        middle = (low + high + 1) // 2
        if text_width(text[:middle].rstrip() + "…", size, bold=bold) <= room:
            low = middle
        else:
            high = middle - 1
    return text[:low].rstrip() + "…"


def paint_progress(p: QPainter, centre: QPointF, text: str, fraction: float) -> None:
    """Say what is being done and how far it is, where its result will be."""
    t, wide = look.theme(), 260.0
    draw_text(p, centre.x(), centre.y() - 8, text, t.ink, align="center", bold=True)
    p.fillRect(QRectF(centre.x() - 0.5 * wide, centre.y(), wide, 4), t.rule)
    done = wide * min(max(fraction, 0.0), 1.0)
    p.fillRect(QRectF(centre.x() - 0.5 * wide, centre.y(), done, 4), t.accent)
