"""The Sensing stage: whether the currents and the angle can be trusted.

Above the waterline nothing turns. What lies below is offered once all above it holds.
"""

import math

import numpy as np
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QButtonGroup
from shiboken6 import isValid

from oarlock.drive.link import Live
from oarlock.errors import InputError
from oarlock.experiments.registry import gives_nothing
from oarlock.experiments.sensing.evidence import TurnError
from oarlock.machine import SensorKind
from oarlock.quantities.display import digits
from oarlock.session.jobs import Doing, Done, Failed, Stopped
from oarlock.session.perform import Performed
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import line
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.sensing.in_use import InUse
from oarlock.ui.stages.sensing.panels import Checks, Orders, Sources
from oarlock.ui.stages.sensing.widgets import Choice, StepCard, Waterline
from oarlock.views.sensing import (
    SensingStep,
    answer,
    experiment_of,
    kinds_for,
    may_adopt,
    needed_for,
    steps,
    zero_sources,
)
from oarlock.views.sensing_experiments import (
    HAND,
    PULSES,
    PUSH,
    REST,
    SEARCH,
    SPIN,
    START,
    TURN,
    breakaway,
    start_is_known,
    start_key,
    work_out_start,
)

_ABOVE = (REST, PULSES, HAND)
_SHARED = (SEARCH, SPIN, START)
_WORDS = {SEARCH: "hardly moves", SPIN: "first spin", START: "no sensor"}
_TOP, _CARD = 82, 170


class SensingStage(StageView):
    """Cards for each step, in the order in which they may be done."""

    key = "sensing"
    f5 = "Do the next step of sensing"
    question = "Can the currents and the angle be trusted?"
    lane = "drive"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        session = self.session
        self._say, self._jobs = around.tell, around.jobs
        self._working_out: object = None
        self.water = Waterline(self)
        self.cards: dict[str, StepCard] = {}
        self.running = ""
        self._group = QButtonGroup(self)
        self.choices: dict[str, Choice] = {}
        for kind in kinds_for(session.axis):
            card = self.cards[kind] = StepCard(kind, self)
            card.asked.connect(self.do)
            if kind in _SHARED:
                choice = self.choices[kind] = Choice(kind, _WORDS[kind], self)
                self._group.addButton(choice)
                choice.clicked.connect(self._chosen)
        shown = session.screen.sensing
        self.shared = shown if shown in self.choices else next(iter(self.choices))
        self.choices[self.shared].setChecked(True)
        self._make_numbers()

    # Layout

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def _lay_out(self) -> None:
        w, h = self.width(), self.height()
        gap, left = 16, look.MARGIN
        above = [kind for kind in _ABOVE if kind in self.cards]
        wide = (w - 2 * left - gap * (len(above) - 1)) / max(len(above), 1)
        for n, kind in enumerate(above):
            x = left + n * (wide + gap)
            self.cards[kind].setGeometry(round(x), _TOP, round(wide), _CARD)
        sea = _TOP + _CARD + 2
        self.water.setGeometry(0, sea, w, h - sea)
        top = sea + 32
        room = h - top - 4
        third = 224
        main = [kind for kind in (TURN, PUSH) if kind in self.cards]
        rest = w - 2 * left - third - gap
        widths = {TURN: 0.56 * (rest - gap), PUSH: 0.44 * (rest - gap)}
        x = float(left)
        for kind in main:
            self.cards[kind].setGeometry(round(x), top, round(widths[kind]), room)
            x += widths[kind] + gap
        if not main:
            third, x = w - 2 * left, float(left)
        for kind in self.choices:
            self.cards[kind].setGeometry(round(x), top, third, room)
            self.cards[kind].setVisible(kind == self.shared)
        # The choice stands on the line, over the place it governs.
        for choice in self.choices.values():
            choice.setGeometry(round(x), top - 26, choice.wide(), 22)
            x += choice.wide() + 2
            choice.raise_()
        for card in self.cards.values():
            card.raise_()

    def _chosen(self) -> None:
        for kind, choice in self.choices.items():
            if choice.isChecked():
                self.choose(kind)

    def choose(self, kind: str) -> None:
        """Show one of the steps that share a place."""
        self.shared = kind
        self.choices[kind].setChecked(True)
        self.session.show(sensing=kind)
        self._lay_out()
        self.refresh()

    # Numbers

    def _make_numbers(self) -> None:
        self._sources = Sources()
        if self.session.axis.sensor.kind in (SensorKind.RESOLVER, SensorKind.ENCODER):
            block = self.numbers.block("The zero, by each way", "electrical")
            block.add(self._sources)
        self._orders = Orders()
        if self.session.axis.sensor.kind in (SensorKind.RESOLVER, SensorKind.ENCODER):
            block = self.numbers.block("Error by order", "a turn")
            block.add(self._orders)
        self._used = InUse(self.numbers)
        checks = self.numbers.block("Look first at")
        self._checks = Checks()
        checks.add(self._checks)
        self.numbers.finish()

    # What it shows

    def refresh(self) -> None:
        session = self.session
        self._work_out()
        made = steps(session.now)
        self.say(*answer(session.now, made))
        ready = self.bench.connected and not self.bench.busy
        wanted = self._next(made)
        for kind, card in self.cards.items():
            card.show_step(
                made[kind], session.axis, ready=ready, running=self.running == kind,
                primary=kind == wanted,
            )  # fmt: skip
        self._show_water(made)
        self._show_numbers(made)

    def _work_out(self) -> None:
        """Have the settings for running without a sensor worked out, aside."""
        key = start_key(self.session.now)
        if self._working_out == key or start_is_known(self.session.now):
            return
        self._working_out = key
        self._jobs.start(
            lambda _progress, _cancel: work_out_start(key),
            on_end=self._worked_out,
            name="work out a start",
        )

    def _worked_out(self, outcome: Done[None] | Stopped | Failed) -> None:
        if isinstance(outcome, Done) and isValid(self):
            self.refresh()

    def _show_water(self, made: dict[str, SensingStep]) -> None:
        above = [made[kind] for kind in _ABOVE if kind in made]
        numbers = [step.title.split()[0] for step in above]
        broken = next((step for step in above if not step.holds), None)
        listed = f"{', '.join(numbers[:-1])} and {numbers[-1]}"
        if broken is None:
            text = f"{listed} hold: the shaft may turn"
            most = self.session.axis.rated
            more = f"never past {digits(1.3 * most, 2)} A; Esc stops it at once"
        else:
            verb = "does not hold" if broken.finding and not broken.finding.holds else "is not done"
            verb = "is stale" if broken.stale and broken.finding and broken.finding.holds else verb
            text = f"Step {broken.title.split()[0]} {verb}: the shaft may not turn yet"
            more = f"below is offered once {listed} hold"
        if not self.bench.connected:
            more = "connect a drive in the top bar first"
        self.water.show_state(text, more, is_open=broken is None)

    def _show_numbers(self, made: dict[str, SensingStep]) -> None:
        axis = self.session.axis
        self._sources.show_sources(zero_sources(self.session.now))
        turn = made[TURN].finding if TURN in made else None
        self._orders.show_orders(turn, made[HAND].finding if HAND in made else None)
        self._used.show_axis(axis, made, breakaway(self.session.now))
        failed = next((s for s in made.values() if s.finding and not s.finding.holds), None)
        self._checks.show_step(failed)

    def show_live(self, live: Live) -> None:
        for card in self.cards.values():
            card.show_live(live)

    def show_doing(self, doing: Doing) -> None:
        if not doing.text and self.running:
            self.running = ""  # it ended, whichever way
            self.refresh()
        for card in self.cards.values():
            card.show_doing(doing)

    def read_out(self) -> ReadOut:
        found = self.session.now.finding(TURN)
        if found and isinstance(found[1].evidence, TurnError):
            largest = int(np.argmax(found[1].evidence.orders)) + 1
            m = self.session.axis.machine
            hertz = largest * m.max_speed.value / math.tau
            return ReadOut(
                f"order {largest} a turn at {units.speed().text(m.max_speed.value)}",
                digits(hertz, 3),
                "Hz",
                ("the angle's largest error meets", "a resonance where it passes it"),
            )
        rated = self.session.axis.machine.rated_current
        most = digits(0.6 * rated.value, 2) if rated.is_known else "–"
        return ReadOut("largest current in a pulse", most, "A",
                       ("the shaft has not been turned",))  # fmt: skip

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        p, t = QPainter(self), look.theme()
        made = steps(self.session.now, announced=False)
        for kind in _ABOVE:
            if kind in self.cards:
                card = self.cards[kind]
                holds = made[kind].holds
                color = t.accent if holds else t.muted
                x, top = card.x() + 10, card.y() + 24
                line(p, x, top, x, _TOP + _CARD + 4, color, 2 if holds else 1)

    # What it does

    def _next(self, made: dict[str, SensingStep]) -> str:
        """Return the step that F5 does: the first that is needed and does not hold."""
        order = [kind for kind in (REST, HAND, PULSES, TURN, PUSH, SPIN) if kind in made]
        needed = needed_for(self.session.axis)
        for kind in order:
            if kind in needed and not made[kind].holds:
                return kind
        return self.shared

    def run(self) -> None:
        """Do the next step that is needed."""
        self.do(self._next(steps(self.session.now, announced=False)))

    def do(self, kind: str) -> None:
        """Start a step, if what must hold before it does."""
        step = steps(self.session.now)[kind]
        if step.waits_for or step.trouble:
            self._say(step.trouble or f"{step.title} waits for: {step.waits_for}")
            return
        try:
            experiment = experiment_of(kind, self.session.now)
        except InputError as error:
            self._say(str(error))
            return
        self.running = kind
        self.bench.run(experiment, self._kept)
        if not self.bench.busy:
            self.running = ""
        self.refresh()

    def _kept(self, performed: Performed) -> None:
        self.running = ""
        found = self.session.now.finding(performed.run.kind)
        if found and found[0].started == performed.run.started:
            run, finding = found
            if may_adopt(self.session.now, run, finding):
                self.session.adopt(finding, run)
            if finding.holds and (gives_nothing(run.kind) or not finding.estimates):
                self.session.change_run(run.id, used=True)
        self.refresh()


STAGE = SensingStage
