"""Small pictures beside the numbers: where a zero comes from, phase orders, checks."""

import math

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from oarlock.experiments.common.angles import wrap
from oarlock.experiments.sensing.evidence import TurnError
from oarlock.records import Finding
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import dot, draw_text, line
from oarlock.ui.stages.sensing.widgets import folded
from oarlock.views.sensing import (
    SensingStep,
    ZeroSource,
)


class Sources(QWidget):
    """The zero by each method, with its ±, on one scale."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: list[ZeroSource] = []

    def show_sources(self, rows: list[ZeroSource]) -> None:
        """Show what each method found."""
        self._rows = rows
        known = any(row.value is not None for row in rows)
        self.setFixedHeight(22 + 20 * len(rows) if known else 22)
        self.setAccessibleName(
            ", ".join(f"{r.name} {math.degrees(r.value):.2f}°" for r in rows if r.value is not None)
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        known = [r for r in self._rows if r.value is not None]
        if not known:
            draw_text(p, 0, 15, "not found yet", t.muted)
            return
        centre = next((r for r in known if r.in_use), known[0]).value or 0.0
        span = max(
            math.radians(1.0),
            *(abs(wrap((r.value or 0.0) - centre)) + min(r.plus, 0.1) for r in known),
        )
        left, middle, half = 88.0, 132.0, 42.0
        for share in (-1.0, 0.0, 1.0):
            x = middle + share * half
            line(p, x, 18, x, self.height(), t.rule)
            text = f"{math.degrees(centre + share * span) % 360:.1f}"
            draw_text(p, x, 12, text, t.muted, size=10, align="center")
        for n, row in enumerate(self._rows):
            y = 30 + 20 * n
            draw_text(p, 0, y + 5, row.name, t.ink, bold=row.in_use)
            if row.value is None:
                draw_text(p, self.width(), y + 5, "–", t.muted, align="right")
                continue
            x = middle + min(max(wrap(row.value - centre) / span, -1.1), 1.1) * half
            wide = min(row.plus / span, 1.1) * half
            lo, hi = max(x - wide, left - 4), min(x + wide, middle + half + 6)
            line(p, lo, y, hi, y, t.ink, 1)
            for end in (lo, hi):
                line(p, end, y - 4, end, y + 4, t.ink, 1)
            dot(p, x, y, t.ink, filled=True, radius=3.5)
            draw_text(p, self.width(), y + 5, f"{math.degrees(row.value) % 360:.2f}", t.ink,
                      bold=True, align="right")  # fmt: skip


class Orders(QWidget):
    """The angle's error by order a turn."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: list[tuple[int, str, float]] = []

    def show_orders(self, turn: Finding | None, hand: Finding | None) -> None:
        """Show the orders that matter: the sensor's own, and the largest of the others."""
        self._rows = []
        if turn is not None and isinstance(turn.evidence, TurnError):
            sizes = np.degrees(turn.evidence.orders)
            rounds = round(hand.extra["rounds"].value) if hand and "rounds" in hand.extra else 1
            named = {1: "runout", rounds: "centre", 2 * rounds: "ellipse"}
            named = {1: "runout"} | named
            for order, name in sorted(named.items()):
                self._rows.append((order, name, float(sizes[order - 1])))
            others = [n for n in np.argsort(-sizes) + 1 if int(n) not in named]
            for order in [int(n) for n in others[:1]]:
                self._rows.append((order, "cogging" if order > 5 else "", float(sizes[order - 1])))
        self.setFixedHeight(6 + 19 * max(len(self._rows), 1))
        self.setAccessibleName(", ".join(f"order {o}: {s:.2f}°" for o, _, s in self._rows))
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._rows:
            draw_text(p, 0, 15, "after a forced turn", t.muted)
            return
        most = max(size for _, _, size in self._rows) or 1.0
        for n, (order, name, size) in enumerate(self._rows[:4]):
            y = 15 + 19 * n
            draw_text(p, 20, y, str(order), t.ink, bold=True, align="right")
            draw_text(p, 30, y, name, t.ink)
            p.fillRect(QRectF(92, y - 8, 66 * size / most, 8), look.faded(t.accent, 180))
            draw_text(p, self.width(), y, f"{size:.2f}°", t.ink, bold=True, align="right")


class Checks(QWidget):
    """The checks of the step that fails, or what can't be seen from here."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(66)
        self._lines: list[tuple[str, bool]] = []

    def show_step(self, failed: SensingStep | None) -> None:
        """Show why a step fails."""
        self._lines = []
        if failed and failed.finding:
            for check in failed.finding.failed:
                self._lines += [(text, True) for text in folded(check.sentence, 200)]
        else:
            text = "A gain error that all three phases share can't be seen from here: check one "
            text += "phase with a meter."
            self._lines = [(part, False) for part in folded(text, 200)]
        self.setAccessibleName(" ".join(part for part, _ in self._lines))
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        height = 17.0 * len(self._lines)
        color = t.attention if any(bad for _, bad in self._lines) else t.muted
        line(p, 1, 2, 1, height, color, 1)
        for n, (text, bad) in enumerate(self._lines):
            draw_text(p, 9, 13 + 17 * n, text, t.attention if bad else t.ink, size=look.SMALL)
