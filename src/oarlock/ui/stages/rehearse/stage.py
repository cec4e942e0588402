"""The Rehearse stage: what the axis will do before the real one moves."""

import math
from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QRect
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QLabel
from shiboken6 import isValid

from oarlock.cancel import Cancel
from oarlock.errors import InputError, OarlockError
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.records import Run
from oarlock.session.jobs import Done, Failed, Stopped
from oarlock.simulate.plant_parameters import Modulation
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.rehearse.came_block import CameBlock
from oarlock.ui.stages.rehearse.closer import WIDTH, Closer
from oarlock.ui.stages.rehearse.dragging import PointDrag
from oarlock.ui.stages.rehearse.kept import Kept
from oarlock.ui.stages.rehearse.pictures import run_plots, show_many
from oarlock.ui.stages.rehearse.replayed import ReplayBlock, ReplayPlots
from oarlock.ui.stages.rehearse.ripple_block import RippleBlock
from oarlock.ui.stages.rehearse.scenario_block import ScenarioBlock
from oarlock.ui.stages.rehearse.within import WithinBlock
from oarlock.views.rehearsal import (
    RehearsePicture,
    Split,
    Varied,
    bus_gives,
    kept,
    scenario_of,
    simulated,
    split,
    varied,
)
from oarlock.views.rehearsal_drawn import (
    asked_as,
    asked_of,
    at_cursor,
    behind_in,
    curves_of,
    picked,
)
from oarlock.views.rehearse import fingerprint, unseen
from oarlock.views.replayed import ReplayPicture, replayed
from oarlock.views.scenario_edit import Handle, handles_of

_LACKS, _IDEAL = (
    "cogging, saturation beyond Ld and Lq, heat",
    "; the sensor has no faults of its own",
)
_INVERTERS = {False: "averaged", True: "switching"}
_BAR = 44  # px, under the plots
_MANY = 32  # machines
_MANY_TOLD = "Dotted: how far they reach. Dashed, amber: those that fall out. F5 shows one again."
T = TypeVar("T")


class RehearseStage(StageView):
    """A scenario at the right, linked plots of what comes of it."""

    key = "rehearse"
    f5 = "Simulate the scenario"
    question = "What will the axis do?"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        self.shown: RehearsePicture | None = None
        self._working: Cancel | None = None
        self._replayed_on: Axis | None = None
        self._cursor = 0.0
        self._over_many: tuple[str, ...] = ()  # what came of many, while they are drawn
        self._drawn_in = units.by_name()
        self.plots = run_plots()
        for plot in self.plots.values():
            plot.setParent(self)
            plot.moved.connect(self.move_cursor)
            plot.zoomed.connect(self._show_range)
            plot.hide()
        self.replay_plots = ReplayPlots(self)
        self.closer = Closer(self, around.jobs, self.move_cursor, self._range)
        self.start = button("Simulate  F5", primary=True)
        self.start.setParent(self)
        self.start.clicked.connect(self.run)
        self.vary = button(f"On {_MANY} machines", tip="Within the uncertainty of the estimates")
        self.vary.setParent(self)
        self.vary.clicked.connect(self.run_varied)
        self.over = button("Over a run", tip="Simulate a test of the drive, beside what it did")
        self.over.setParent(self)
        self.over.clicked.connect(self.replay_first)
        self.note = QLabel(self)
        self.note.setFont(look.font(look.SMALL))
        self.note.setWordWrap(True)
        self._fill()
        self.drag = PointDrag(
            self.plots["asked"], self.scenario, lambda: self._working is not None, self._preview,
            self.run,
        )  # fmt: skip

    def _fill(self) -> None:
        self.scenario = ScenarioBlock(self.numbers, self.session)
        self.scenario.edited.connect(self._edited)
        self.scenario.opened.connect(self.run)
        self.came = CameBlock(self.numbers)
        self.came.changed.connect(self._draw)
        self.ripple = RippleBlock(self.numbers)
        self.ripple.button.clicked.connect(self.run_split)
        self._within = WithinBlock(self.numbers, self.session)
        self.replays = ReplayBlock(self.numbers, self.replay)
        left = self.numbers.block("Not in this model")
        self._lacks = QLabel()
        self._lacks.setWordWrap(True)
        self._lacks.setFont(look.font(look.SMALL))
        left.add(self._lacks)
        self.numbers.finish()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        w, h, top = self.width(), self.height(), 84
        shares = (0.30, 0.20, 0.26, 0.24)
        room = h - top - _BAR
        y, beside = float(top), WIDTH if room >= 120 and w >= 2.4 * WIDTH else 0
        for plot, share in zip(self.plots.values(), shares, strict=True):
            plot.setGeometry(8, round(y), w - 16 - beside, round(share * room))
            y += share * room
        self.closer.place(QRect(w - beside, top, beside - 12, room if beside else 0))
        self.replay_plots.place(QRect(8, top, w - 16, room))
        self.start.setGeometry(look.MARGIN, h - _BAR + 8, 130, 30)
        self.vary.setGeometry(look.MARGIN + 138, h - _BAR + 8, 140, 30)
        self.over.setGeometry(look.MARGIN + 286, h - _BAR + 8, 120, 30)
        self.note.setGeometry(look.MARGIN + 416, h - _BAR + 6, w - look.MARGIN - 432, 34)

    # What it shows

    def refresh(self) -> None:
        if self._drawn_in != units.by_name():
            self._drawn_in, at = units.by_name(), self._cursor
            self.take_kept(self.kept())
            self.move_cursor(at)
        running = self._working is not None
        self.start.setEnabled(not running)
        self.vary.setEnabled(not running)
        now = self._of(self.session.axis, self.scenario.text.toPlainText())
        averaged = self.scenario.bridge is Modulation.AVERAGED
        self.plots["asked"].show_handles(self._handles)
        self._lacks.setText(_LACKS + (", switching" if averaged else "") + _IDEAL)
        self._within.mark(now)
        self.ripple.mark(now)
        self.replays.offer(list(self.session.runs))
        first = self.replays.first
        self.over.setText(f"Over run {first.id}" if first else "Over a run")
        self.over.setEnabled(first is not None and not running)
        if self.replay_plots.shown is not None:
            self.say(self.replay_plots.shown.answer, *self.replay_plots.shown.reasons)
            stale = self.session.axis != self._replayed_on
            self.note.setText("The axis has changed since: lay the run over it again" if stale else
                              f"Run {self.replay_plots.shown.run.id} over the machine as it is "
                              "known now. F5 goes back to the scenario.")  # fmt: skip
            return
        if self.shown is None:
            self.say(*unseen(self.session.now, running=running))
            return
        self.say(*(self._over_many or (self.shown.answer, *self.shown.reasons)))
        stale = self.session.screen.rehearsed.get("of") != now
        self.note.setText("Axis or scenario have changed since: simulate again" if stale else
                          _MANY_TOLD if self._over_many else
                          "Wheel or + and − show less and more time, 0 all of it. Rings and cursor "
                          "are dragged; arrows move the cursor.")  # fmt: skip

    def _of(self, axis: Axis, text: str) -> str:
        return fingerprint(axis, text, self.scenario.bridge)

    @property
    def _handles(self) -> tuple[Handle, ...]:
        return handles_of(self.scenario.text.toPlainText(), units.by_name())

    def _edited(self) -> None:
        self.plots["asked"].show_handles(self._handles)
        if self._working is None:
            self.refresh()

    def _preview(self) -> None:
        """Simulate a scenario whose point is still dragged."""
        work = partial(simulated, bridge=self.scenario.bridge, since=self.shown)
        self._begin(work, lambda found, _of: self.show_picture(found))

    def show_picture(self, shown: RehearsePicture) -> None:
        """Show what came of a scenario, its tightest moment at the cursor."""
        self.shown, self.replay_plots.shown, self._over_many = shown, None, ()
        self.replay_plots.hide()
        self.came.show_run(shown)
        self._draw()
        for plot in self.plots.values():
            plot.show_spread()
            plot.show()
        self.move_cursor(self._cursor if self.drag.active else shown.tightest)

    def _draw(self) -> None:
        """Draw what is shown over what it is compared with."""
        shown, kept = self.shown, self.came.compared
        if shown is None:
            return
        run, scales = shown.run, units.by_name()
        (_, asked), amps = asked_as(run.scenario.control, scales), units.current()
        curves = curves_of(shown, scales)
        before = curves_of(kept, scales) if kept is not None else {}
        for key, plot in self.plots.items():
            plot.show_before(kept.run.t if kept else None, [c[0] for c in before.get(key, ())])
        self.plots["current"].unit = "" if units.in_words(amps) else amps.unit
        behind = f"{behind_in(run.scenario.control, scales).unit} behind"
        text = f"{asked.unit}; amber: the shaft itself" if len(curves["asked"]) > 1 else asked.unit
        self.plots["asked"].show_run(run.t, curves["asked"], asked=asked_of(shown, scales),
                                     text=text, keep=self.drag.active)  # fmt: skip
        self.plots["behind"].show_run(run.t, curves["behind"], text=behind, keep=self.drag.active)
        self.plots["current"].show_run(run.t, curves["current"], limit=shown.limit / amps.per,
                                       text=f"limit {digits(shown.limit / amps.per, 3)} "
                                       f"{amps.unit}", keep=self.drag.active)  # fmt: skip
        given, moves = bus_gives(run)
        self.plots["volts"].show_run(run.t, curves["volts"], asked=run.limits if moves else None,
                                     limit=0.0 if moves else float(run.limits[:1].sum()),
                                     text=given, keep=self.drag.active)  # fmt: skip

    def move_cursor(self, at: float) -> None:
        """Put the cursor at a time, in all plots."""
        if self.shown is None or not self.shown.run.t.size:
            return
        self._cursor = at
        for key, texts in at_cursor(self.shown, at, units.by_name()).items():
            self.plots[key].show_cursor(at, texts)
        self.closer.follow(self.shown, at)
        self.reread.emit()

    def _range(self) -> tuple[float, float]:
        return self.plots["volts"].x_range

    def _show_range(self, low: float, high: float) -> None:
        for plot in self.plots.values():
            plot.show_range(low, high)

    def read_out(self) -> ReadOut:
        if self.shown is None or not self.shown.run.t.size:
            return ReadOut("simulated before it moves", "–", "")
        pairs = self.session.axis.machine.pole_pairs.value
        hertz = abs(picked(self.shown, self._cursor)["shaft"]) * pairs / math.tau
        return ReadOut(f"electrical frequency at {self._cursor:.2f} s", digits(hertz, 3), "Hz",
                       (f"{_INVERTERS[self.shown.run.plant.switches]} inverter",))  # fmt: skip

    @property
    def is_working(self) -> bool:
        """Whether something is being simulated."""
        return self._working is not None

    # What it does

    def run(self) -> None:
        """Simulate what the text says, in a job; once more stops it."""
        self._begin(partial(simulated, bridge=self.scenario.bridge), self._take)

    def run_varied(self) -> None:
        """Simulate it on many machines within the uncertainty of the estimates."""
        work = partial(varied, many=_MANY, bridge=self.scenario.bridge)
        self._begin(work, self._take_varied)

    def run_split(self) -> None:
        """Find what makes the torque ripple, one cause after the other."""
        self._begin(partial(split, bridge=self.scenario.bridge), self._take_split)

    def replay_first(self) -> None:
        """Replay the run that is offered first."""
        if self.replays.first is not None:
            self.replay(self.replays.first)

    def replay(self, run: Run) -> None:
        """Simulate a run of the drive and lay it over what was measured, in a job."""
        if self._working is not None:
            return
        axis, source = self.session.axis, self.session.record_source(run.id)
        self.scenario.refuse(None)
        self._working = self.around.jobs.start(
            lambda progress, cancel: replayed(run, source, axis, progress=progress, cancel=cancel),
            on_progress=self._progressed,
            on_end=lambda outcome: self._ended(
                outcome, lambda found: self._take_replay(found, axis)
            ),
            name="replay",
        )
        self.refresh()

    def _take_replay(self, found: ReplayPicture, axis: Axis | None) -> None:
        self._replayed_on = axis
        for plot in self.plots.values():
            plot.hide()
        self.closer.hide()
        self.came.show_for(replay=True)
        self.replay_plots.show_replay(found)
        self.refresh()

    def kept(self) -> object:
        return Kept(self.shown, self.replay_plots.shown, self._replayed_on, self.came.before,
                     self._within.told, bool(self._over_many), self.ripple.told)  # fmt: skip

    def take_kept(self, kept: object) -> None:
        if not isinstance(kept, Kept):
            return
        self.came.keep_again(kept.before)
        if kept.shown is not None:
            self.show_picture(kept.shown)
        if kept.replay is not None:
            self._take_replay(kept.replay, kept.replayed_on)
        self.ripple.show_again(kept.split)
        self._within.show_again(kept.varied)
        if kept.many_drawn and kept.varied is not None:
            self._draw_many(kept.varied[0])
        self.refresh()

    def _begin(self, work: Callable[..., T], take: Callable[[T, str], None]) -> None:
        if self._working is not None:
            self._working.set()
            return
        text, axis = self.scenario.text.toPlainText(), self.session.axis
        of = self._of(axis, text)
        try:
            scenario = scenario_of(text, self.session.path.parent)
        except InputError as error:
            self.scenario.refuse(error)
            return
        self.scenario.refuse(None)
        self.session.show(scenario=text)
        self._working = self.around.jobs.start(
            lambda progress, cancel: work(scenario, axis, progress=progress, cancel=cancel),
            on_progress=self._progressed,
            on_end=lambda outcome: self._ended(outcome, lambda found: take(found, of)),
            name="rehearse",
        )
        if not self.drag.active:
            self.session.runs_changed.emit()  # the rail tells what is stale now
            self.refresh()
            self.note.setText("Simulating…")

    def _progressed(self, fraction: float, doing: str) -> None:
        if not self.drag.active:
            self.note.setText(f"{doing}, {100 * fraction:.0f} %")

    def _ended(self, outcome: Done[T] | Stopped | Failed, take: Callable[[T], None]) -> None:
        self._working = None
        if not isValid(self):
            return
        self.note.setText("")
        if isinstance(outcome, Failed):
            if not isinstance(outcome.error, OarlockError):
                raise outcome.error
            self.scenario.refuse(outcome.error)
        self.refresh()
        if isinstance(outcome, Done):
            take(outcome.value)
        self.drag.go_on()

    def _take(self, found: RehearsePicture, of: str) -> None:
        """Show what it came to; `of` tells of what axis, scenario and bridge."""
        now = datetime.now().astimezone().strftime("%H:%M")
        self.session.show(rehearsed=kept(found, of, now))
        self.show_picture(found)
        self.session.runs_changed.emit()  # the rail says so
        self.refresh()

    def _take_varied(self, found: Varied, of: str) -> None:
        self._take(found.picture, of)
        self._within.show_varied(found, of)
        self._draw_many(found)
        self.refresh()

    def _draw_many(self, found: Varied) -> None:
        show_many(self.plots, found)
        believed = f"As it is believed: {found.picture.answer}."
        self._over_many = (found.sentence, found.helps or believed)

    def _take_split(self, found: Split, of: str) -> None:
        self.ripple.show_split(found, of)
        self.refresh()
        self.note.setText(found.sentence)

    def take_file(self, path: Path) -> None:
        self.scenario.open_file(path)


STAGE = RehearseStage
