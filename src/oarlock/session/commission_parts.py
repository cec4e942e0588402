"""What commissioning an axis consists of, from the sensors to the position loop: one part a play.

Pure functions of a snapshot: which parts are missing, how each is prepared and played, what is
taken over from it, and how far it may move by what is known beforehand.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from oarlock.control.current import design_current
from oarlock.control.position_design import position_target
from oarlock.control.speed_design import speed_target, usual_speed
from oarlock.drive.steps import Frame, Plan
from oarlock.drive.travel import excursion
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment, Moving
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.common.repeat import gentler_tries, stronger_try
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.position_move import PositionMove
from oarlock.experiments.loops.speed_test import (
    LoadStep,
    SpeedStep,
    current_limit,
    usual_load,
    usual_step,
)
from oarlock.machine import Axis, SensorKind
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedTarget
from oarlock.machine.unknown import as_if_known
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Finding, Reading, Run
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.session.adopting import with_finding
from oarlock.views.position import designed, test_of
from oarlock.views.screen import MoveSettings
from oarlock.views.sensing import experiment_of, may_adopt, needed_for, steps
from oarlock.views.sensing_experiments import HAND, PULSES, PUSH, REST, SPIN, TURN
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed_proposal import proposed
from oarlock.views.speed_ways import question, ways

SENSING, IDENTIFY, LOOPS = "sensing", "identify", "loops"
_ROOM = 1.5  # times what is known beforehand: numbers change while they are measured
_LOOP_ROOM = 3.0  # likewise: a resonance that nobody knows of yet makes a loop slower
_UNKNOWN = 60.0  # s, of a part that cannot be planned yet
_CAUGHT = 0.1  # s, in which a rotor swings to a field by half an electrical turn


@dataclass(frozen=True, slots=True)
class Part:
    """One play: what it is, and of which kind its run is."""

    group: str  # sensing, identify, loops
    key: str
    title: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Bound:
    """How far a part may move, at most."""

    turns: float  # mechanical, either way
    speed: float  # rad/s
    current: float  # A, peak
    seconds: float

    def holds(self, other: "Bound") -> bool:
        """Return whether another movement stays within this one."""
        mine = (self.turns, self.speed, self.current, self.seconds)
        its = (other.turns, other.speed, other.current, other.seconds)
        return all(a <= 1.001 * b + 1e-9 for a, b in zip(its, mine, strict=True))

    def joined(self, other: "Bound") -> "Bound":
        """Return the most of both, one after the other."""
        return Bound(
            turns=max(self.turns, other.turns),
            speed=max(self.speed, other.speed),
            current=max(self.current, other.current),
            seconds=self.seconds + other.seconds,
        )

    @property
    def sentence(self) -> str:
        """The announcement."""
        amperes = f"{digits(self.current, 2)} A" if self.current else "no current"
        if not self.turns:
            return f"{amperes}, {self.seconds:.0f} s"
        rest = f"{amperes}, {self.seconds:.0f} s"
        if not self.speed:
            return f"stirs up to {digits(self.turns, 2)} turns, {rest}"
        return f"up to {digits(self.turns, 2)} turns, {digits(self.speed / RPM, 2)} rpm, {rest}"


STILL = Bound(turns=0.0, speed=0.0, current=0.0, seconds=0.0)
CURRENT_STEPS = {"d": "step of d current", "q": "step of q current"}
SPEED_STEP, LOAD_STEP, MOVE = SpeedStep.name, LoadStep.name, PositionMove.name


def parts(now: Snapshot, *, held: bool) -> tuple[Part, ...]:
    """Return what is to be done, in order: what is missing, then every loop.

    Parameters
    ----------
    held : whether a brake holds the shaft

    """
    axis = now.axis
    known = steps(now, announced=False)
    order = [k for k in (REST, HAND, PULSES, TURN, PUSH, SPIN) if k in needed_for(axis)]
    missing = [k for k in order if not known[k].holds]
    found = [Part(SENSING, kind, known[kind].title.lstrip("12345 ")) for kind in missing]
    found += [
        Part(IDENTIFY, key, BY_KEY[key].name)
        for key in KEYS
        if not _is_measured(axis, key) or missing
    ]
    found += [Part(LOOPS, name, CURRENT_STEPS[name]) for name in (("d", "q") if held else ("d",))]
    found += [Part(LOOPS, kind, kind) for kind in (SPEED_STEP, LOAD_STEP)]
    if axis.sensor.kind is not SensorKind.HALL:  # edges are no place to stand at
        found.append(Part(LOOPS, MOVE, MOVE))
    return tuple(found)


def _is_measured(axis: Axis, key: str) -> bool:
    return axis.is_adopted(BY_KEY[key].path)


def prepared(part: Part, now: Snapshot, check: Callable[[], None] = lambda: None) -> Axis:
    """Return the axis that a part is played with: a loop's gains are designed before its test.

    A second of work where ways round a resonance are sought; what `check` raises ends it.

    Raises
    ------
    InputError : what is known does not lead to gains

    """
    axis = now.axis
    if part.key == "d":
        return axis.with_gains(design_current(axis).gains)
    if part.key == SPEED_STEP:
        bare = _without_gains(axis)
        asked = question(bare, now.screen.speed)
        found = ways(asked, check) if asked is not None else ()
        return proposed(bare, found, usual_speed(bare))
    if part.key == MOVE:
        target = replace(position_target(axis), crossover=None)
        loops = axis.loops.with_target(POSITION, target).with_gains(POSITION, None)
        axis = replace(axis, loops=loops)
        return axis.with_loop_gains(POSITION, designed(axis, target))
    return axis


def _without_gains(axis: Axis) -> Axis:
    """Return the axis without gains and filters of its outer loops; aim and ramp stay."""
    ramp = replace(position_target(axis), crossover=None)
    loops = axis.loops.only(("current",)).with_target(SPEED, _aim(axis))
    return replace(axis, loops=loops.with_target(POSITION, ramp))


def _aim(axis: Axis) -> SpeedTarget:
    return SpeedTarget(phase_margin=speed_target(axis).phase_margin)


def experiment(part: Part, now: Snapshot, *, held: bool) -> Experiment:
    """Return what is played, sized by what is known.

    Raises
    ------
    InputError : something that sizes it is not known

    """
    axis = now.axis
    if part.group == SENSING:
        return experiment_of(part.key, now)
    if part.group == IDENTIFY:
        return experiment_for(part.key, held=held)
    speed = usual_speed(axis)
    made: dict[str, Callable[[], Experiment]] = {
        "d": lambda: usual_current_step(axis, "d"),
        "q": lambda: usual_current_step(axis, "q"),
        SPEED_STEP: lambda: SpeedStep(speed=speed, amplitude=usual_step(axis, speed)),
        LOAD_STEP: lambda: LoadStep(speed=speed, torque=usual_load(axis)),
        MOVE: lambda: test_of(MoveSettings(), axis),
    }
    return made[part.key]()


def taken(part: Part, now: Snapshot, run: Run, reading: Reading) -> Axis:
    """Return the axis with what a part found, where it is something to take over."""
    if not isinstance(reading, Finding) or not reading.estimates:
        return now.axis
    if part.group == SENSING and not may_adopt(now, run, reading):
        return now.axis
    return with_finding(now.axis, reading, run)


def trouble(run: Run, reading: Reading | None) -> str:
    """Return why a part does not hold, or nothing."""
    if run.ended != "done":
        return run.ended
    if reading is None:
        return "its record could not be read"
    if isinstance(reading, Finding):
        return reading.failed[0].sentence if reading.failed else ""
    return "" if reading.holds else reading.said


# How far it moves


def moves(played: Experiment, axis: Axis, *, held: bool) -> Bound:
    """Return how far an experiment moves at most, all that may follow it by itself included.

    A stronger try counts even where the dry run would refuse it now: it may be allowed by then.
    Gentler ones go on from where a spin was broken off.

    Raises
    ------
    InputError : it cannot be planned

    """
    once = _once(played, axis, held=held)
    more = [_once(gentler, axis, held=held).turns for gentler in gentler_tries(played, axis)]
    found = replace(once, turns=once.turns + sum(more))
    stronger = stronger_try(played)
    return found if stronger is None else found.joined(_once(stronger, axis, held=held))


def _once(played: Experiment, axis: Axis, *, held: bool) -> Bound:
    plan = played.plan(axis)
    way = excursion(plan, axis)[0].farthest
    if isinstance(played, Moving):
        told = played.movement(axis)
        return Bound(turns=way if told.what else 0.0, speed=_fastest(told, plan, axis),
                     current=told.current, seconds=max(told.seconds, plan.duration))  # fmt: skip
    # A free shaft follows the current round, in each of its tries.
    turns = 0.0 if held else 2.0 * plan.limits.travel / math.tau
    return Bound(turns=turns, speed=0.0, current=plan.largest_current, seconds=plan.duration)


def _fastest(told: Movement, plan: Plan, axis: Axis) -> float:
    """Return the most that a shaft reaches, rad/s: a rotor that a field catches swings to it."""
    caught = any(step.frame in (Frame.FIXED, Frame.CARRIED) for step in plan.steps)
    swing = math.pi / axis.machine.pole_pairs.value / _CAUGHT if caught else 0.0
    return max(told.speed, swing) if told.what else 0.0


def expected(found: tuple[Part, ...], now: Snapshot, *, held: bool) -> dict[Part, Bound]:
    """Return how far each part may move, by what is known beforehand, with room for what is found.

    What is not known is guessed from the ratings. Gains that are not designed yet are designed on
    what is known now; what cannot be planned at all is bounded by the limits of its kind.
    """
    bounds: dict[Part, Bound] = {}
    axis = as_if_known(now.axis)
    for part in found:
        try:
            axis = _designed_simply(part, axis)
            played = experiment(part, replace(now, axis=axis), held=held)
            bound = moves(played, axis, held=held)
        except InputError:
            bound = _by_kind(part, axis)
        room = _LOOP_ROOM if part.group == LOOPS else _ROOM
        bounds[part] = Bound(
            turns=room * bound.turns,
            speed=min(1.2 * bound.speed, axis.top_speed),
            current=min(1.2 * bound.current, _most_current(axis)),
            seconds=room * bound.seconds,
        )
    return bounds


def _designed_simply(part: Part, axis: Axis) -> Axis:
    """Return the axis with gains that a part's plan may be sized by, found without a search."""
    if part.key == SPEED_STEP:
        return proposed(_without_gains(axis), (), usual_speed(axis))
    return prepared(part, Snapshot(axis=axis))


def _most_current(axis: Axis) -> float:
    return axis.peak


def _by_kind(part: Part, axis: Axis) -> Bound:
    """Return the most that a part may move which cannot be planned yet."""
    turning = part.group == LOOPS or (part.group == IDENTIFY and BY_KEY[part.key].turns)
    if not turning and part.key not in (TURN, PUSH, SPIN):
        return replace(STILL, current=axis.rated, seconds=_UNKNOWN / 4.0)
    speed = 1.4 * usual_speed(axis)
    return Bound(turns=speed * _UNKNOWN / math.tau, speed=speed, current=current_limit(axis),
                 seconds=_UNKNOWN)  # fmt: skip
