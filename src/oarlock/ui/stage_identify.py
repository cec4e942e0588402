"""The Identify stage: what is really on the cable, and whether it can be believed."""

import math
from collections.abc import Callable

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QLabel, QLineEdit

from oarlock.drive.steps import problems
from oarlock.errors import InputError
from oarlock.identify.experiments import announcement
from oarlock.quantities.display import digits
from oarlock.records import Run
from oarlock.session.bench import Bench
from oarlock.session.identify_view import (
    Tile,
    answer,
    compared,
    consequences,
    tiles,
)
from oarlock.session.perform import QUANTITIES, Performed, experiment_for
from oarlock.session.session import Session
from oarlock.ui import theme as look
from oarlock.ui.identify_plots import EvidencePlot, ResidualPlot
from oarlock.ui.identify_widgets import CheckList, Consequences, Forest, TileButton
from oarlock.ui.stage import StageView, button
from oarlock.ui.strip import ReadOut

_SHORT = {"resistance": "resistance", "inductance_d": "Ld", "inductance_q": "Lq"}


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
        self._zero = conditions.row("Angle zero", "Electrical, as Sensing found it")
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
            plan = experiment_for(self.chosen, held=self.bench.braked).plan(self.session.axis)
        except InputError as error:
            self.note.setText(str(error))
            return
        blocked = [text for text in problems(plan, self.session.axis) if "Sensing" in text]
        if blocked:
            self.note.setText(f"Not yet: it {blocked[0]}.")
            self.measure.setEnabled(False)
            self.measure_all.setEnabled(False)
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
        zero = session.axis.sensor.zero
        known = session.axis.sensor.is_found
        shown = f"{math.degrees(zero.value) % 360.0:.1f}" if known else "–"
        plus = f"±{2 * math.degrees(zero.std):.2f}" if known else ""
        self._zero.show_value(shown, "°", plus, zero.best.origin)
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
        self.bench.run(experiment_for(quantity, held=self.bench.braked), self._kept)
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
