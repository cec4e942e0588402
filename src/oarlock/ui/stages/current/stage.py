"""The Current loop stage: how fast the current may follow, and whether it does."""

import math

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QLabel

from oarlock.errors import InputError
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.step_response import StepResult
from oarlock.machine import Axis, TargetKind
from oarlock.machine.current_loop import KEY as CURRENT_KEY
from oarlock.quantities import Estimate
from oarlock.quantities.display import digits, sentence, whole_degrees, with_std
from oarlock.records import Run
from oarlock.session.dragging import with_current
from oarlock.session.perform import Performed
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.numbers import GivenRow, Row, Why
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.by_hand import ByHand
from oarlock.ui.stages.current.frequency_pictures import GainPlot, PhasePlot
from oarlock.ui.stages.current.pictures import StepPlot, VoltagePlot, time_span
from oarlock.ui.stages.current.sweeping import Sweeping
from oarlock.ui.stages.current.verify_bar import VerifyBar
from oarlock.views.current import (
    TARGET_LABELS,
    CurrentPicture,
    costs,
    crossover_target,
    placed_from,
    speed_limits,
    target_from,
    target_texts,
    why_Kp,
)
from oarlock.views.current import (
    picture as loop_picture,
)
from oarlock.views.current_sweep import current_swept
from oarlock.views.typed_gains import BY_HAND, with_gain

_STEP_BOTTOM = 0.62  # of the height
_VERIFY = 62  # px, for the bar that starts a step
_SWEEP = 184  # px, for the buttons that sweep


class CurrentStage(StageView):
    """Step, voltage, gain and phase of the same gains; the crossover can be dragged."""

    key = "current"
    question = "How fast may the current follow?"
    lane = "loops"
    has_line = True
    f5 = "Run the verifying step"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        session = self.session
        self._x_of = around.x_of
        self.shown: CurrentPicture | None = None
        self.step_plot, self.voltage_plot = StepPlot(), VoltagePlot()
        self.gain_plot, self.phase_plot = GainPlot(), PhasePlot()
        for plot in (self.step_plot, self.voltage_plot, self.gain_plot, self.phase_plot):
            plot.setParent(self)
        for frequency in (self.gain_plot, self.phase_plot):
            frequency.dragged.connect(self.drag_to)
            frequency.released.connect(self.end_drag)
        self.verify = VerifyBar(self)
        self.verify.asked.connect(self.run)
        self.verify.changed.connect(self._settings_changed)
        self._numbers = CurrentNumbers(self)
        self.verify.restore(session.screen.step, session.axis)
        self.sweeping = Sweeping(session, around.bench, self.verify, self)
        self.hand = button("By hand")
        self.hand.setParent(self)
        self.by_hand = ByHand(
            session,
            around.bench,
            self.hand,
            self.verify.experiment,
            self._in_use,
            lambda text, calm: self.verify.say(text, calm=calm),
        )

    # Geometry: the frequency plots sit under their own part of the strip

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay_out()

    def lay_out(self) -> None:
        """Put the frequency plots under their part of the strip, the time plots beside."""
        left = round(self._x_of(100.0)) - look.RAIL
        right = round(self._x_of(24000.0)) - look.RAIL
        h = self.height()
        split = h - 220
        self.gain_plot.setGeometry(left - 48, 0, right - left + 48, split)
        self.sweeping.move(left + 10, split - 38)
        self.hand.move(left + 10 + _SWEEP, split - 38)
        self.hand.raise_()
        self.phase_plot.setGeometry(left - 48, split + 8, right - left + 48, h - split - 8)
        width = left - 56
        step_bottom, voltage_bottom = round(_STEP_BOTTOM * h), h - _VERIFY
        self.step_plot.setGeometry(0, 98, width, step_bottom - 98)
        self.voltage_plot.setGeometry(0, step_bottom + 4, width, voltage_bottom - step_bottom - 4)
        self.verify.setGeometry(look.MARGIN, voltage_bottom + 4, width - 8, h - voltage_bottom - 6)

    def picture(self) -> tuple[CurrentPicture | None, str] | None:
        return self.shown, self.verify.axis_name

    # What it shows

    def refresh(self) -> None:
        axis = self.session.axis
        which = self.verify.axis_name
        amplitude = self.verify.amplitude
        settling = self.shown.figures.settling if self.shown else 0.0005
        try:
            shown = loop_picture(axis, which, amplitude, time_span(settling))
            if time_span(shown.figures.settling) != time_span(settling):
                shown = loop_picture(axis, which, amplitude, time_span(shown.figures.settling))
        except InputError as error:
            self.say("No gains yet", str(error))
            return
        self.shown = shown
        run, measured, when = self._measured(which)
        verified = measured is not None and measured.holds
        self.step_plot.show_step(shown, measured, when, self._pinned(which, run), self.verify.bias)
        before = [s for s in self.bench.hand.before(CurrentStep.name) if isinstance(s, StepResult)]
        self.step_plot.show_trail(which, [s for s in before if s.axis_name == which], amplitude)
        self.voltage_plot.show_voltage(shown, measured)
        seen = current_swept(self.session.now, shown)
        self.gain_plot.show_gain(shown, seen, verified=verified)
        self.phase_plot.show_phase(shown, seen, verified=verified)
        self._numbers.show_numbers(shown, axis)
        if not self.sweeping.armed or self.session.dragging:
            self.sweeping.disarm()
            if not self.by_hand.active and not self.session.dragging:
                self.verify.show_axis(axis, self.bench.braked)
        self.by_hand.refresh()
        self._say(shown, measured)

    def _measured(self, which: str) -> tuple[Run | None, StepResult | None, str]:
        """Return what was measured with these gains, and when; by hand it is the newest answer."""
        hand = self.bench.hand
        if hand.kind == CurrentStep.name:
            newest = hand.newest(CurrentStep.name)
            if isinstance(newest, StepResult) and newest.axis_name == which:
                return None, newest, "newest answer"
            return None, None, ""
        found = self.session.now.verification(which)
        if found is None:
            return None, None, ""
        return found[0], found[1], f"measured {found[0].started[11:16]}"

    def rings(self) -> tuple[float, ...]:
        shown = self.shown
        if shown is None:
            return ()
        span = float(shown.t[-1])
        return tuple(
            loop_picture(axis, shown.axis_name, shown.amplitude, span).crossover
            for axis in self.bench.hand.sides(CurrentStep.name)
        )

    def _say(self, shown: CurrentPicture, measured: StepResult | None) -> None:
        first, second = shown.reason
        if measured is not None:
            failed = [check for check in measured.checks if not check.passed]
            if measured.cut_by_bus:
                first = "The bus, not the gains, shaped this step:"
                second = f"up to {measured.linear_up_to:.2g} A it stays linear."
            elif failed:
                first, second = "Measured differs from predicted:", _short(failed[0].sentence)
        if not shown.follows:
            first = BY_HAND
        self.say(shown.answer, first, second)

    def _pinned(self, which: str, current: Run | None) -> list[tuple[str, StepResult]]:
        found = []
        for run in reversed(self.session.runs):
            step = self.session.now.step_of(run) if run.pinned else None
            if step is None or run is current or run.settings.get("axis_name") != which:
                continue
            hertz = run.figures.get("crossover", 0.0) / math.tau
            found.append((f"pinned {run.started[11:16]}, {hertz:.0f} Hz", step))
        return found[:4]

    def read_out(self) -> ReadOut:
        shown = self.shown
        if shown is None:
            return ReadOut("current loop, crossover", "–", "Hz")
        sixty, fortyfive, _ = speed_limits(shown.loop.plant.Ts)
        return ReadOut(
            "current loop, crossover",
            f"{shown.crossover:.0f}",
            "Hz",
            (
                f"**bandwidth {sentence(shown.bandwidth, 'Hz')}, "
                f"margin {whole_degrees(shown.phase_margin)}°**",
                f"60° up to {sixty:.0f} Hz, 45° to {fortyfive:.0f}",
            ),
        )

    # What it does

    def drag_to(self, hertz: float) -> None:
        """Follow the handle: a new design at every move."""
        axis = self.session.axis
        target = crossover_target(hertz, axis.inverter.Ts, override=axis.target.override_margin)
        self.session.drag(with_current(axis, target), self.handle)

    def end_drag(self) -> None:
        """Make the drag one edit."""
        if self.shown:
            self.session.end_drag(f"Set crossover to {self.shown.crossover:.0f} Hz")

    def nudge(self, ratio: float) -> None:
        """Move the crossover by a ratio, as one edit."""
        if self.shown:
            self.drag_to(self.shown.crossover * ratio)
            self.session.end_drag("Move the crossover")

    def give(self, kind: TargetKind, text: str) -> None:
        """Take a figure that the user gives; what cannot be met is said in place."""
        axis = self.session.axis
        try:
            target = target_from(kind, text, damping=axis.target.damping,
                                 override=axis.target.override_margin)  # fmt: skip
            self.session.edit(
                f"Set {TARGET_LABELS[kind][0].lower()}", self.session.with_target(target)
            )
        except InputError as error:
            self._numbers.say(f"{error.cause}. {error.remedy}".strip())
            return
        self._numbers.say("")

    def give_damping(self, text: str) -> None:
        """Take a damping of the closed loop, at the natural frequency that it has."""
        if self.shown is None:
            return
        override = self.session.axis.target.override_margin
        try:
            target = placed_from(self.shown, text, override=override)
            self.session.edit("Set the damping", self.session.with_target(target))
        except InputError as error:
            self._numbers.say(f"{error.cause}. {error.remedy}".strip())
            return
        self._numbers.say("")

    def run(self) -> None:
        """Play the step that is set."""
        try:
            self.session.edit("Take the designed gains", self._in_use())
        except InputError as error:
            self.verify.say(str(error))
            return
        self.bench.run(self.verify.experiment(), self._kept)

    def _in_use(self) -> Axis:
        """Return the axis with gains in use: the designed ones where there were none.

        Raises
        ------
        InputError : the target cannot be met

        """
        axis = self.session.axis
        return axis if axis.gains is not None else self.session.with_target(axis.target)

    def set_gain(self, name: str, text: str) -> None:
        """Take a gain that was typed, past the target; what cannot be is said in place."""
        try:
            axis = self._in_use()
            assert axis.gains is not None
            axis = with_gain(axis, CURRENT_KEY, axis.gains, name, text)
        except InputError as error:
            self._numbers.say(f"{error.cause}. {error.remedy}".strip())
            return
        self.session.edit(f"Set {name.replace('_', ' ')}", axis)
        self._numbers.say("")

    def _kept(self, _performed: Performed) -> None:
        self.refresh()

    def _settings_changed(self) -> None:
        self.sweeping.disarm()
        self.by_hand.disarm()
        self.session.show(step=self.verify.state())
        self.refresh()


def _short(text: str) -> str:
    return text.split(" from the plan")[0].split(":")[0] + "."


_GAINS = {
    "Kp_q": ("K~p~  q axis", "V/A", "Proportional gain, V for each A of error"),
    "Ki_q": ("K~i~  q axis", "V/(A·s)", "Integral gain; the zero lies on the plant's pole"),
    "Kp_d": ("K~p~  d axis", "V/A", "Proportional gain, V for each A of error"),
    "Ki_d": ("K~i~  d axis", "V/(A·s)", "Integral gain; the zero lies on the plant's pole"),
    "weight": ("Weight", "", "Share of the current asked for in the proportional part"),
}


class CurrentNumbers:
    """The four blocks: you give, gains, it costs, it rests on."""

    def __init__(self, stage: CurrentStage) -> None:
        panel = stage.numbers
        given = panel.block("You give", "any one of these")
        self.given: dict[TargetKind, GivenRow] = {}
        for kind, (label, unit) in TARGET_LABELS.items():
            row = GivenRow(label, unit)
            row.given.connect(lambda text, k=kind: stage.give(k, text))
            self.given[kind] = row
            given.add(row)
        self.damping = GivenRow("  with damping", "")
        self.damping.setToolTip("Of the closed loop's two slowest poles")
        self.damping.given.connect(stage.give_damping)
        given.add(self.damping)
        self._message = QLabel()
        self._message.setWordWrap(True)
        self._message.setFont(look.font(look.SMALL))
        self._message.setStyleSheet(f"color: {look.theme().attention.name()}")
        self._message.hide()
        given.add(self._message)
        gains = panel.block("Gains", "parallel PI")
        self._why = Why()
        self.gains: dict[str, GivenRow] = {}
        for name, (label, unit, tip) in _GAINS.items():
            typed = GivenRow(label, unit, choice=False)
            typed.setToolTip(tip)
            typed.given.connect(lambda text, n=name: stage.set_gain(n, text))
            self.gains[name] = typed
            gains.add(typed)
            if name == "Kp_q":
                gains.add(self._why)
        cost = panel.block("It costs", "all derived")
        self._linear = cost.row("Linear up to", "Beyond, the bus shapes the step")
        self._noise = cost.row("Voltage noise", "From one converter count, evenly spread")
        self._Ms = cost.row("Sensitivity M~s~", "Largest |1/(1+L)|; 1/distance of L from −1")
        rests = panel.block("It rests on")
        self._Lq, self._Ld, self._R = (rests.row(n) for n in ("L~q~", "L~d~", "R"))
        self._delay = rests.row("Delay 1.5 T~s~", "One sample to compute, half a sample of hold")
        panel.finish()

    def say(self, text: str) -> None:
        """Show why what was given cannot be, or nothing."""
        self._message.setText(text)
        self._message.setVisible(bool(text))

    def show_numbers(self, shown: CurrentPicture, axis: Axis) -> None:
        """Show a state of the loop."""
        texts = target_texts(shown)
        for kind, given in self.given.items():
            given.show_value(texts[kind], chosen=shown.follows and kind is axis.target.kind)
        placed = shown.follows and axis.target.kind is TargetKind.NATURAL_FREQUENCY
        self.damping.show_value(digits(shown.poles[1], 2), chosen=placed)
        g = shown.gains
        self._why.show_lines(*why_Kp(shown, placed=placed))
        for item in g.listed():
            places = {"Kp": 3, "Ki": 4}.get(item.key[:2], 2)
            self.gains[item.key].show_value(digits(item.value, places), chosen=False)
        cost = costs(shown, axis)
        color = "attention" if shown.cut else "ink"
        self._linear.show_value(digits(cost.linear_up_to, 3), "A", color=color)
        self._noise.show_value(digits(cost.voltage_noise, 2), "V rms")
        self._Ms.show_value(digits(cost.Ms, 3))
        m = axis.machine
        for row, estimate in ((self._Lq, m.Lq.best), (self._Ld, m.Ld.best), (self._R, m.R.best)):
            _show_estimate(row, estimate)
        self._delay.show_value(digits(1.5e6 * axis.inverter.Ts, 3), "µs")


def _show_estimate(row: Row, estimate: Estimate) -> None:
    number, plus, unit = with_std(estimate.value, estimate.std, estimate.unit)
    row.show_value(number, unit, f"±{plus}" if plus else "", estimate.origin)
    row.show_tip(f"{estimate.origin.value}: {estimate.source}")


STAGE = CurrentStage
