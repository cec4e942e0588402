"""The Identify stage: what is really on the cable, and whether it can be believed."""

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QButtonGroup, QLabel, QLineEdit, QWidget

from oarlock.errors import InputError
from oarlock.identify.experiments import announcement
from oarlock.quantities.display import digits, fixed
from oarlock.records import Finding, Run
from oarlock.session.bench import Bench
from oarlock.session.identify_view import (
    NAMES,
    TOLERANCE,
    Compared,
    Consequence,
    Tile,
    answer,
    compared,
    consequences,
    tiles,
)
from oarlock.session.perform import QUANTITIES, Performed, experiment_for
from oarlock.session.session import Session
from oarlock.ui import theme as look
from oarlock.ui.numbers import plain
from oarlock.ui.paint import diamond, dot, draw_text, line, tick
from oarlock.ui.plot import Plot, linear_ticks, stroke
from oarlock.ui.stage import StageView, button
from oarlock.ui.strip import ReadOut

_SHORT = {"resistance": "resistance", "inductance_d": "Ld", "inductance_q": "Lq"}


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
        self.setAccessibleName(plain(NAMES[tile.quantity]))
        self.setAccessibleDescription(f"{tile.value} {tile.unit} {tile.plus}, {tile.verdict}")
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
        x = 132
        draw_text(p, x, 24, NAMES[tile.quantity], t.muted)
        width = draw_text(p, x, 50, tile.value, t.ink if tile.finding else t.muted,
                          size=look.ANSWER, bold=True)  # fmt: skip
        draw_text(p, x + width + 6, 50, f"{tile.unit} {tile.plus}", t.muted)
        color = t.ink if tile.holds else t.muted if tile.finding is None else t.attention
        if tile.finding is not None:
            if tile.holds:
                tick(p, x + 6, 68, t.accent)
            else:
                diamond(p, x + 6, 68, t.attention, t.panel, 6.5)
        indent = 18 if tile.finding is not None else 0
        draw_text(p, x + indent, 72, tile.verdict, color, size=look.SMALL)
        if tile.finding is not None:
            word = "adopted" if tile.adopted else "not adopted yet"
            draw_text(p, x, 89, word, t.muted, size=look.SMALL)
        if self.hasFocus():
            p.setPen(QPen(t.accent, 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(5, 3, -4, -4))

    def _paint_thumb(self, p: QPainter, tile: Tile) -> None:
        t, area = look.theme(), QRectF(14, 14, 104, 68)
        line(p, area.left(), area.bottom() + 4, area.right(), area.bottom() + 4, t.rule)
        if tile.finding is None:
            p.setPen(QPen(t.muted, 1, Qt.PenStyle.DashLine))
            p.drawLine(area.bottomLeft(), area.topRight())
            return
        x, y, fx, fy = _curves(tile.finding)
        low, high = float(min(fy.min(), y.min())), float(max(fy.max(), y.max()))
        left, right = float(fx.min()), float(fx.max())

        def at(u: float, v: float) -> QPointF:
            return QPointF(
                area.left() + (u - left) / (right - left) * area.width(),
                area.bottom() - (v - low) / ((high - low) or 1.0) * area.height(),
            )

        color = _color(tile.quantity)
        p.setPen(QPen(color, 1.6))
        pairs = zip(fx[:: max(fx.size // 60, 1)], fy[:: max(fy.size // 60, 1)], strict=True)
        p.drawPolyline(QPolygonF([at(float(u), float(v)) for u, v in pairs]))
        p.setPen(QPen(color, 1.1))
        p.setBrush(t.panel)
        for i in np.linspace(0, x.size - 1, min(x.size, 12)).astype(int):
            p.drawEllipse(at(float(x[i]), float(y[i])), 2.4, 2.4)


def _color(quantity: str) -> Any:
    t = look.theme()
    return {"resistance": t.ink, "inductance_d": t.d, "inductance_q": t.q}[quantity]


def _curves(finding: Finding) -> tuple[Any, Any, Any, Any]:
    """Return (x, y) of the data and (x, y) of the fit."""
    e = finding.evidence
    if finding.quantity == "resistance":
        return e["i"], e["v"], e["fit_i"], e["fit_v"]
    return e["phase"], e["measured"], e["phase"], e["fitted"]


class EvidencePlot(Plot):
    """Data and fit of one finding."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=10, bottom=4, name="Evidence")
        t = look.theme()
        self._line = self.curve(t.muted, 1.2, Qt.PenStyle.DashLine)
        self._fit = self.curve(t.q, 2.0)
        self._data = self.points(t.q, 7)
        self._finding: Finding | None = None
        self.over(self._annotate)

    def show_finding(self, finding: Finding | None) -> None:
        """Show the evidence of a finding."""
        self._finding = finding
        if finding is None:
            for item in (self._line, self._fit, self._data):
                item.setData([], [])
            self.refresh()
            return
        x, y, fx, fy = _curves(finding)
        color = _color(finding.quantity)
        self._fit.setPen(stroke(color, 2.0))
        self._fit.setData(fx, fy)
        step = max(x.size // 400, 1)
        self.set_points(self._data, x[::step], y[::step], color)
        resistance = finding.quantity == "resistance"
        if resistance:
            self._line.setData(fx, finding.evidence["line_v"])
        else:
            self._line.setData([], [])
        top = float(max(fx.max(), x.max()))
        self.set_x(0.0, top, [(v, "") for v, _ in linear_ticks(0.0, top, 5)])
        low = 0.0 if resistance else 1.6 * float(y.min())
        high = (1.15 if resistance else 2.0 if finding.extra else 1.4) * float(y.max())
        ticks = linear_ticks(low, high, 5)
        unit = "V" if resistance else "A"
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {unit}")
        self.set_y(low, high, ticks)
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        finding, t = self._finding, look.theme()
        if finding is None:
            text, at = "The evidence appears here once it is measured.", self.area.center()
            draw_text(p, at.x(), at.y(), text, t.muted, align="center")
            return
        color = _color(finding.quantity)
        if finding.quantity == "resistance":
            R = finding.estimates["machine.R"].value
            fx = finding.evidence["fit_i"]
            x = 0.62 * float(fx.max())
            y = float(np.interp(x, fx, finding.evidence["fit_v"]))
            draw_text(p, self.px(x) - 14, self.py(y) - 12, f"slope R **{digits(R, 3)} Ω**", t.ink,
                      size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip
            y = R * x
            draw_text(p, self.px(x) + 8, self.py(y) + 20, "R·i without dead time", t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip
            volts = finding.estimates["inverter.dead_voltage"].value
            text = f"dead time **{digits(volts, 3)} V** a phase"
            draw_text(p, self.px(0) + 12, self.py(0) - 10, text, t.ink, halo=t.halo)
            return
        amplitude = 0.5 * float(np.ptp(finding.evidence["fitted"]))
        volts = 0.5 * float(np.ptp(finding.evidence["volts"]))
        text = f"current **{digits(amplitude, 3)} A** at {digits(volts, 3)} V, one period"
        draw_text(p, self.area.left() + 12, self.area.bottom() - 12, text, color, halo=t.halo)
        extra = [f"{name}: **{digits(1e3 * e.value, 4)} mH**" for name, e in finding.extra.items()]
        for i, text in enumerate(extra):
            draw_text(p, self.area.right() - 8, self.area.top() + 20 + 17 * i, f"held at {text}",
                      t.ink, align="right", halo=t.halo)  # fmt: skip


class ResidualPlot(Plot):
    """Measured less fitted."""

    def __init__(self) -> None:
        super().__init__(left=56, right=12, top=4, bottom=26, name="Residual")
        self._data = self.points(look.theme().q, 5)
        self._rms = 0.0
        self._unit = "mV"
        self.behind(self._back)
        self.over(self._annotate)

    def show_finding(self, finding: Finding | None) -> None:
        """Show the residual of a finding."""
        self._rms = 0.0
        if finding is None:
            self._data.setData([], [])
            self.refresh()
            return
        x, _, fx, _ = _curves(finding)
        residual = 1e3 * finding.evidence["residual"]
        resistance = finding.quantity == "resistance"
        self._unit = "mV" if resistance else "mA"
        self._rms = float(np.sqrt(np.mean(residual**2)))
        step = max(x.size // 400, 1)
        self.set_points(self._data, x[::step], residual[::step], _color(finding.quantity))
        top = float(max(fx.max(), x.max()))
        ticks = linear_ticks(0.0, top, 5)
        unit = "A" if resistance else "turn"
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {unit}")
        self.set_x(0.0, top, ticks)
        most = max(1.15 * float(np.abs(residual).max()), 1e-6)
        self.set_y(-most, most, linear_ticks(-most, most, 3))
        self.refresh()

    def _back(self, p: QPainter) -> None:
        if self._rms:
            top, bottom = self.py(2 * self._rms), self.py(-2 * self._rms)
            band = QRectF(self.area.left(), top, self.area.width(), bottom - top)
            p.fillRect(band, look.faded(look.theme().accent, 26))

    def _annotate(self, p: QPainter) -> None:
        t = look.theme()
        if self._rms:
            text = f"measured − fit, {self._unit}; band: ±2 × {digits(self._rms, 2)} rms"
            draw_text(p, self.area.left() + 8, self.area.top() + 14, text, t.muted,
                      size=look.SMALL, halo=t.halo)  # fmt: skip


class CheckList(QWidget):
    """The checks of a finding, failed ones first."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._checks: list[tuple[bool, str]] = []

    def show_finding(self, finding: Finding | None) -> None:
        """Show a finding's checks."""
        checks = sorted(finding.checks, key=lambda c: c.passed) if finding else []
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
        self.setFixedHeight(24 + 26 * len(QUANTITIES))
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
            y = 32 + 26 * i
            left, right = self._x(-TOLERANCE), self._x(TOLERANCE)
            p.fillRect(QRectF(left, y - 7, right - left, 14), look.faded(t.muted, 40))
            color = t.ink if row.holds else t.attention
            draw_text(p, 0, y + 5, f"**{row.symbol}**", t.ink)
            if row.deviation is None:
                draw_text(
                    p, self.width(), y + 5, "printed", t.muted, size=look.SMALL, align="right"
                )
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


class Consequences(QWidget):
    """What adopting would change: old → new."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(6 * 22)
        self._rows: list[Consequence] = []
        self._empty = ""

    def show_rows(self, rows: list[Consequence], empty: str) -> None:
        """Show rows, or why there are none."""
        self._rows, self._empty = rows, empty
        self.setAccessibleName(
            ", ".join(f"{plain(r.name)} {r.before} to {r.after} {r.unit}" for r in rows) or empty
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._rows:
            draw_text(p, 0, 15, self._empty, t.muted)
        for i, row in enumerate(self._rows):
            y = 15 + 22 * i
            same = row.before == row.after
            draw_text(p, 0, y, row.name, t.ink)
            draw_text(p, 122, y, row.before, t.muted, align="right")
            draw_text(p, 132, y, "→", t.muted, align="center")
            after, color = (row.after, t.muted) if same else (f"**{row.after}**", t.ink)
            draw_text(p, 174, y, after, color, align="right")
            draw_text(p, 178, y, row.unit, t.muted, size=10)


class IdentifyStage(StageView):
    """Tiles, one large evidence plot, checks, and what to do."""

    key = "identify"
    f5 = "Measure the chosen quantity"
    question = "What is really on the cable, and can it be believed?"

    def __init__(self, session: Session, bench: Bench, say: Callable[[str], None]) -> None:
        super().__init__(session, bench)
        self._say = say
        self._sequence: list[str] | None = None  # what is still to be measured of all three
        self.evidence, self.residual = EvidencePlot(), ResidualPlot()
        for plot in (self.evidence, self.residual):
            plot.setParent(self)
        self.checks = CheckList(self)
        self._group = QButtonGroup(self)
        self.tiles = {quantity: TileButton(quantity, self) for quantity in QUANTITIES}
        for tile_button in self.tiles.values():
            self._group.addButton(tile_button)
            tile_button.clicked.connect(self._picked)
        chosen = session.view.get("identify", QUANTITIES[0])
        self.chosen = chosen if chosen in QUANTITIES else QUANTITIES[0]
        self.tiles[self.chosen].setChecked(True)
        self._make_buttons()
        self._make_numbers()

    def _make_buttons(self) -> None:
        self.measure = button("Measure", primary=True)
        self.measure_all = button("Measure all three")
        self.adopt = button("Adopt", primary=True)
        self.reason = QLineEdit(self)
        self.reason.setPlaceholderText("why adopt it as it is? then Enter")
        self.reason.setFont(look.font(look.BODY))
        self.reason.setAccessibleName("Reason for adopting a finding whose checks fail")
        self.note = QLabel(self)
        self.note.setFont(look.font(look.SMALL))
        self.note.setStyleSheet(f"color: {look.theme().muted.name()}")
        for made in (self.measure, self.measure_all, self.adopt):
            made.setParent(self)
        self.measure.clicked.connect(self.run)
        self.measure_all.clicked.connect(self.run_all)
        self.adopt.clicked.connect(self._adopt)
        self.reason.returnPressed.connect(self._adopt_with_reason)

    def _make_numbers(self) -> None:
        block = self.numbers.block("Against printed", "grey: ±10 %")
        self.forest = Forest()
        block.add(self.forest)
        then = self.numbers.block("If adopted, then")
        self.then = Consequences()
        then.add(self.then)
        conditions = self.numbers.block("Conditions")
        self._stage_heat = conditions.row("Power stage", "As the drive reports it")
        self._dead = conditions.row("Dead-time loss", "For each phase, against its current")
        self._gain_a = conditions.row("Sensor a", "Gain of phase a against the mean of the three")
        self._gain_b = conditions.row("Sensor b", "Gain of phase b against the mean of the three")
        self.numbers.finish()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        w, h = self.width(), self.height()
        split = w - 304
        checks, residual = (72, 70) if h < 500 else (122, 96)
        top = h - 74 - checks
        self.checks.setGeometry(look.MARGIN, top, split - 24, checks)
        self.residual.setGeometry(8, top - 4 - residual, split - 24, residual)
        self.evidence.setGeometry(8, 84, split - 24, top - 6 - residual - 84)
        y = h - 64
        x = look.MARGIN
        self.measure.setGeometry(x, y, 226, 30)
        self.measure_all.setGeometry(x + 234, y, 140, 30)
        self.adopt.setGeometry(x + 382, y, 144, 30)
        self.reason.setGeometry(x + 382, y, max(split - 414, 120), 30)
        self.note.setGeometry(x, y + 34, split - 24, 18)
        for i, tile_button in enumerate(self.tiles.values()):
            tile_button.setGeometry(split, 16 + 100 * i, 288, 100)

    # What it shows

    def refresh(self) -> None:
        shown = tiles(self.session)
        for item in shown:
            self.tiles[item.quantity].show_tile(item)
        self.say(*answer(self.session, shown))
        item = next(t for t in shown if t.quantity == self.chosen)
        self.evidence.show_finding(item.finding)
        self.residual.show_finding(item.finding)
        self.checks.show_finding(item.finding)
        self._show_buttons(item)
        self._show_numbers(item)

    def _show_buttons(self, item: Tile) -> None:
        name = _SHORT[self.chosen]
        again = "again" if item.finding else ""
        self.measure.setText(f"Measure {name} {again}".strip() + "  F5")
        ready = self.bench.connected and not self.bench.busy
        self.measure.setEnabled(ready)
        self.measure_all.setEnabled(ready)
        open_finding = item.finding is not None and not item.adopted
        self.adopt.setVisible(open_finding and item.holds)
        self.reason.setVisible(open_finding and not item.holds)
        self.adopt.setText(f"Adopt {name}")
        if not self.bench.connected:
            self.note.setText("Connect a drive in the top bar to measure.")
            return
        try:
            plan = experiment_for(self.chosen).plan(self.session.axis)
        except InputError as error:
            self.note.setText(str(error))
            return
        self.note.setText(announcement(plan, braked=self.bench.braked))

    def _show_numbers(self, item: Tile) -> None:
        session = self.session
        self.forest.show_rows([compared(session, quantity) for quantity in QUANTITIES])
        rows = []
        if item.finding is not None and not item.adopted:
            rows = consequences(session.axis, item.finding)
        empty = "already adopted" if item.adopted else "nothing measured yet"
        self.then.show_rows(rows, empty)
        inv, live = session.axis.inverter, self.bench.live
        heat = f"{live.temperature}" if self.bench.connected else "–"
        self._stage_heat.show_value(heat, "°C")
        dead = inv.dead_voltage
        plus = f"±{digits(dead.std, 1)}" if dead.adopted and dead.std else ""
        self._dead.show_value(digits(dead.value, 3), "V", plus, dead.best.origin)
        for row, gain in ((self._gain_a, inv.gain_a), (self._gain_b, inv.gain_b)):
            value = f"{100 * (gain.value - 1):+.2f}".replace("-", "−") if gain.adopted else "–"
            row.show_value(value, "%", f"±{digits(100 * gain.std, 1)}", gain.best.origin)

    def read_out(self) -> ReadOut:
        m = self.session.axis.machine
        poles = [m.R.value / (math.tau * L.value) for L in (m.Lq, m.Ld)]
        printed = [m.R.printed.value / (math.tau * L.printed.value) for L in (m.Lq, m.Ld)]
        return ReadOut(
            "electrical poles, q and d",
            f"{poles[0]:.1f} and {poles[1]:.1f}",
            "Hz",
            (f"printed: {printed[0]:.1f} and {printed[1]:.1f} Hz",),
        )

    # What it does

    def _picked(self) -> None:
        for quantity, tile_button in self.tiles.items():
            if tile_button.isChecked():
                self.choose(quantity)

    def choose(self, quantity: str) -> None:
        """Open the evidence of a quantity."""
        self.chosen = quantity
        self.tiles[quantity].setChecked(True)
        self.session.set_view("identify", quantity)
        self.refresh()

    def run(self) -> None:
        """Measure the chosen quantity."""
        self._sequence = None
        self._measure(self.chosen)

    def run_all(self) -> None:
        """Measure all three in order; each that holds is adopted before the next one needs it."""
        self._sequence = list(QUANTITIES[1:])
        self._measure(QUANTITIES[0])

    def _measure(self, quantity: str) -> None:
        self.choose(quantity)
        self.bench.run(experiment_for(quantity), self._kept)
        self.refresh()

    def _kept(self, performed: Performed) -> None:
        self.refresh()
        sequence, self._sequence = self._sequence, None
        found = self.session.finding(self.chosen)
        if sequence is None or performed.run.ended != "done":
            return
        if found is None or not found[1].holds:
            return
        self.session.adopt(found[1], found[0])
        if sequence:
            self._sequence = sequence[1:]
            self._measure(sequence[0])

    def _adopt(self) -> None:
        found = self.session.finding(self.chosen)
        if found and found[1].holds:
            self.session.adopt(found[1], found[0])

    def _adopt_with_reason(self) -> None:
        found, reason = self.session.finding(self.chosen), self.reason.text().strip()
        if found is None or not reason:
            return
        run: Run = found[0]
        self.session.change_run(run.id, note=f"adopted though {found[1].failed[0].name}: {reason}")
        self.session.adopt(found[1], run)
        self.reason.clear()
