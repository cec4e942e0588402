"""The Position loop stage: how soon the shaft stands where it should."""

import math
from dataclasses import replace

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QLabel

from oarlock.control.position_design import position_gains, position_target
from oarlock.control.speed_design import speed_gains
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.loops.position_move import PositionMove
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.machine import Axis
from oarlock.machine.position_loop import KEY, PositionTarget
from oarlock.quantities.display import digits
from oarlock.session.perform import Performed
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button, row_of
from oarlock.ui.kit.numbers import GivenRow
from oarlock.ui.stages.base import Around, ReadOut
from oarlock.ui.stages.by_hand import ByHand
from oarlock.ui.stages.outer_loop import OuterLoopStage
from oarlock.ui.stages.position.move_block import MoveBlock
from oarlock.ui.stages.position.pictures import (
    HIGHEST,
    LandingPlot,
    MovePlot,
    PositionGainPlot,
    PositionPhasePlot,
    move_curves,
)
from oarlock.views.position import (
    LOWEST,
    MOVE,
    PositionPicture,
    angle,
    crossing_at,
    designed,
    dragged,
    margin_text,
    picture,
    with_number,
    with_ramp,
)
from oarlock.views.position_sweep import position_swept
from oarlock.views.speed_ramp import ahead_of, share_of, with_ahead
from oarlock.views.typed_gains import BY_HAND, typed, with_gain

_BAR = 40  # px


class PositionStage(OuterLoopStage):
    """Gain and phase under the strip, the landing beside them, the whole move below."""

    key = KEY
    question = "How soon does it stand where it should?"
    handle = KEY
    loop_name = "position loop"
    f5 = "Run the move"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        self._x_of = around.x_of
        self.shown: PositionPicture | None = None
        self.gain_plot, self.phase_plot = PositionGainPlot(), PositionPhasePlot()
        self.landing = LandingPlot()
        self.moves = (MovePlot("speed", "rpm"), MovePlot("behind", "°"),
                      MovePlot("current", "A", last=True))  # fmt: skip
        self.plots = (self.gain_plot, self.phase_plot, self.landing, *self.moves)
        for plot in self.plots:
            plot.setParent(self)
        for frequency in (self.gain_plot, self.phase_plot):
            frequency.dragged.connect(self.drag_to)
            frequency.released.connect(self.end_drag)
        self.start = button("Run move  F5", primary=True)
        self.start.setParent(self)
        self.start.clicked.connect(self.run)
        self.hand = button("By hand")
        self.hand.setParent(self)
        self.by_hand = ByHand(
            self.session,
            self.bench,
            self.hand,
            self._test,
            self._in_use,
            lambda text, calm: self._say_below(text, calm=calm),
        )
        self._note = QLabel(self)
        self._note.setFont(look.font(look.SMALL))
        self._note.setWordWrap(True)
        self._make_numbers()

    def _make_numbers(self) -> None:
        panel = self.numbers
        given = panel.block("You give", "or one number")
        self.quiet = button("no overshoot")
        self.quiet.setCheckable(True)
        self.quiet.clicked.connect(lambda: self.take(crossing_at(self.session.axis, None)))
        given.add(row_of([self.quiet]))
        self.given = GivenRow("Crossover", "Hz")
        self.given.given.connect(self.give)
        given.add(self.given)
        self._message = QLabel()
        self._message.setWordWrap(True)
        self._message.setFont(look.font(look.SMALL))
        self._message.setStyleSheet(f"color: {look.theme().attention.name()}")
        self._message.hide()
        given.add(self._message)
        gains = panel.block("Gains", "P with what is asked ahead")
        self.Kp = GivenRow("K~p~", "1/s", choice=False)
        self.Kp.setToolTip("rad/s asked for each rad of error")
        self.Kp.given.connect(self.set_gain)
        gains.add(self.Kp)
        self.share = GivenRow("Speed ahead", "of it", choice=False)
        self.share.setToolTip("Share of the move's speed that is asked for ahead of the error")
        self.share.given.connect(lambda text: self._share(text, "speed"))
        self.feed = GivenRow("Torque ahead", "× J", choice=False)
        self.feed.setToolTip("Share of the torque that the move's acceleration needs")
        self.feed.given.connect(lambda text: self._share(text, "torque"))
        gains.add(self.share)
        gains.add(self.feed)
        self.block = MoveBlock(panel, self._set, self.keep_ramp)
        self.test, self.ramp = self.block.rows, self.block.ramp
        rests = panel.block("It rests on")
        self._speed, self._weight = rests.row("Speed loop"), rests.row("Its weight")
        self._shaft = rests.row("Shaft swings at")
        self._slip = rests.row(
            "Slips",
            "Where breaking away takes more torque than turning, an integral makes the shaft\n"
            "stick and slip about its target by up to this much; a stiffer loop makes it less",
        )
        panel.finish()

    # Geometry

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay_out()

    def lay_out(self) -> None:
        """Put the frequency plots under their part of the strip, the rest beside and below."""
        left = round(self._x_of(LOWEST)) - look.RAIL - 56
        right = round(self._x_of(HIGHEST)) - look.RAIL
        w, h = self.width(), self.height()
        times = round(0.43 * (h - _BAR))
        split = round(0.62 * times)
        for plot, top, bottom in ((self.gain_plot, 8, split), (self.phase_plot, split + 4, times)):
            plot.setGeometry(left, top, right - left, bottom - top)
        self.said_left = right + 20
        self.landing.setGeometry(right + 8, 100, w - right - 12, times - 100)
        each = (h - _BAR - times - 12) / 3.3
        y = float(times + 8)
        for move, part in zip(self.moves, (1.0, 1.0, 1.3), strict=True):
            move.setGeometry(4, round(y), w - 12, round(part * each) - 2)
            y += part * each
        self.start.setGeometry(look.MARGIN, h - _BAR + 4, 124, 28)
        self.hand.setGeometry(look.MARGIN + 132, h - _BAR + 4, 150, 28)
        self._note.setGeometry(look.MARGIN + 294, h - _BAR + 2, w - 334, _BAR - 4)
        self.update()

    # What it shows

    def refresh(self) -> None:
        axis = self.session.axis
        try:
            shown = picture(axis, self.session.screen.move)
        except InputError as error:
            self._show_nothing(error)
            return
        if self.shown is not None and self.shown is not shown:
            self.by_hand.disarm()
        self.shown = shown
        for plot in self.plots:
            plot.show()
        result = self._proof()
        verified = result is not None and result.holds
        sweep = position_swept(self.session.now, shown)
        self.gain_plot.show_gain(shown, sweep, verified=verified)
        self.phase_plot.show_phase(shown, sweep, verified=verified)
        before = [r for r in self.bench.hand.before(MOVE) if isinstance(r, MoveResult)]
        self.landing.show_landing(shown, result, before)
        move_curves(shown, result, self.moves)
        self._show_numbers(shown, axis)
        self.start.setEnabled(True)
        self.hand.setEnabled(True)
        if not self.session.dragging:
            self.rest()
        self.by_hand.refresh()
        self._say(shown, result)

    def rest(self) -> None:
        if self.shown is not None and not self.by_hand.active:
            self._announce(self.shown, self.session.axis)

    def _announce(self, shown: PositionPicture, axis: Axis) -> None:
        """Say beforehand what would happen."""
        try:
            self._say_below(
                announced(shown.test, axis.with_loop_gains(KEY, shown.gains)), calm=True
            )
        except InputError as error:
            self._say_below(str(error), calm=False)

    def _proof(self) -> MoveResult | None:
        """Return what was measured with these gains; by hand it is the newest answer."""
        if self.bench.hand.kind == MOVE:
            newest = self.bench.hand.newest(MOVE)
            return newest if isinstance(newest, MoveResult) else None
        found = self.session.now.tested(MOVE)
        return found[1] if found is not None and isinstance(found[1], MoveResult) else None

    def _say(self, shown: PositionPicture, result: MoveResult | None) -> None:
        first, second = shown.reasons
        if result is not None and not result.holds:
            second = f"{result.said}."
        if not shown.follows:
            second = BY_HAND
        self.say(shown.answer, first, second)

    def _say_below(self, text: str, *, calm: bool) -> None:
        t = look.theme()
        self._note.setText(self.in_units(text))
        self._note.setStyleSheet(f"color: {(t.ink if calm else t.attention).name()}")

    def _show_nothing(self, error: InputError) -> None:
        """Say what is missing before there can be a loop."""
        self.shown = None
        for plot in self.plots:
            plot.hide()
        self.start.setEnabled(False)
        self.hand.setEnabled(False)
        self._say_below("", calm=True)
        self.said_left = look.MARGIN
        self.say("No position loop yet", f"{error.cause[:1].upper()}{error.cause[1:]}.",
                 f"{error.remedy}.")  # fmt: skip

    def _show_numbers(self, shown: PositionPicture, axis: Axis) -> None:
        target = position_target(axis)
        given = target.crossover is not None
        self.quiet.setChecked(shown.follows and not given)
        self.given.show_value(digits(shown.crossover, 3), chosen=shown.follows and given)
        self.Kp.show_value(digits(shown.gains.Kp, 3), chosen=False)
        self.share.show_value(digits(shown.gains.speed_share, 2), chosen=False)
        speed = speed_gains(axis)
        if speed is not None:
            share = ahead_of(axis, speed)
            self.feed.show_value("–" if share is None else digits(share, 2), chosen=False)
            color = "ink" if speed.weight >= 0.99 else "attention"
            self._weight.show_value(digits(speed.weight, 2), "", color=color)
        self.block.show_move(shown.test, axis)
        self._speed.show_value(digits(shown.speed_crossover, 3), "Hz")
        self._slip.show_value(f"±{digits(math.degrees(shown.slip), 2)}" if shown.slip else "–",
                              "°" if shown.slip else "")  # fmt: skip
        anti = shown.loop.speed.plant.shaft.anti_resonance
        self._shaft.show_value(digits(anti / math.tau, 3) if anti else "rigid",
                               "Hz" if anti else "")  # fmt: skip

    def read_out(self) -> ReadOut:
        shown = self.shown
        if shown is None:
            return ReadOut("position loop, crossover", "–", "Hz")
        return ReadOut(
            "position loop, crossover",
            digits(shown.crossover, 3),
            "Hz",
            (f"**margin {margin_text(shown)}, behind {angle(shown.figures.following)}**",
             f"a step overshoots from {digits(shown.quiet_crossover, 2)} Hz"),
        )  # fmt: skip

    # What it does

    def _with(self, target: PositionTarget) -> Axis:
        """Return the axis designed for a target.

        Raises
        ------
        InputError : it cannot be met

        """
        axis = self.session.axis
        loops = axis.loops.with_target(KEY, target).with_gains(KEY, designed(axis, target))
        return replace(axis, loops=loops)

    def tell(self, text: str) -> None:
        """Show why something cannot be, or nothing."""
        self._message.setText(text)
        self._message.setVisible(bool(text))

    def rings(self) -> tuple[float, ...]:
        settings = self.session.screen.move
        return tuple(picture(axis, settings).crossover for axis in self.bench.hand.sides(MOVE))

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

    def take(self, target: PositionTarget) -> None:
        """Take a target."""
        self.edit("Set the position loop's target", lambda: self._with(target))
        self.refresh()

    def give(self, text: str) -> None:
        """Take a crossover that was typed."""

        def made() -> Axis:
            value = typed(text, "Hz")
            if value <= 0.0:
                raise InputError(f"a crossover of {text}", remedy="It lies above zero")
            return self._with(crossing_at(self.session.axis, math.tau * value))

        self.edit("Set the position loop's crossover", made)

    def keep_ramp(self) -> None:
        """Make the ramp of the move that is set the axis's own, to be handed over."""
        test = self._test()
        if test is not None:
            self.edit("Set the axis's ramp", lambda: with_ramp(self.session.axis, test))

    def _test(self) -> PositionMove | None:
        """Return the move that is set, where there is anything to move by."""
        return self.shown.test if self.shown is not None else None

    def set_gain(self, text: str) -> None:
        """Take a gain that was typed, past the target."""

        def made() -> Axis:
            axis = self._in_use()
            gains = position_gains(axis)
            assert gains is not None
            return with_gain(axis, KEY, gains, "Kp", text)

        self.edit("Set Kp of the position loop", made)

    def _share(self, text: str, which: str) -> None:
        """Take a share that is asked ahead: of the speed, or of the torque."""

        def made() -> Axis:
            axis = self._in_use()
            gains = position_gains(axis)
            assert gains is not None
            if which == "speed":
                return axis.with_loop_gains(KEY, replace(gains, speed_share=share_of(text)))
            return with_ahead(axis, text)

        self.edit(f"Set the {which} ahead", made)

    def _set(self, name: str, text: str) -> None:
        """Take a number of the move."""
        try:
            move = with_number(self.session.screen.move, name, text, units.speeds())
            self.session.show(move=move)
        except InputError as error:
            self.tell(str(error.cause))
            return
        self.tell("")
        self.refresh()

    def _in_use(self) -> Axis:
        """Return the axis with the gains that are shown taken into use.

        Raises
        ------
        InputError : there are none

        """
        axis = self.session.axis
        if position_gains(axis) is not None:
            return axis
        return axis.with_loop_gains(KEY, picture(axis, self.session.screen.move).gains)

    def run(self) -> None:
        """Play the move that is set."""
        if self.shown is None:
            return
        self.session.edit("Take the designed gains of the position loop", self._in_use())
        self.bench.run(self.shown.test, self._kept)

    def _kept(self, _performed: Performed) -> None:
        self.refresh()


STAGE = PositionStage
