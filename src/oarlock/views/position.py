"""What the Position loop stage shows: sentences, curves, figures; pure functions of an axis."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.margins import Margins
from oarlock.control.position import Moved, MoveFigures, PositionLoop, loop_of, move_figures
from oarlock.control.position_design import (
    breaking_away,
    design_on,
    friction_of,
    position_gains,
    position_target,
)
from oarlock.control.profile import Move
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import angle_step, loop_in_use, speed_gains
from oarlock.errors import InputError
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.machine.loop import alike
from oarlock.machine.position_loop import KEY, PositionGains, PositionTarget
from oarlock.machine.with_loops import with_loops
from oarlock.quantities.display import digits, whole_degrees
from oarlock.quantities.shown import Scale, typed_in
from oarlock.views.current import UNSTABLE
from oarlock.views.numbers_of_tests import scales_of, texts
from oarlock.views.screen import MoveSettings
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import BEING_READ, Stage, State

Array = NDArray[np.float64]
LOWEST = 1.7  # Hz, where the frequency plots begin
_POINTS = 160
MOVE = "position move"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PositionPicture:
    """One state of the position loop, ready to be drawn; frequencies in Hz, angles in degrees."""

    loop: PositionLoop
    gains: PositionGains
    follows: bool  # the gains are those that the target asks for
    margins: Margins
    crossover: float
    phase_margin: float
    gain_margin: float  # dB
    quiet: float  # 1/s, the largest gain without overshoot
    quiet_crossover: float
    speed_crossover: float
    nyquist: float
    test: PositionMove
    moved: Moved
    figures: MoveFigures
    limit: float  # A
    step: float  # rad, in which the sensor tells the angle
    slip: float  # rad that it may slip about its target; 0: it is not known to stick
    f: Array
    open_gain: Array  # dB
    closed_gain: Array
    phase: Array  # degrees

    @property
    def takes(self) -> float:
        """The most current (A) that the move asks for."""
        return float(np.max(np.abs(self.moved.push)))

    @property
    def overshoots(self) -> bool:
        """Whether a plain step of position would overshoot."""
        return self.gains.Kp > 1.02 * self.quiet

    @property
    def answer(self) -> str:
        """The stage's answer in a few words."""
        hertz = f"{digits(self.crossover, 3)} Hz"
        if not self.margins.stable:
            return f"{hertz} is unstable" if math.isfinite(self.crossover) else UNSTABLE
        return f"{hertz}, {'with' if self.overshoots else 'no'} overshoot"

    @property
    def reasons(self) -> tuple[str, str]:
        """How well the move is followed, and what it takes."""
        f = self.figures
        if not self.margins.stable:
            return "It would swing up.", "Ask for less."
        first = f"The move is followed within {angle(f.following)}"
        if math.isfinite(f.settling):
            first += f", and has settled {1e3 * f.settling:.0f} ms after its end."
        else:
            first += f"; it does not settle within {angle(self.test.window)}."
        if self.takes > self.limit:
            return first, "It runs out of torque: less acceleration cures that, not less gain."
        if self.step > self.test.window:
            return first, f"The sensor tells the angle in steps of {angle(self.step)}, no finer."
        if self.slip > max(self.test.window, self.step):
            return first, f"At its target it sticks and slips by up to ±{angle(self.slip)}."
        share = 100.0 * self.takes / self.limit
        ratio = self.speed_crossover / self.crossover
        second = f"It takes {share:.0f} % of the current; the speed loop is {ratio:.2g} × faster."
        return first, second


def angle(rad: float) -> str:
    """Return an angle in degrees, as running text."""
    return f"{digits(math.degrees(rad), 2)}°"


@dataclass(frozen=True, slots=True, eq=False)
class _Base:
    """What does not change while a handle is dragged."""

    speed: SpeedLoop  # in use
    quiet: float  # 1/s, the largest gain without overshoot round it
    quiet_crossover: float  # Hz
    friction: float  # A
    sticks: float  # A, that breaking away takes more
    limit: float  # A
    step: float  # rad


@lru_cache(maxsize=8)
def _base(axis: Axis) -> _Base:
    speed = loop_in_use(axis)
    quiet = design_on(speed, PositionTarget())
    return _Base(
        speed, quiet.gains.Kp, quiet.margins.crossover / math.tau, friction_of(axis),
        breaking_away(axis), current_limit(axis), angle_step(axis),
    )  # fmt: skip


@lru_cache(maxsize=16)
def _inner(axis: Axis) -> Axis:
    return with_loops(axis, axis.loops.only(("current", "speed")))


def test_of(settings: MoveSettings, axis: Axis) -> PositionMove:
    """Return the move as it was set, or what suits the axis.

    Raises
    ------
    InputError : no inertia is known

    """
    usual = replace(_usual(_inner(axis)), **position_target(axis).ramp)
    given = {
        name: getattr(usual, name) if getattr(settings, name) is None else getattr(settings, name)
        for name in ("distance", "speed", "acceleration", "jerk_time")
    }
    return PositionMove(**given)


@lru_cache(maxsize=8)
def _usual(axis: Axis) -> Move:
    return usual_move(axis)


def designed(axis: Axis, target: PositionTarget) -> PositionGains:
    """Return the gains that a target asks for round the speed loop in use.

    Raises
    ------
    InputError : nothing to design on yet, or what cannot be met

    """
    old = position_gains(axis)
    base = _base(_inner(axis))
    share = old.speed_share if old else 1.0
    if target.crossover is None:
        return PositionGains(Kp=base.quiet, speed_share=share)
    return _designed(base.speed, target, share)


@lru_cache(maxsize=8)
def _designed(speed: SpeedLoop, target: PositionTarget, share: float) -> PositionGains:
    return design_on(speed, target, share).gains


@lru_cache(maxsize=8)
def picture(axis: Axis, settings: MoveSettings) -> PositionPicture:
    """Return the picture of the loop with the gains in use, or with those that are asked for.

    Raises
    ------
    InputError : nothing to design on yet, or a target that cannot be met where no gains are in use

    """
    if speed_gains(axis) is None:
        raise InputError("the speed loop has no gains yet", place="position loop",
                         remedy="Tune and verify the speed loop first")  # fmt: skip
    base = _base(_inner(axis))
    gains, follows = _gains_shown(axis)
    loop, test = loop_of(base.speed, gains), test_of(settings, axis)
    found = loop.margins
    move = test.move
    moved = loop.moved(move, move.duration + 0.6 * test.settle, friction=base.friction)
    omega, opened, phase = loop.on_grid(math.tau * LOWEST, _POINTS)
    drawn = np.abs([opened, opened / (1.0 + opened)])
    open_gain, closed_gain = 20.0 * np.log10(np.maximum(drawn, 1e-9))
    return PositionPicture(
        loop=loop, gains=gains, follows=follows, margins=found,
        crossover=found.crossover / math.tau,
        phase_margin=math.degrees(found.phase_margin),
        gain_margin=20.0 * math.log10(found.gain_margin)
        if math.isfinite(found.gain_margin) else math.inf,
        quiet=base.quiet,
        quiet_crossover=base.quiet_crossover,
        speed_crossover=base.speed.margins.crossover / math.tau,
        nyquist=0.5 / loop.T,
        test=test, moved=moved,
        figures=move_figures(moved.t, moved.asked, moved.position, move.duration, test.window),
        limit=base.limit,
        step=base.step,
        slip=loop.slip(base.sticks) if found.stable else 0.0,
        f=omega / math.tau,
        open_gain=open_gain,
        closed_gain=closed_gain,
        phase=np.degrees(phase),
    )  # fmt: skip


def _gains_shown(axis: Axis) -> tuple[PositionGains, bool]:
    """Return the gains in use, or those that are asked for; and whether both are the same."""
    gains = position_gains(axis)
    try:
        wanted = designed(axis, position_target(axis))
    except InputError:
        if gains is None:
            raise
        return gains, False
    return gains or wanted, gains is None or alike(gains, wanted)


def crossing_at(axis: Axis, omega: float | None) -> PositionTarget:
    """Return the axis's target with another crossover (rad/s); None: without overshoot."""
    return replace(position_target(axis), crossover=omega)


def dragged(axis: Axis, hertz: float, shown: PositionPicture) -> PositionTarget:
    """Return the target of a dragged handle, held below the speed loop's crossover."""
    most = 0.8 * shown.speed_crossover
    return crossing_at(axis, math.tau * min(max(hertz, 0.05), most))


def with_ramp(axis: Axis, test: PositionMove) -> Axis:
    """Return the axis moving by the ramp of a test: its speed, acceleration and jerk time."""
    target = replace(position_target(axis), speed=test.speed, acceleration=test.acceleration,
                     jerk_time=test.jerk_time or None)  # fmt: skip
    return replace(axis, loops=axis.loops.with_target(KEY, target))


def is_ramp(axis: Axis, test: PositionMove) -> bool:
    """Return whether a test moves by the axis's own ramp."""
    return dict(position_target(axis).ramp) == dict(position_target(with_ramp(axis, test)).ramp)


# The test as text and back

TEST_LABELS = {"distance": "Distance", "speed": "Top speed", "acceleration": "Acceleration",
               "jerk_time": "Jerk time"}  # fmt: skip


def test_texts(test: PositionMove, speeds: Sequence[Scale]) -> dict[str, tuple[str, str]]:
    """Return the numbers of a move as text, each with its unit; speeds in the first of theirs."""
    return texts({name: getattr(test, name) for name in TEST_LABELS}, speeds)


def with_number(
    settings: MoveSettings, name: str, text: str, speeds: Sequence[Scale]
) -> MoveSettings:
    """Return settings with one number of the move as it was typed.

    Raises
    ------
    InputError : not a number, or none that a move can have

    """
    label, value = TEST_LABELS[name], typed_in(text, scales_of(name, speeds))
    least = -math.inf if name == "distance" else 0.0
    if not (value >= least and (value != 0.0 or name == "jerk_time")):
        raise InputError(f"{label.lower()} {text} makes no move", place=label)
    return replace(settings, **{name: value})


# The rail


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage, where the loop has gains."""
    axis = now.axis
    try:
        shown = picture(axis, now.screen.move)
    except InputError:
        return _stage("no answer", "open it to see why", State.ATTENTION)
    over = "overshoots" if shown.overshoots else "no overshoot"
    line = f"{digits(shown.crossover, 2)} Hz, {over}"
    if not shown.margins.stable:
        return _stage(line, "unstable", State.ATTENTION)
    proof = now.tested(MOVE)
    if proof is None and now.is_being_read(MOVE):
        return _stage(line, BEING_READ, State.EMPTY)
    if proof is None:
        old = now.latest(MOVE)
        return _stage(line, "stale: gains changed" if old else "not verified",
                      State.STALE if old else State.EMPTY)  # fmt: skip
    if not proof[1].holds:
        return _stage(line, "move differs from plan", State.ATTENTION)
    return _stage(line, f"verified {proof[0].started[11:16]}", State.VALID)


def _stage(line: str, basis: str, state: State) -> Stage:
    return Stage(key=KEY, name="Position loop", line=line, basis=basis,
                 measured=state is State.VALID, state=state)  # fmt: skip


def margin_text(shown: PositionPicture) -> str:
    """Return the phase margin as text."""
    return f"{whole_degrees(shown.phase_margin)}°"
