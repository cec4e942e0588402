"""What stands beside the evidence: tiles, checks, comparison, consequences."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QWidget

from oarlock.quantities.display import fixed
from oarlock.records import Check, Finding
from oarlock.records.evidence import Fitted
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.numbers import plain
from oarlock.ui.kit.paint import diamond, dot, draw_text, line, tick
from oarlock.ui.stages.identify.pictures import evidence_curves, quantity_color
from oarlock.views.identify import (
    TOLERANCE,
    Compared,
    Consequence,
    Tile,
)

_PITCH = 22  # px, of the comparison's rows


class TileButton(QAbstractButton):
    """A quantity: its evidence in small, value ± uncertainty, verdict."""

    def __init__(self, quantity: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.quantity = quantity
        self.setCheckable(True)
        self._tile: Tile | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def sizeHint(self) -> QSize:
        return QSize(288, 96)

    def show_tile(self, tile: Tile) -> None:
        """Show a state of the quantity."""
        self._tile = tile
        self.setAccessibleName(plain(BY_KEY[tile.quantity].title))
        self.setAccessibleDescription(
            f"{tile.value} {tile.unit} {tile.plus}, {units.told(tile.verdict)}"
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, tile = QPainter(self), look.theme(), self._tile
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.wash if self.isChecked() else t.panel)
        if self.isChecked():
            p.fillRect(0, 0, 3, self.height(), t.accent)
        line(p, 0, 0, self.width(), 0, t.rule)
        if tile is None:
            return
        self._paint_thumb(p, tile)
        x, middle = 132, 0.5 * self.height()
        draw_text(p, x, middle - 20, BY_KEY[tile.quantity].title, t.muted)
        width = draw_text(p, x, middle + 5, tile.value, t.ink if tile.finding else t.muted,
                          size=look.ANSWER, bold=True)  # fmt: skip
        draw_text(p, x + width + 6, middle + 5, f"{tile.unit} {tile.plus}", t.muted)
        color = t.ink if tile.holds else t.muted if tile.finding is None else t.attention
        if tile.finding is not None:
            if tile.holds:
                tick(p, x + 6, middle + 23, t.accent)
            else:
                diamond(p, x + 6, middle + 23, t.attention, t.panel, 6.5)
        indent = 18 if tile.finding is not None else 0
        draw_text(p, x + indent, middle + 27, units.told(tile.verdict), color, size=look.SMALL)
        if tile.finding is not None:
            word = "adopted" if tile.adopted else "not adopted"
            draw_text(p, 66, self.height() - 5, word, t.muted, size=look.SMALL, align="center")
        if self.hasFocus():
            p.setPen(QPen(t.accent, 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(5, 3, -4, -4))

    def _paint_thumb(self, p: QPainter, tile: Tile) -> None:
        t, area = look.theme(), QRectF(14, 10, 104, self.height() - 36)
        line(p, area.left(), area.bottom() + 4, area.right(), area.bottom() + 4, t.rule)
        if tile.finding is None or not isinstance(tile.finding.evidence, Fitted):
            p.setPen(QPen(t.muted, 1, Qt.PenStyle.DashLine))
            p.drawLine(area.bottomLeft(), area.topRight())
            return
        x, y, fx, fy = evidence_curves(tile.quantity, tile.finding.evidence)
        low, high = float(min(fy.min(), y.min())), float(max(fy.max(), y.max()))
        left, right = float(fx.min()), float(fx.max())
        right = right if right > left else left + 1.0

        def at(u: float, v: float) -> QPointF:
            return QPointF(
                area.left() + (u - left) / (right - left) * area.width(),
                area.bottom() - (v - low) / ((high - low) or 1.0) * area.height(),
            )

        color = quantity_color(tile.quantity)
        p.setPen(QPen(color, 1.6))
        pairs = zip(fx[:: max(fx.size // 60, 1)], fy[:: max(fy.size // 60, 1)], strict=True)
        p.drawPolyline(QPolygonF([at(float(u), float(v)) for u, v in pairs]))
        p.setPen(QPen(color, 1.1))
        p.setBrush(t.panel)
        for i in np.linspace(0, x.size - 1, min(x.size, 12)).astype(int):
            p.drawEllipse(at(float(x[i]), float(y[i])), 2.4, 2.4)


class CheckList(QWidget):
    """The checks of a finding, failed ones first."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._checks: list[tuple[bool, str]] = []

    def show_finding(self, finding: Finding | None, repeats: Check | None = None) -> None:
        """Show a finding's checks, and whether repeats agree."""
        found = (*finding.checks, *([repeats] if repeats else [])) if finding else ()
        checks = sorted(found, key=lambda c: c.passed)
        self._checks = [(c.passed, c.sentence) for c in checks]
        self.setAccessibleName(
            ". ".join(f"{'holds' if ok else 'fails'}: {s}" for ok, s in self._checks)
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = max(int((self.height() - 2) / 17), 1)
        shown = self._checks if len(self._checks) <= room else self._checks[: room - 1]
        if len(shown) < len(self._checks):
            rest = self._checks[len(shown) :]
            word = "hold" if all(passed for passed, _ in rest) else "besides"
            text = f"and {len(rest)} more {word}"
            draw_text(p, 24, 14 + 17 * len(shown), text, t.muted, size=look.SMALL)
        for i, (passed, sentence) in enumerate(shown):
            y = 10 + 17 * i
            if passed:
                tick(p, 7, y, t.accent)
            else:
                diamond(p, 7, y, t.attention, t.panel, 6.5)
            draw_text(p, 24, y + 4, sentence, t.ink if passed else t.attention, size=look.SMALL)


class Forest(QWidget):
    """Each quantity against its printed value, with the datasheet's tolerance."""

    _SPAN = 0.15

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(24 + _PITCH * len(KEYS))
        self._rows: list[Compared] = []

    def show_rows(self, rows: list[Compared]) -> None:
        """Show the comparison."""
        self._rows = rows
        self.setAccessibleName(
            ", ".join(
                f"{plain(r.symbol)} {100 * r.deviation:+.1f} %"
                for r in rows
                if r.deviation is not None
            )
        )
        self.update()

    def _x(self, ratio: float) -> float:
        return 124.0 + min(max(ratio / self._SPAN, -1.15), 1.15) * 54.0

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for ratio, text in ((-TOLERANCE, "−10"), (0.0, "0"), (TOLERANCE, "+10 %")):
            draw_text(p, self._x(ratio), 12, text, t.muted, size=look.SMALL, align="center")
            line(p, self._x(ratio), 17, self._x(ratio), self.height(), t.rule)
        line(p, self._x(0), 17, self._x(0), self.height(), t.ink, 1, Qt.PenStyle.DashLine)
        for i, row in enumerate(self._rows):
            y = 30 + _PITCH * i
            left, right = self._x(-TOLERANCE), self._x(TOLERANCE)
            p.fillRect(QRectF(left, y - 7, right - left, 14), look.faded(t.muted, 40))
            color = t.ink if row.holds else t.attention
            draw_text(p, 0, y + 5, f"**{row.symbol}**", t.ink)
            if row.deviation is None:
                draw_text(p, self.width(), y + 5, row.word, t.muted, size=look.SMALL, align="right")
                continue
            x = self._x(row.deviation)
            p.setPen(QPen(color, 1.4))
            for end in (self._x(row.deviation - row.plus), self._x(row.deviation + row.plus)):
                p.drawLine(QPointF(x, y), QPointF(end, y))
                p.drawLine(QPointF(end, y - 4), QPointF(end, y + 4))
            if row.holds:
                dot(p, x, y, color, filled=True, radius=3.5)
            else:
                diamond(p, x, y, color, t.panel, 6)
            sign = "+" if row.deviation > 0 else ""
            text = f"**{sign}{fixed(100 * row.deviation, 1)} %**"
            draw_text(p, self.width(), y + 5, text, color, align="right")


def _in_units(row: Consequence) -> Consequence:
    """Return a row in the units that were chosen."""
    after, unit = units.pair(row.after, row.unit)
    return replace(row, before=units.pair(row.before, row.unit)[0], after=after, unit=unit)


class Consequences(QWidget):
    """What adopting would change: old → new; or what follows from the values in use."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(8 * 19)
        self._rows: list[Consequence] = []

    def show_rows(self, rows: list[Consequence]) -> None:
        """Show rows."""
        self._rows = rows = [_in_units(row) for row in rows]
        self.setAccessibleName(
            ", ".join(
                f"{plain(r.name)} {r.before + ' to ' if r.before else ''}{r.after} {r.unit}"
                for r in rows
            )
        )
        self.setToolTip("\n".join(f"{plain(r.name)}: {r.tip}" for r in rows if r.tip))
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for i, row in enumerate(self._rows):
            y = 14 + 19 * i
            if not row.before:
                draw_text(p, 0, y, row.name, t.ink, size=look.SMALL)
                draw_text(p, 174, y, f"**{row.after}**", t.ink, size=look.SMALL, align="right")
                draw_text(p, 178, y, row.unit, t.muted, size=10)
                continue
            same = row.before == row.after
            draw_text(p, 0, y, row.name, t.ink, size=look.SMALL)
            draw_text(p, 120, y, row.before, t.muted, size=look.SMALL, align="right")
            draw_text(p, 129, y, "→", t.muted, size=look.SMALL, align="center")
            after, color = (row.after, t.muted) if same else (f"**{row.after}**", t.ink)
            draw_text(p, 174, y, after, color, size=look.SMALL, align="right")
            draw_text(p, 178, y, row.unit, t.muted, size=10)
