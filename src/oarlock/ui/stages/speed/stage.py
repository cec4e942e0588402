"""The Speed loop stage: how stiff the speed may be held, and whether it is."""

import math
from dataclasses import replace

from PySide6.QtGui import QResizeEvent

from oarlock.control.speed_design import speed_gains
from oarlock.control.speed_ways import Way
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedTarget
from oarlock.quantities.display import digits, whole_degrees
from oarlock.session.perform import Performed
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.stages.base import Around, ReadOut
from oarlock.ui.stages.by_hand import ByHand
from oarlock.ui.stages.outer_loop import OuterLoopStage
from oarlock.ui.stages.speed.filter_edits import FilterEdits
from oarlock.ui.stages.speed.frequency_pictures import HIGHEST, SpeedGainPlot, SpeedPhasePlot
from oarlock.ui.stages.speed.measured import Measured
from oarlock.ui.stages.speed.numbers import SpeedNumbers
from oarlock.ui.stages.speed.pictures import PushPlot, StiffPlot, TrackPlot
from oarlock.ui.stages.speed.play_bar import PlayBar
from oarlock.ui.stages.speed.ramping import Ramping
from oarlock.ui.stages.speed.retuning import Retuning
from oarlock.ui.stages.speed.tuning import Tuning
from oarlock.ui.stages.speed.ways_panel import WaysPanel
from oarlock.views.speed import LOAD, STEP, SpeedPicture, designed, picture, worked_at
from oarlock.views.speed_asked import (
    OPTION_LABELS,
    TARGET_LABELS,
    aimed,
    dragged,
    target_from,
    with_observer,
    with_option,
)
from oarlock.views.speed_base import LOWEST
from oarlock.views.speed_proposal import with_way
from oarlock.views.speed_sweep import other_shaft, swept
from oarlock.views.speed_ways import against_best, cards, question
from oarlock.views.typed_gains import BY_HAND, with_gain

_TOP, _BAR = 62, 58  # px: question and answer, test bar with what it says
_TIMES = 0.43  # of the height, for the time plots and their currents


class SpeedStage(OuterLoopStage):
    """Gain and phase under their part of the strip; tracking and stiffness below."""

    key = KEY
    question = "How stiff may the speed be held?"
    handle = KEY
    loop_name = "speed loop"
    reasons_at = (380, 24)
    f5 = "Run the test of the speed loop"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        self._x_of = around.x_of
        self.shown: SpeedPicture | None = None
        self.gain_plot, self.phase_plot = SpeedGainPlot(), SpeedPhasePlot()
        self.track_plot, self.stiff_plot = TrackPlot(), StiffPlot()
        self.track_push = PushPlot("Current of the step")
        self.stiff_push = PushPlot("Current against the load")
        self.plots = (self.gain_plot, self.phase_plot, self.track_plot, self.stiff_plot,
                      self.track_push, self.stiff_push)  # fmt: skip
        for plot in self.plots:
            plot.setParent(self)
        for frequency in (self.gain_plot, self.phase_plot):
            frequency.dragged.connect(self.drag_to)
            frequency.released.connect(self.end_drag)
        self.filters = FilterEdits(self.session, self)
        self.gain_plot.filter_dragged.connect(self.filters.drag)
        self.gain_plot.filter_released.connect(self.filters.end_drag)
        self.measured = Measured(self.session, self.bench)
        self.test = PlayBar(self, self.in_units)
        self.test.asked.connect(self.run)
        self.test.changed.connect(self._settings_changed)
        self.ways = WaysPanel(self, around.jobs)
        self.ways.chosen.connect(self.use_way)
        self.ways.found.connect(self.refresh)
        self.ramping = Ramping(self.numbers, self.session, self.measured, self.edit, self._in_use,
                               self._ramp_changed, self.tell)  # fmt: skip
        self.ramping.plot.setParent(self)
        self.panel = SpeedNumbers(self.numbers, self, self.filters)
        self.tuning = Tuning(self.session, self.bench, self.test, self.ways, self._tried)
        self.retuning = Retuning(self.session, self.bench, self.test, self._tried)
        self.by_hand = ByHand(
            self.session,
            self.bench,
            self.test.hand,
            self.test.experiment,
            self._in_use,
            lambda text, calm: self.test.say(text, calm=calm),
        )
        self.test.restore(self.session.screen.speed)

    # Geometry

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay_out()

    def lay_out(self) -> None:
        """Put the frequency plots under their part of the strip, the time plots below."""
        left = round(self._x_of(LOWEST)) - look.RAIL - 56
        right = round(self._x_of(HIGHEST)) - look.RAIL
        w, h = self.width(), self.height()
        times = h - _BAR - round(_TIMES * (h - _TOP))
        split = _TOP + round(0.59 * (times - _TOP))
        self.gain_plot.setGeometry(left, _TOP, right - left, split - _TOP)
        self.phase_plot.setGeometry(left, split + 4, right - left, times - split - 8)
        self.ways.setGeometry(right + 18, _TOP, w - right - 18 - look.MARGIN, times - _TOP - 4)
        half = (w - 24) // 2
        push = times + round(0.66 * (h - _BAR - times))
        for x, speed, current in ((4, self.track_plot, self.track_push),
                                  (16 + half, self.stiff_plot, self.stiff_push)):  # fmt: skip
            speed.setGeometry(x, times + 8, half, push - times - 8)
            current.setGeometry(x, push + 2, half, h - _BAR - push - 4)
        self.ramping.plot.setGeometry(self.track_plot.geometry())
        self.test.setGeometry(look.MARGIN, h - _BAR + 4, w - 2 * look.MARGIN, _BAR - 4)

    # What it shows

    def refresh(self) -> None:
        axis = self.session.axis
        try:
            shown = picture(axis, self.measured.settings())
        except InputError as error:
            self._show_nothing(error)
            return
        if self.shown is not None and self.shown is not shown:
            self._disarm()
        self.shown = shown
        for plot in self.plots:
            plot.show()
        step, load = self.measured.proof(STEP), self.measured.proof(LOAD)
        verified = any(r is not None and r.holds for _, r in (step, load))
        sweep = swept(self.session.now, shown)
        self.gain_plot.show_gain(shown, sweep, verified=verified)
        self.phase_plot.show_phase(shown, sweep, verified=verified)
        self.track_plot.show_step(shown, step[1], step[0], self.measured.pinned(STEP))
        self.track_plot.show_trail(self.measured.before(STEP))
        self.stiff_plot.show_load(shown, load[1], load[0], self.measured.pinned(LOAD))
        self.stiff_plot.show_trail(self.measured.before(LOAD))
        scale = shown.amplitude / step[1].numbers["step"] if step[1] else 1.0
        self.track_push.show_push(shown.t, shown.push, shown.limit, step[1], scale)
        scale = shown.torque / load[1].numbers["load"] if load[1] else 1.0
        self.stiff_push.show_push(shown.t, shown.sag_push, shown.limit, load[1], scale)
        self.track_plot.setVisible(not self.ramping.active)
        self.ramping.refresh(shown, self.track_push)
        self.panel.show_numbers(shown, axis)
        measured = other_shaft(self.session.now)
        self.panel.offer_shaft(measured[1] if measured else "")
        self.test.start.setEnabled(True)
        if not self.session.dragging:
            self.rest()
        self.by_hand.refresh()
        self._say(shown, step[1], load[1])
        self._show_ways(shown)

    def rest(self) -> None:
        axis = self.session.axis
        if self.shown is None:
            return
        ready = axis if speed_gains(axis) else axis.with_loop_gains(KEY, self.shown.gains)
        quiet = self.tuning.armed or self.retuning.armed or self.by_hand.active
        self.test.show_axis(ready, self.measured.settings(), announce=not quiet)

    def _show_ways(self, shown: SpeedPicture) -> None:
        axis = self.session.axis
        if not self.session.dragging:
            self.ways.ask(question(axis, self.session.screen.speed))
        found = cards(self.ways.ways, shown.torque, axis, units.speed())
        hertz = axis.mechanics.resonance.value / math.tau

        def used(way: Way) -> bool:
            return way.stiffer == 1.0 and way.filters == shown.filters

        self.ways.show_cards(found, hertz, used)

    def use_way(self, way: Way) -> None:
        """Take the filters of a way, and the stiffest gains with them that the margin allows."""
        axis = self.session.axis
        speed = worked_at(self.session.screen.speed, axis)[0]
        self.edit(f"Use: {way.title.lower()}", lambda: with_way(axis, way, speed))

    def _show_nothing(self, error: InputError) -> None:
        """Say what is missing before there can be a loop."""
        self.shown = None
        for plot in (*self.plots, self.ramping):
            plot.hide()
        self.ways.show_cards((), 0.0, lambda _way: False)
        self.test.start.setEnabled(False)
        self.test.say("")
        self.say("No speed loop yet", f"{error.cause[:1].upper()}{error.cause[1:]}.",
                 f"{error.remedy}.")  # fmt: skip

    def _say(self, shown: SpeedPicture, step: SpeedResult | None, load: SpeedResult | None) -> None:
        first, second = shown.reasons
        if not self.ways.working:
            second = against_best(self.ways.ways, shown, self.session.axis) or second
        for result in (step, load):
            if result is not None and not result.holds:
                failed = next(check for check in result.checks if not check.passed)
                second = f"{failed.sentence}."
        if self.ramping.shown is not None:
            first, second = self.ramping.said()
        if not shown.follows:
            second = second if self.ramping.shown is not None and second else BY_HAND
        self.say(shown.answer, first, second)

    def read_out(self) -> ReadOut:
        shown = self.shown
        if shown is None:
            return ReadOut("speed loop, crossover", "–", "Hz")
        sixty, fortyfive, _ = shown.reaches
        return ReadOut(
            "speed loop, crossover",
            digits(shown.crossover, 3),
            "Hz",
            (
                f"**bandwidth {digits(shown.bandwidth, 3)} Hz, "
                f"margin {whole_degrees(shown.phase_margin)}°**",
                f"60° up to {digits(sixty, 2)} Hz, 45° to {digits(fortyfive, 2)}",
            ),
        )

    # What it does

    def _with(self, target: SpeedTarget) -> Axis:
        """Return the axis designed for a target.

        Raises
        ------
        InputError : it cannot be met

        """
        axis = self.session.axis
        speed = worked_at(self.session.screen.speed, axis)[0]
        gains = designed(axis, target, speed)
        loops = axis.loops.with_target(KEY, target).with_gains(KEY, gains)
        return replace(axis, loops=loops)

    def tell(self, text: str) -> None:
        """Show why something cannot be, or nothing."""
        self.panel.say(text)

    def rings(self) -> tuple[float, ...]:
        return self.measured.rings()

    def crossover(self) -> float | None:
        """Return where the loop on screen crosses over, Hz; None: there is none."""
        return self.shown.crossover if self.shown is not None else None

    def dragged_to(self, hertz: float) -> Axis:
        """Return the axis designed for a dragged crossover.

        Raises
        ------
        InputError : it cannot be met

        """
        assert self.shown is not None
        return self._with(dragged(self.session.axis, hertz, self.shown))

    def aim(self, name: str) -> None:
        """Take an aim: calm, even or keen."""
        self.edit(f"Aim for a {name} speed loop", lambda: self._with(aimed(name)))
        self.refresh()

    def give(self, name: str, text: str) -> None:
        """Take a figure that was typed."""
        label = f"Set {TARGET_LABELS[name][0].lower()}"
        speeds = units.speeds()
        self.edit(label, lambda: self._with(target_from(self.session.axis, name, text, speeds)))

    def set_gain(self, name: str, text: str) -> None:
        """Take a gain that was typed, past the target."""

        def made() -> Axis:
            axis = self._in_use()
            gains = speed_gains(axis)
            assert gains is not None
            return with_gain(axis, KEY, gains, name, text)

        self.edit(f"Set {name} of the speed loop", made)

    def set_option(self, name: str, text: str) -> None:
        """Take an option of the controller that was typed."""

        def made() -> Axis:
            axis = self._in_use()
            gains = speed_gains(axis)
            assert gains is not None
            return with_option(axis, gains, name, text)

        self.edit(f"Set the {OPTION_LABELS[name][0].lower()} of the speed loop", made)

    def observe(self, on: bool) -> None:
        """Have a load observer in place of the integral, or the other way round."""

        def made() -> Axis:
            axis = self._in_use()
            gains = speed_gains(axis)
            assert gains is not None
            return with_observer(axis, gains, on, worked_at(self.session.screen.speed, axis)[0])

        self.edit("Load observer in place of Ki" if on else "Ki in place of the observer", made)

    def _in_use(self) -> Axis:
        """Return the axis with the gains that are shown taken into use.

        Raises
        ------
        InputError : there are none

        """
        axis = self.session.axis
        if speed_gains(axis) is not None:
            return axis
        return axis.with_loop_gains(KEY, picture(axis, self.session.screen.speed).gains)

    def drag_filter(self, number: int, hertz: float) -> None:
        self.filters.drag(number, hertz)

    def end_filter(self) -> None:
        self.filters.end_drag()

    def use_shaft(self) -> None:
        """Take the resonance that the newest sweep showed; the gains stay as they are."""
        measured = other_shaft(self.session.now)
        if measured is not None:
            self.edit(f"Use the shaft of the sweep, {measured[1]}", lambda: measured[0])

    def run(self) -> None:
        """Play the test that is set."""
        try:
            axis = self._in_use()
        except InputError as error:
            self.test.say(str(error))
            return
        self.session.edit("Take the designed gains of the speed loop", axis)
        self.bench.run(self.test.experiment(), self._kept)

    def _kept(self, _performed: Performed) -> None:
        self.refresh()

    def _tried(self, why: str) -> None:
        """Show how a trial ended; nothing to say: its gains are in use."""
        self.refresh()
        self.panel.say(why)

    def _settings_changed(self) -> None:
        self.session.show(speed=self.test.settings)
        self._disarm()
        self.refresh()

    def _ramp_changed(self) -> None:
        self.test.restore(self.session.screen.speed)
        self._disarm()
        self.refresh()

    def _disarm(self) -> None:
        """Forget what was announced: something has changed since."""
        for one in (self.tuning, self.retuning, self.by_hand):
            one.disarm()


STAGE = SpeedStage
