"""The Identify stage: what is really on the cable, and whether it can be believed."""

import math
from collections.abc import Callable, Iterable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QLabel, QLineEdit

from oarlock.drive.dry_run import ProblemCode, problems
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.identify.experiments import announced_together, experiment_for
from oarlock.quantities.display import digits
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind
from oarlock.records import Record, Run
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.session.jobs import Doing
from oarlock.session.perform import Performed
from oarlock.session.sequence import Sequence
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.pickers import ask_file
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.identify.import_panel import ImportPanel
from oarlock.ui.stages.identify.pictures import EvidencePlot, ResidualPlot
from oarlock.ui.stages.identify.widgets import CheckList, Consequences, Forest, TileButton
from oarlock.views.identify import (
    Tile,
    agreement,
    answer,
    compared,
    consequences,
    follows,
    poles,
    resistances,
    tiles,
)

_REPEATS = 3  # runs before, drawn over one another
_ASK = "May the shaft turn?"


class IdentifyStage(StageView):
    """Tiles, one large evidence plot, checks, and what to do."""

    key = "identify"
    f5 = "Measure the chosen quantity"
    question = "What is really on the cable, and can it be believed?"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        session = self.session
        self._say = around.tell
        self.sequence: Sequence | None = None  # through all quantities
        self._asking: tuple[str, ...] = ()  # for which quantities it is open if the shaft may turn
        self.evidence, self.residual = EvidencePlot(), ResidualPlot()
        self.evidence.setParent(self)
        self.residual.setParent(self)
        self.checks = CheckList(self)
        self._group = QButtonGroup(self)
        self.tiles = {quantity: TileButton(quantity, self) for quantity in KEYS}
        for tile in self.tiles.values():
            self._group.addButton(tile)
            tile.clicked.connect(self._picked)
        chosen = session.screen.identify
        self.chosen = chosen if chosen in KEYS else KEYS[0]
        self.tiles[self.chosen].setChecked(True)
        self._make_buttons()
        self._make_numbers()

    def _make_buttons(self) -> None:
        self.measure = button("Measure", primary=True)
        self.measure_all = button("Measure all six")
        self.skip = button("Skip")
        self.import_file = button("Import…")
        self.adopt = button("Adopt", primary=True)
        self.reason = QLineEdit(self)
        self.reason.setPlaceholderText("why adopt it as it is? then Enter")
        self.reason.setFont(look.font(look.BODY))
        self.reason.setAccessibleName("Reason for adopting a finding whose checks fail")
        self.note = QLabel(self)
        self.note.setWordWrap(True)
        self.note.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.note.setFont(look.font(look.SMALL))
        for made in (self.measure, self.measure_all, self.adopt, self.skip, self.import_file):
            made.setParent(self)
        self.measure.clicked.connect(self.run)
        self.measure_all.clicked.connect(self.all_or_pause)
        self.skip.clicked.connect(self.skip_one)
        self.import_file.clicked.connect(self.ask_import)
        self.adopt.clicked.connect(self._adopt)
        self.reason.returnPressed.connect(self._adopt_with_reason)

    def _make_numbers(self) -> None:
        block = self.numbers.block("Against printed", "grey: ±10 %")
        self.forest = Forest()
        block.add(self.forest)
        self._then = self.numbers.block("If adopted, then")
        self.then = Consequences()
        self._then.add(self.then)
        conditions = self.numbers.block("Conditions", "± one std. uncert.")
        self.winding = QLineEdit()
        self.winding.setPlaceholderText("winding °C, if known")
        self.winding.setAccessibleName("Winding temperature in °C")
        self.winding.setFont(look.font(look.SMALL))
        self.winding.setFixedHeight(22)
        if self.session.screen.winding is not None:
            self.winding.setText(f"{self.session.screen.winding:g} °C")
        self.winding.editingFinished.connect(self._take_winding)
        conditions.add(self.winding)
        self._cold = conditions.row("R at 20 °C", "Copper: 0.393 % for each kelvin")
        self._hot = conditions.row("R at its hottest", "At the temperature that it may reach")
        self._stage_heat = conditions.row("Power stage", "As the drive reports it")
        self._dead = conditions.row("Dead-time loss", "For each phase, against its current")
        self._zero = conditions.row("Angle zero", "Electrical, as Sensing found it")
        self.numbers.finish()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        w, h = self.width(), self.height()
        split = w - 304
        checks, residual = (55, 70) if h < 500 else (106, 98)
        top = h - 92 - checks
        self.checks.setGeometry(look.MARGIN, top, split - 24, checks)
        self.residual.setGeometry(8, top - 4 - residual, split - 24, residual)
        self.evidence.setGeometry(8, 84, split - 24, top - 6 - residual - 84)
        self._place_buttons()
        self.note.setGeometry(look.MARGIN, h - 50, split - 24, 48)
        each = min(100, (h - 24) // len(self.tiles))
        for i, tile in enumerate(self.tiles.values()):
            tile.setGeometry(split, 12 + each * i, 288, each)

    def _place_buttons(self) -> None:
        """Give each button of the row what its text needs; the reason takes what is left."""
        x, y = look.MARGIN, self.height() - 84
        end = self.width() - 312
        third = next((b for b in (self.adopt, self.skip) if b.isVisibleTo(self)), None)
        shown = [b for b in (self.measure, self.measure_all, third, self.import_file) if b]
        wide = {b: b.sizeHint().width() for b in shown}
        for made in shown:
            if made is self.import_file and self.reason.isVisibleTo(self):
                room = end - x - wide[made] - 6
                self.reason.setGeometry(x, y, max(room, 60), 30)
                x += max(room, 60) + 6
            made.setGeometry(x, y, wide[made], 30)
            x += wide[made] + 6

    # What it shows

    def show_doing(self, doing: Doing) -> None:
        self.evidence.show_doing(doing)

    def refresh(self) -> None:
        shown = tiles(self.session.now)
        for item in shown:
            self.tiles[item.quantity].show_tile(item)
        self.say(*answer(self.session.now, shown))
        item = next(t for t in shown if t.quantity == self.chosen)
        before = self.session.now.findings(self.chosen)[:-1][-_REPEATS:]
        self.evidence.show_finding(item.finding, tuple(before))
        self.residual.show_finding(item.finding)
        self.checks.show_finding(item.finding, agreement(self.session.now, self.chosen))
        self._show_buttons(item)
        self._show_numbers(item)

    def _show_buttons(self, item: Tile) -> None:
        name = BY_KEY[self.chosen].name
        verb = f"{name[0].upper()}{name[1:]} again" if item.finding else f"Measure {name}"
        self.measure.setText(f"{verb}  F5")
        ready = self.bench.connected and not self.bench.busy
        self.measure.setEnabled(ready)
        running = self.sequence is not None and self.bench.busy
        self.measure_all.setText("Measure all six")
        if self.sequence:
            self.measure_all.setText("Go on" if self.sequence.paused else "Pause after this")
        self.measure_all.setEnabled(ready or running)
        self.skip.setVisible(self.sequence is not None and self.sequence.paused)
        open_finding = item.finding is not None and not item.adopted
        usable = item.finding is not None and bool(item.finding.estimates)
        hidden = self.skip.isVisibleTo(self)
        self.adopt.setVisible(open_finding and item.holds and not hidden)
        self.reason.setVisible(open_finding and usable and not item.holds and not hidden)
        self.adopt.setText(f"Adopt {name}")
        self._show_note()
        self._place_buttons()

    def _say_note(self, text: str, *, question: bool = False) -> None:
        """Say what starting will move, or ask whether it may; never cut."""
        t = look.theme()
        color = t.attention if question else t.ink
        self.note.setStyleSheet(f"color: {color.name()}")
        self.note.setFont(look.font(look.SMALL, bold=question))
        self.note.setText(self.in_units(text))
        self.note.setToolTip(self.note.text())

    def _show_note(self) -> None:
        if not self.bench.connected:
            self._say_note("Connect a drive in the top bar to measure, or import a recording.")
            return
        try:
            experiment = experiment_for(self.chosen, held=self.bench.braked)
            plan = experiment.plan(self.session.axis)
        except InputError as error:
            self._say_note(str(error))
            return
        found = problems(plan, self.session.axis)
        blocked = [p.sentence for p in found if p.code is ProblemCode.SENSING]
        if blocked:
            self._say_note(f"Not yet: it {blocked[0]}.")
            self.measure.setEnabled(False)
            self.measure_all.setEnabled(False)
            return
        told = announced(experiment, self.session.axis, braked=self.bench.braked)
        if self._asking:
            whole = len(self._asking) > 1
            (self.measure_all if whole else self.measure).setText("Yes, turn it")
            told = announced_together(self.session.axis, held=self.bench.braked) if whole else told
            told = f"{_ASK} {told}"
        self._say_note(told, question=bool(self._asking))

    def _show_numbers(self, item: Tile) -> None:
        session = self.session
        self.forest.show_rows([compared(session.now, quantity) for quantity in KEYS])
        rows = []
        if item.finding is not None and not item.adopted:
            rows = consequences(session.axis, item.finding)
        self._then.set_title("If adopted, then" if rows else "What follows")
        self.then.show_rows(rows or follows(session.axis))
        inv, live = session.axis.inverter, self.bench.live
        heat = f"{live.temperature}" if self.bench.connected else "–"
        self._stage_heat.show_value(heat, "°C")
        dead = inv.dead_voltage
        plus = f"±{digits(dead.std, 1)}" if dead.adopted and dead.std else ""
        self._dead.show_value(digits(dead.value, 3), "V", plus, dead.best.origin)
        zero = session.axis.sensor.zero
        known = session.axis.sensor.is_found
        shown = f"{math.degrees(zero.value) % 360.0:.1f}" if known else "–"
        plus = f"±{math.degrees(zero.std):.2f}" if known else ""
        self._zero.show_value(shown, "°", plus, zero.best.origin)
        for row, R in zip((self._cold, self._hot), resistances(session.now), strict=True):
            row.show_value(digits(R, 3) if R else "–", "Ω")

    def read_out(self) -> ReadOut:
        shown, told = poles(self.session.axis)
        return ReadOut("electrical poles, q and d", shown, "Hz", (told,))

    # What it does

    def _picked(self) -> None:
        self.choose(next(quantity for quantity, tile in self.tiles.items() if tile.isChecked()))

    def choose(self, quantity: str) -> None:
        """Open the evidence of a quantity."""
        if quantity != self.chosen:
            self._asking = ()  # what was asked about is no longer on screen
        self.chosen = quantity
        self.tiles[quantity].setChecked(True)
        self.session.show(identify=quantity)
        self.refresh()

    def run(self) -> None:
        """Measure the chosen quantity; in a sequence that waits, its next one."""
        if self.sequence and self.sequence.paused and self.chosen == self.sequence.current:
            self.sequence = self.sequence.pause(paused=False)
        else:
            self.sequence = None
        self._measure(self.chosen)

    def all_or_pause(self) -> None:
        """Measure all in order, pause before the next, or go on."""
        if self.sequence is None:
            self.run_all()
        elif self.sequence.paused:
            self.sequence = self.sequence.pause(paused=False)
            self._next()
        else:
            self.sequence = self.sequence.pause(paused=True)
            self.refresh()

    def run_all(self) -> None:
        """Measure all in order; each that holds is adopted before the next one needs it."""
        if self._must_ask(KEYS):
            return
        self.sequence = Sequence(left=KEYS)
        self._next()

    def skip_one(self) -> None:
        """Leave out what is next in the sequence and stay at the one after it."""
        if self.sequence:
            self.sequence = self.sequence.skip()
            if self.sequence.current is None:
                self.sequence = None
            else:
                self.choose(self.sequence.current)
            self.refresh()

    def _next(self) -> None:
        if self.sequence is None or self.sequence.current is None:
            self.sequence = None
            self.refresh()
        elif self.sequence.paused:
            self.choose(self.sequence.current)
        else:
            self._measure(self.sequence.current)

    def _must_ask(self, quantities: Iterable[str]) -> bool:
        """Ask once for each axis whether its shaft may turn; return whether that is open."""
        if self.session.screen.may_turn or not any(BY_KEY[key].turns for key in quantities):
            return False
        if self._asking == tuple(quantities):
            self._asking = ()
            self.session.show(may_turn=True)
            return False
        self._asking = tuple(quantities)
        self.refresh()
        return True

    def _measure(self, quantity: str) -> None:
        if self._must_ask((quantity,)):
            return
        self.choose(quantity)
        self.bench.run(experiment_for(quantity, held=self.bench.braked), self._kept)
        self.refresh()

    def _kept(self, performed: Performed) -> None:
        self.refresh()
        if self.sequence is None:
            return
        found = self.session.now.finding(self.sequence.current or self.chosen)
        if performed.run.ended != "done" or found is None or not found[1].holds:
            # It waits there: measure it again, or skip it.
            self.sequence = self.sequence.pause(paused=True)
            self.refresh()
            return
        self.session.adopt(found[1], found[0])
        self.sequence = self.sequence.finished()
        self._next()

    def _take_winding(self) -> None:
        text = self.winding.text().strip()
        if not text:
            return
        try:
            value = parse(Kind.TEMPERATURE, text).value
        except InputError as error:
            self._say(str(error))
            return
        self.session.show(winding=value)
        self.refresh()

    def ask_import(self) -> None:
        """Ask for a recording and show what is in it before it is read."""
        kinds = "Recordings (*.csv *.txt *.tsv *.dat);;All (*)"
        ask_file(self, "Import a recording", str(self.session.path.parent), kinds, self.open_import)

    def take_file(self, path: Path) -> None:
        self.open_import(path)

    def open_import(self, path: Path) -> "ImportPanel | None":
        """Open the preview of a recording."""
        try:
            panel = ImportPanel(path, self.chosen, self.session.axis, self)
        except InputError as error:
            self._say(str(error))
            return None
        panel.accepted_source.connect(self._imported)
        panel.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        panel.show()
        return panel

    def _imported(self, source: Callable[[], Record]) -> None:
        self.bench.read(source, self.session.axis, self._kept_import)

    def _kept_import(self, performed: Performed) -> None:
        if performed.run.kind in KEYS:
            self.choose(performed.run.kind)
        if performed.reading is None:
            self._say(performed.run.ended)
        self.refresh()

    def _adopt(self) -> None:
        found = self.session.now.finding(self.chosen)
        if found and found[1].holds:
            self.session.adopt(found[1], found[0])

    def _adopt_with_reason(self) -> None:
        found, reason = self.session.now.finding(self.chosen), self.reason.text().strip()
        if found is None or not reason:
            return
        run: Run = found[0]
        self.session.change_run(run.id, note=f"adopted though {found[1].failed[0].code}: {reason}")
        self.session.adopt(found[1], run)
        self.reason.clear()


STAGE = IdentifyStage
