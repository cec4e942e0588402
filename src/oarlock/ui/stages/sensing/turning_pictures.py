"""The pictures of sensing while the shaft turns: turn, hall ring, pushes, search, spin, start."""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from oarlock.experiments.common.angles import orders
from oarlock.experiments.sensing.evidence import HallRing, Levels, Pushed, Start, Trials, TurnError
from oarlock.experiments.sensing.push import NAMES
from oarlock.machine import Axis
from oarlock.quantities.display import digits, fixed, signed
from oarlock.records import Finding
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.curves import curve, draw_curve
from oarlock.ui.kit.paint import draw_text, line, text_width

_OWN = tuple(range(1, 9))  # orders a turn that a sensor's own error has


def paint_turn(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint measured less forced angle over the turn, or the halls' ring."""
    del axis
    if isinstance(finding.evidence, HallRing):
        _paint_ring(p, rect, finding, finding.evidence)
    elif isinstance(finding.evidence, TurnError):
        _paint_error(p, rect, finding, finding.evidence)


def _paint_error(p: QPainter, rect: QRectF, finding: Finding, ev: TurnError) -> None:
    t = look.theme()
    area = rect.adjusted(32, 6, -4, -18)
    forward, back, mean = (np.degrees(curve) for curve in (ev.forward, ev.back, ev.mean))
    span = max(1.0, 1.15 * max(float(np.abs(c).max()) for c in (forward, back, mean)))
    _axes(p, area, span)
    low = curve(area, ev.grid, forward, -span, span)
    high = curve(area, ev.grid, back, -span, span)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(look.faded(t.muted, 45))
    p.drawPolygon(QPolygonF(low + high[::-1]))
    for points in (low, high):
        draw_curve(p, points, t.ink, 1.0)
    # What the sensor may be guilty of repeats slowly; the rest is cogging.
    own = orders(ev.grid[:-1], mean[:-1], _OWN)
    slow = np.real(own @ np.exp(1j * np.outer(_OWN, ev.grid)))
    draw_curve(p, curve(area, ev.grid, mean, -span, span), t.muted, 1.0)
    draw_curve(p, curve(area, ev.grid, slow, -span, span), t.accent, 2.2)
    for name, points in (("forward", low), ("back", high)) if area.height() > 90 else ():
        spot = points[90]
        up = name == "back"
        draw_text(p, spot.x(), spot.y() + (-8 if up else 16), name, t.ink, size=look.SMALL,
                  align="center", halo=t.halo)  # fmt: skip
    apart = math.degrees(finding.extra["friction"].value)
    draw_text(p, area.right() - 4, area.bottom() - 4, f"sensor ±{float(np.ptp(slow)) / 2:.1f}°",
              t.accent, size=look.SMALL, bold=True, align="right", halo=t.halo)  # fmt: skip
    if area.height() > 90:
        draw_text(p, area.right() - 4, area.top() + 12, f"friction ±{apart:.1f}°", t.ink,
                  size=look.SMALL, align="right", halo=t.halo)  # fmt: skip


def _axes(p: QPainter, area: QRectF, span: float) -> None:
    t = look.theme()
    step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50, 100) if span / s < 2.6)
    for n in (-2, -1, 0, 1, 2):
        value = n * step
        if abs(value) > span:
            continue
        y = area.center().y() - value / span * area.height() / 2
        line(p, area.left(), y, area.right(), y, t.muted if n == 0 else t.grid)
        text = f"{signed(value, 0 if step >= 1 else 1)}°" if n else "0"
        draw_text(p, area.left() - 5, y + 4, text, t.muted, size=look.SMALL, align="right")
    for degrees in (0, 90, 180, 270, 360):
        x = area.left() + degrees / 360 * area.width()
        line(p, x, area.top(), x, area.bottom(), t.grid)
        last = degrees == 360
        draw_text(p, area.right() + 2 if last else x, area.bottom() + 14,
                  f"{degrees}°" if last else str(degrees), t.muted, size=look.SMALL,
                  align="right" if last else "center")  # fmt: skip


def _paint_ring(p: QPainter, rect: QRectF, finding: Finding, ev: HallRing) -> None:
    t = look.theme()
    radius = min(rect.height() / 2 - 14, 72.0)
    centre = QPointF(rect.left() + radius + 44, rect.center().y())
    starts = ev.starts
    p.setPen(QPen(t.muted, 1))
    p.setBrush(t.ground)
    p.drawEllipse(centre, radius, radius)
    p.setBrush(t.panel)
    p.drawEllipse(centre, radius * 0.62, radius * 0.62)

    def at(angle: float, share: float) -> QPointF:
        return QPointF(centre.x() + share * radius * math.cos(angle),
                       centre.y() - share * radius * math.sin(angle))  # fmt: skip

    for edge, way in zip(ev.edges, ev.ways, strict=True):
        p.setPen(QPen(look.faded(t.speed if way > 0 else t.torque, 150), 1))
        inner, outer = (0.88, 1.04) if way > 0 else (0.62, 0.78)
        p.drawLine(at(float(edge), inner), at(float(edge), outer))
    for n, start in enumerate(starts):
        p.setPen(QPen(t.accent, 2))
        p.drawLine(at(float(start), 0.62), at(float(start), 1.0))
        wide = (float(starts[(n + 1) % 6]) - float(start)) % math.tau
        middle = at(float(start) + wide / 2, 0.8)
        draw_text(p, middle.x(), middle.y() + 5, f"{ev.order[n]:03b}", t.ink,
                  size=look.SMALL, bold=True, align="center", halo=t.halo)  # fmt: skip
        off = math.degrees(wide) - 60.0
        text, side = f"{60 + off:.1f}°", float(start) + wide / 2
        # So far out that its box ends where the edges' marks end, whichever side it stands on.
        far = abs(math.cos(side)) * text_width(text, look.SMALL) + abs(math.sin(side)) * look.SMALL
        spot = at(side, 1.06 + 0.5 * far / radius)
        draw_text(p, spot.x(), spot.y() + 4, text, t.muted, size=look.SMALL,
                  align="center")  # fmt: skip
    degrees = {name: math.degrees(e.value) for name, e in finding.extra.items()}
    ripple = {name: 100.0 * finding.extra[f"{name} ripple"].value for name in ("left", "even")}
    rows = [
        (f"{degrees['spread']:.2f}°", "pole pairs"),
        (f"±{degrees['friction']:.1f}°", "friction"),
        (f"{degrees['left error']:.1f}°", "this table"),
        (f"{ripple['left']:.1f} %", "its ripple"),
        (f"{degrees['even error']:.1f}°", "even step"),
        (f"{ripple['even']:.1f} %", "its ripple"),
    ]
    if "from before" in degrees:
        rows.append((f"{degrees['from before']:.1f}°", "moved"))
    for n, (value, name) in enumerate(rows):
        y = rect.top() + 18 + 23 * n
        draw_text(p, rect.right() - 62, y, value, t.ink, bold=True, align="right")
        draw_text(p, rect.right() - 56, y, name, t.muted, size=look.SMALL)


def _in_unit(torque: float) -> str:
    """Return a torque (N·m) with its sign, as a number of the unit chosen."""
    value = torque / units.torque().per
    return signed(value, 2 if abs(value) < 10.0 else 1 if abs(value) < 100.0 else 0)


def paint_push(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint the four pushes as arrows with what the shaft did and the torque it took."""
    t, ev = look.theme(), finding.evidence
    if not isinstance(ev, Pushed):
        return
    each = rect.width() / 4.0
    del axis
    most = max(float(np.abs(moved).max()) for moved in ev.moved) or 1e-9
    due = finding.extra["due"].value
    for n, name in enumerate(NAMES):
        x = rect.left() + each * (n + 0.5)
        along_q = n < 2
        color = t.q if along_q else t.d
        torque = finding.extra[f"torque {name}"].value
        draw_text(p, x, rect.top() + 12, f"**{name[0]}__i__~{name[1]}~**", color, align="center")
        centre = QPointF(x, rect.top() + 42)
        p.setPen(QPen(t.rule, 1))
        p.setBrush(t.panel)
        p.drawEllipse(centre, 20, 20)
        up = -1.0 if name[0] == "+" else 1.0
        end = QPointF(x, centre.y() + 13 * up) if along_q else QPointF(x - 13 * up, centre.y())
        start = QPointF(x, centre.y() - 13 * up) if along_q else QPointF(x + 13 * up, centre.y())
        _head(p, start, end, color)
        if abs(torque) > 0.2 * due:
            _bow(p, centre, forward=torque > 0.0)
        box = QRectF(x - each / 2 + 6, rect.top() + 72, each - 12, rect.height() - 118)
        if box.height() < 18:  # too low for the curve: the torque alone
            shown = _in_unit(torque) if abs(torque) > 0.1 * due else "0"
            draw_text(p, x, rect.top() + 82, shown, t.ink, bold=True, align="center")
            continue
        p.fillRect(box, t.ground)
        line(p, box.left(), box.center().y(), box.right(), box.center().y(), t.ink, 1,
             Qt.PenStyle.DashLine)  # fmt: skip
        moved, time = ev.moved[n], ev.t[n]
        if moved.size > 1:
            draw_curve(p, curve(box, time, moved, -1.1 * most, 1.1 * most), t.speed, 1.8)
        shown = _in_unit(torque) if abs(torque) > 0.1 * due else "0"
        draw_text(p, x, box.bottom() + 18, shown, t.ink, bold=True, align="center")
        wanted = f"of {_in_unit(due)[1:]}" if along_q else "of 0"
        draw_text(p, x, box.bottom() + 34, wanted, t.muted, size=look.SMALL, align="center")


def _head(p: QPainter, start: QPointF, end: QPointF, color: QColor) -> None:
    p.setPen(QPen(color, 2.6))
    p.drawLine(start, end)
    angle = math.atan2(end.y() - start.y(), end.x() - start.x())
    wings = [QPointF(end.x() - 8 * math.cos(angle + a), end.y() - 8 * math.sin(angle + a))
             for a in (0.5, -0.5)]  # fmt: skip
    p.setBrush(color)
    p.setPen(Qt.PenStyle.NoPen)
    p.drawPolygon(QPolygonF([end, *wings]))


def _bow(p: QPainter, centre: QPointF, *, forward: bool) -> None:
    """Draw which way the shaft went, as a bow above the circle."""
    t = look.theme()
    p.setPen(QPen(t.torque, 2.4))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawArc(QRectF(centre.x() - 25, centre.y() - 25, 50, 50), 40 * 16, 100 * 16)
    angle = math.radians(140.0 if forward else 40.0)
    tip = QPointF(centre.x() + 25 * math.cos(angle), centre.y() - 25 * math.sin(angle))
    side = -1.0 if forward else 1.0
    p.setBrush(t.torque)
    p.setPen(Qt.PenStyle.NoPen)
    p.drawPolygon(QPolygonF([
        QPointF(tip.x() + 5 * side, tip.y() + 6), QPointF(tip.x() - 4, tip.y() - 2),
        QPointF(tip.x() + 4, tip.y() - 3 + 2),
    ]))  # fmt: skip


def paint_search(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint each trial where it pointed: an arrow where the shaft went, a ring where it stayed."""
    t, ev = look.theme(), finding.evidence
    if not isinstance(ev, Trials) or not ev.angle.size:
        return
    area = rect.adjusted(14, 30, -14, -4)
    known = ev.place is not None
    text = "from d; arrow: it went, ring: stayed" if known else "arrow: it went there"
    draw_text(p, rect.left(), rect.top() + 11, text, t.muted, size=look.SMALL)
    for degrees in (-180, -90, 0, 90, 180):
        x = area.left() + (degrees + 180) / 360 * area.width()
        line(p, x, area.top(), x, area.bottom(), t.grid)
        draw_text(p, x, area.top() - 4, f"{degrees}°".replace("-", "−"), t.muted, size=10,
                  align="center")  # fmt: skip
    base = ev.angle if ev.place is None else ev.place
    del axis
    rows = base.size
    for n in range(rows):
        angle = (math.degrees(float(base[n])) + 180.0) % 360.0
        x = area.left() + angle / 360.0 * area.width()
        y = area.top() + (n + 0.5) / rows * area.height()
        way = float(ev.motion[n])
        if way == 0.0:
            p.setPen(QPen(t.ink, 1.2))
            p.setBrush(t.panel)
            p.drawEllipse(QPointF(x, y), 2.6, 2.6)
            continue
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.ink)
        p.drawPolygon(QPolygonF([
            QPointF(x + 4 * way, y), QPointF(x - 3 * way, y - 3.2), QPointF(x - 3 * way, y + 3.2),
        ]))  # fmt: skip


def paint_spin(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint the back-EMF at each level of current against the magnet flux in use."""
    t, ev = look.theme(), finding.evidence
    if not isinstance(ev, Levels):
        return
    area = rect.adjusted(40, 16, -6, -20)
    psi = axis.machine.psi.value
    top = 1.3
    for share in (0.0, 0.5, 1.0):
        y = area.bottom() - share / top * area.height()
        line(p, area.left(), y, area.right(), y, t.grid)
        draw_text(p, area.left() - 5, y + 4, f"{100 * share:.0f} %", t.muted, size=look.SMALL,
                  align="right")  # fmt: skip
    y = area.bottom() - area.height() / top
    line(p, area.left(), y, area.right(), y, t.ink, 1, Qt.PenStyle.DashLine)
    draw_text(p, area.left(), rect.top() + 10, "back-EMF, of the flux in use", t.muted,
              size=look.SMALL)  # fmt: skip
    wide = area.width() / max(ev.level.size, 1)
    for n, (level, emf) in enumerate(zip(ev.level, ev.emf, strict=True)):
        share = min(float(emf) / psi, top)
        x = area.left() + n * wide
        color = t.accent if share > 0.5 else t.attention
        p.fillRect(QRectF(x + 3, area.bottom() - share / top * area.height(), wide - 6,
                          share / top * area.height()), look.faded(color, 170))  # fmt: skip
        draw_text(p, x + wide / 2, area.bottom() + 14, digits(float(level), 2), t.muted,
                  size=10, align="center")  # fmt: skip
    draw_text(p, area.left() - 5, area.bottom() + 14, "A", t.muted, size=10, align="right")


def paint_start(p: QPainter, rect: QRectF, finding: Finding, axis: Axis) -> None:
    """Paint the observer's speed over the start, both ways, with the hand-over speed."""
    t, ev = look.theme(), finding.evidence
    if not isinstance(ev, Start):
        return
    pairs = axis.machine.pole_pairs.value
    area = rect.adjusted(40, 16, -6, -16)
    scale = units.speed()
    speed = ev.speed / pairs / scale.per
    span = 1.15 * float(np.abs(speed).max()) or 1.0
    hand = finding.extra["hand-over"].value / pairs / scale.per
    for value in (-hand, 0.0, hand):
        y = area.center().y() - value / span * area.height() / 2
        style = Qt.PenStyle.SolidLine if value == 0 else Qt.PenStyle.DashLine
        line(p, area.left(), y, area.right(), y, t.muted, 1, style)
        text = f"{value:.3g}" if abs(hand) < 10.0 else fixed(value, 0)
        draw_text(p, area.left() - 5, y + 4, text.replace("-", "−"), t.muted, size=look.SMALL,
                  align="right")  # fmt: skip
    draw_curve(p, curve(area, ev.t, speed, -span, span), t.speed, 1.6)
    draw_text(p, area.left(), rect.top() + 10, f"{scale.unit}; dashed: hand-over",
              t.muted, size=look.SMALL)  # fmt: skip
    draw_text(p, area.right(), rect.bottom(), f"{float(ev.t[-1]):.1f} s", t.muted,
              size=look.SMALL, align="right")  # fmt: skip
