"""The pictures of sensing at rest: currents, phases, the sensor's own lines, the live dial."""

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from oarlock.drive.link import Live
from oarlock.experiments.sensing.evidence import (
    Circle,
    Counts,
    HallStates,
    PhasesAtRest,
    PulseAnswer,
)
from oarlock.machine import Axis, SensorKind
from oarlock.quantities.display import signed
from oarlock.quantities.kinds import RPM
from oarlock.records import Finding
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.curves import curve, draw_curve
from oarlock.ui.kit.paint import draw_text, line

Array = NDArray[np.float64]
Picture = Callable[[QPainter, QRectF, Finding, Axis], None]


def paint_rest(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint noise and offset of each phase as a strip with its histogram, in counts."""
    t, count, ev = look.theme(), axis.inverter.current_count, finding.evidence
    if not isinstance(ev, PhasesAtRest):
        return
    height = rect.height() / 3.0
    for n, (phase, read) in enumerate(ev.phases.items()):
        row = QRectF(rect.left() + 18, rect.top() + n * height, 108, height - 7)
        counts = read / count
        estimate = finding.estimates[f"inverter.offset_{phase}"]
        offset = estimate.value / count
        shown = counts - counts.mean() + offset
        span = max(10.0, 1.2 * float(np.abs(shown).max()))
        p.fillRect(row, t.ground)
        draw_text(p, rect.left(), row.center().y() + 5, phase, t.ink, bold=True)
        _noise(p, row, shown, span)
        middle = row.center().y()
        line(p, row.left(), middle, row.right(), middle, t.ink, 1, Qt.PenStyle.DashLine)
        y = middle - offset / span * row.height() / 2
        line(p, row.left(), y, row.right(), y, t.accent, 2)
        _histogram(p, QRectF(row.right() + 4, row.top(), 34, row.height()), shown, span)
        right = rect.right()
        draw_text(p, right, row.center().y() + 1, signed(offset, 2), t.ink, bold=True,
                  align="right")  # fmt: skip
        draw_text(p, right, row.center().y() + 16, f"{signed(1e3 * estimate.value, 0)} mA", t.muted,
                  size=look.SMALL, align="right")  # fmt: skip


def _noise(p: QPainter, row: QRectF, shown: Array, span: float) -> None:
    t = look.theme()
    parts = np.array_split(shown, int(row.width()))
    p.setPen(QPen(t.muted, 1))
    middle, scale = row.center().y(), row.height() / 2 / span
    for i, part in enumerate(parts):
        x = row.left() + i + 0.5
        top, low = middle - float(part.max()) * scale, middle - float(part.min()) * scale
        p.drawLine(QPointF(x, top), QPointF(x, low))


def _histogram(p: QPainter, rect: QRectF, shown: Array, span: float) -> None:
    t = look.theme()
    heights, edges = np.histogram(shown, bins=24, range=(-span, span))
    middle, scale = rect.center().y(), rect.height() / 2 / span
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(t.muted)
    for height, low, high in zip(heights, edges, edges[1:], strict=False):
        wide = rect.width() * float(height) / max(int(heights.max()), 1)
        p.drawRect(QRectF(rect.left(), middle - high * scale, wide, (high - low) * scale - 0.5))


def paint_pulses(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint the answer to twelve directions as an ellipse, and the sensors' gains."""
    del axis
    t, ev = look.theme(), finding.evidence
    if not isinstance(ev, PulseAnswer):
        return
    tips, ellipse = ev.tips, ev.ellipse
    radius = min(rect.height() / 2 - 10, 56.0)
    centre = QPointF(rect.left() + radius + 18, rect.center().y())
    scale = radius / max(float(np.hypot(ellipse[:, 0], ellipse[:, 1]).max()), 1e-12)

    def at(point: Array) -> QPointF:
        return QPointF(centre.x() + scale * float(point[0]), centre.y() - scale * float(point[1]))

    for n, phase in enumerate("abc"):
        angle = n * math.tau / 3.0
        x = centre.x() + (radius + 9) * math.cos(angle)
        y = centre.y() - (radius + 9) * math.sin(angle)
        draw_text(p, x, y + 5, phase, t.ink, bold=True, align="center")
    p.setPen(QPen(t.rule, 1))
    for tip in tips:
        p.drawLine(centre, at(tip))
    if "d axis" in finding.extra:
        angle = finding.extra["d axis"].value
        end = QPointF(centre.x() + radius * math.cos(angle), centre.y() - radius * math.sin(angle))
        p.setPen(QPen(t.d, 2))
        p.drawLine(centre, end)
        draw_text(p, end.x() + 5, end.y() - 4, "__d__", t.d, halo=t.halo)
    draw_curve(p, [at(point) for point in ellipse], t.accent, 1.8)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(t.ink)
    for tip in tips:
        p.drawEllipse(at(tip), 2.6, 2.6)
    _gain_rows(p, QRectF(centre.x() + radius + 26, rect.top(), rect.right() - centre.x() - radius
                         - 26, rect.height()), finding, ev)  # fmt: skip


def _gain_rows(p: QPainter, rect: QRectF, finding: Finding, ev: PulseAnswer) -> None:
    t = look.theme()
    order = next((c for c in finding.checks if c.code == "phase order"), None)
    ok = order is not None and order.passed
    draw_text(p, rect.right(), rect.top() + 12, "**a → b → c**" if ok else "**exchanged**",
              t.ink if ok else t.attention, align="right")  # fmt: skip
    draw_text(p, rect.left(), rect.top() + 12, "order", t.muted, size=look.SMALL)
    for n, phase in enumerate("abc"):
        y = rect.top() + 30 + 17 * n
        gain = 100.0 * (float(ev.gains[n]) - 1.0)
        bad = abs(gain) > 3.0
        color = t.attention if bad else t.ink
        draw_text(p, rect.left(), y, f"gain **{phase}**", t.muted, size=look.SMALL)
        middle = rect.left() + 60
        line(p, middle, y - 10, middle, y + 2, t.muted)
        wide = max(min(gain, 16.0), -16.0)
        p.fillRect(QRectF(middle, y - 8, wide, 8), color)
        draw_text(p, rect.right(), y, f"{signed(gain, 1)} %", color, size=look.SMALL, bold=bad,
                  align="right")  # fmt: skip
    text = "no angle: hardly salient"
    if "d axis" in finding.extra:
        text = f"d at {math.degrees(finding.extra['d axis'].value) % 360:.1f}°, sure"
    ratio = f"L~q~/L~d~ {finding.extra['saliency'].value:.2f}"
    for n, one in enumerate((ratio, text)):
        y = rect.top() + 86 + 17 * n
        if y < rect.bottom():  # a warning below takes their room
            draw_text(p, rect.right(), y, one, t.muted, size=look.SMALL, align="right")


def paint_hand(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint what the sensor's lines said while a hand turned the shaft."""
    del axis
    if isinstance(finding.evidence, Circle):
        _paint_ellipse(p, rect, finding, finding.evidence)
    elif isinstance(finding.evidence, Counts):
        _paint_counts(p, rect, finding.evidence)
    elif isinstance(finding.evidence, HallStates):
        _paint_states(p, rect, finding, finding.evidence)


def _paint_ellipse(p: QPainter, rect: QRectF, finding: Finding, ev: Circle) -> None:
    t = look.theme()
    radius = min(rect.height() / 2 - 10, 54.0)
    centre = QPointF(rect.left() + radius + 12, rect.center().y())
    more = 8.0  # the departure from a circle is drawn larger

    def at(sine: float, cosine: float) -> QPointF:
        size = math.hypot(sine, cosine) or 1.0
        drawn = radius * (1.0 + more * (size - 1.0)) / size
        return QPointF(centre.x() + drawn * cosine, centre.y() - drawn * sine)

    p.setPen(QPen(t.ink, 1, Qt.PenStyle.DashLine))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawEllipse(centre, radius, radius)
    line(p, centre.x() - radius, centre.y(), centre.x() + radius, centre.y(), t.grid)
    line(p, centre.x(), centre.y() - radius, centre.x(), centre.y() + radius, t.grid)
    off_s, off_c = ev.offset
    ring = [at(float(s) + off_s, float(c) + off_c)
            for s, c in zip(ev.fit_sine, ev.fit_cosine, strict=True)]  # fmt: skip
    draw_curve(p, ring, t.accent, 1.8)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(t.ink)
    for s, c in zip(ev.sine[::6], ev.cosine[::6], strict=True):
        p.drawEllipse(at(float(s) + off_s, float(c) + off_c), 1.4, 1.4)
    draw_text(p, centre.x() + 4, centre.y() - radius - 3, "sin", t.muted, size=look.SMALL)
    draw_text(p, centre.x() + radius + 3, centre.y() + 4, "cos", t.muted, size=look.SMALL)
    if "sensor.skew" not in finding.estimates:
        return
    values = {k.split(".")[1]: e.value for k, e in finding.estimates.items()}
    off = 100.0 * math.hypot(off_s, off_c)
    rows = (
        (f"{signed(100 * (values['sine_ratio'] - 1), 1)} %", "sine, height"),
        (f"{90 + math.degrees(values['skew']):.1f}°", "between axes"),
        (f"{off:.1f} %", "off centre"),
    )
    left = centre.x() + radius + 34
    for n, (value, name) in enumerate(rows):
        y = rect.top() + 16 + 20 * n
        draw_text(p, left, y, name, t.muted, size=look.SMALL)
        draw_text(p, rect.right(), y, value, t.ink, bold=True, align="right")
    rounds = finding.extra["rounds"].value
    draw_text(p, left, rect.top() + 80, "rounds a turn", t.muted, size=look.SMALL)
    draw_text(p, rect.right(), rect.top() + 80, f"{rounds:.1f}", t.ink, bold=True, align="right")
    draw_text(p, left, rect.top() + 103, "departure drawn × 8", t.muted, size=look.SMALL)


def _paint_counts(p: QPainter, rect: QRectF, ev: Counts) -> None:
    t = look.theme()
    area = QRectF(rect.left() + 4, rect.top() + 6, rect.width() - 92, rect.height() - 24)
    p.fillRect(area, t.ground)
    low, high = float(ev.counts.min()), float(ev.counts.max())
    draw_curve(p, curve(area, ev.t, ev.counts, low, high + 1e-9), t.accent)
    draw_text(p, rect.right(), area.top() + 16, f"{high - low:.0f}", t.ink, bold=True,
              align="right")  # fmt: skip
    draw_text(p, rect.right(), area.top() + 31, "counts a turn", t.muted, size=look.SMALL,
              align="right")  # fmt: skip
    draw_text(p, area.left(), rect.bottom(), "counts, forward and back", t.muted, size=look.SMALL)


def _paint_states(p: QPainter, rect: QRectF, finding: Finding, ev: HallStates) -> None:
    t = look.theme()
    area = QRectF(rect.left() + 16, rect.top() + 4, rect.width() - 108, rect.height() - 26)
    height = area.height() / 3.0
    for n in range(3):
        row = QRectF(area.left(), area.top() + n * height, area.width(), height - 6)
        p.fillRect(row, t.ground)
        bits = ((ev.states.astype(int) >> n) & 1).astype(np.float64)
        draw_text(p, rect.left(), row.center().y() + 5, str(n + 1), t.ink, bold=True)
        draw_curve(p, curve(row.adjusted(0, 3, 0, -3), ev.t, bits, 0.0, 1.0), t.accent, 1.2)
    found = finding.extra["pole pairs by edges"].value
    rows = ((f"{6 * found:.0f}", "edges a turn"), (f"{found:.1f}", "pole pairs"))
    for n, (value, name) in enumerate(rows):
        draw_text(p, rect.right(), rect.top() + 18 + 36 * n, value, t.ink, bold=True, align="right")
        draw_text(p, rect.right(), rect.top() + 33 + 36 * n, name, t.muted, size=look.SMALL,
                  align="right")  # fmt: skip
    draw_text(p, area.left(), rect.bottom(), "the three lines, forward and back", t.muted,
              size=look.SMALL)  # fmt: skip


def paint_dial(p: QPainter, rect: QRectF, live: Live, axis: Axis) -> None:
    """Paint the live angle: mechanical, electrical, and the sensor's lines as numbers."""
    t, sensor = look.theme(), axis.sensor
    radius = min(rect.height() / 2 - 10, 50.0)
    centre = QPointF(rect.left() + radius + 12, rect.center().y())
    p.setPen(QPen(t.muted, 1))
    p.setBrush(t.ground)
    p.drawEllipse(centre, radius, radius)
    for n in range(12):
        angle = n * math.tau / 12
        p.drawLine(
            QPointF(centre.x() + (radius - 5) * math.cos(angle),
                    centre.y() - (radius - 5) * math.sin(angle)),
            QPointF(centre.x() + radius * math.cos(angle), centre.y() - radius * math.sin(angle)),
        )  # fmt: skip
    pairs_known = axis.machine.pole_pairs.is_known
    electrical = live.angle * axis.machine.pole_pairs.value - sensor.zero.value
    for angle, length, color, width in (
        (live.angle, radius - 6, t.ink, 2.4), (electrical, radius - 20, t.accent, 1.6),
    )[: 2 if pairs_known else 1]:  # fmt: skip
        p.setPen(QPen(color, width))
        p.drawLine(centre, QPointF(centre.x() + length * math.cos(angle),
                                   centre.y() - length * math.sin(angle)))  # fmt: skip
    way = "at rest"
    if abs(live.speed) > 0.3:
        way = "forward" if live.speed > 0 else "backward"
    lines = {
        SensorKind.RESOLVER: f"sin {signed(live.lines[0] / 32768, 2)}  "
        f"cos {signed(live.lines[1] / 32768, 2)}",
        SensorKind.ENCODER: f"{live.lines[0]} counts",
        SensorKind.HALL: f"state {live.lines[1] & 7:03b}",
    }.get(sensor.kind, "")
    rows = (
        (f"{math.degrees(live.angle) % 360:.1f}°", "shaft", t.ink),
        (f"{math.degrees(electrical) % 360:.0f}°" if pairs_known else "–", "electrical", t.accent),
        (units.told(f"{signed(live.speed / RPM, 0)} rpm"), way, t.ink),
    )
    left = centre.x() + radius + 30
    for n, (value, name, color) in enumerate(rows):
        y = rect.top() + 16 + 21 * n
        draw_text(p, left, y, name, t.muted, size=look.SMALL)
        draw_text(p, rect.right(), y, value, color, bold=True, align="right")
    draw_text(p, rect.right(), rect.top() + 84, lines, t.muted, size=look.SMALL, align="right")
