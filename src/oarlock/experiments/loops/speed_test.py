"""The test signals of the speed loop: a step of the speed asked for, and a step of load.

Both are played at a speed, where the shaft does not stick, with the loop's own gains and filters;
the load is a torque that the drive adds behind the controller and its filters.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.control.speed import SpeedLoop, largest_step
from oarlock.control.speed_design import Turning, loop_in_use, volts_left
from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.drive.steps import SpeedLoop as SpeedSettings
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import plain_settings
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import ramp_time, rough_inertia
from oarlock.experiments.loops.cascade import gains_for, with_speed_loop
from oarlock.experiments.loops.repeating import LEAST_REST, Repeating, cycles_within
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_ROWS = 14000
_BEFORE = 0.012  # s, recorded ahead of each step
TORQUE = 0.3  # of rated, on the way to the speed
_REPEATS = 16


def current_limit(axis: Axis) -> float:
    """Return the most (A) that the speed controller may ask for in a test."""
    return 0.8 * axis.peak


def usual_step(axis: Axis, speed: float) -> float:
    """Return a step (rad/s) that the sensor's noise does not hide and no limit shapes much.

    The bus may cut the first pulse for a sample or two: what comes of it is predicted.

    Raises
    ------
    InputError : no gains, or no inertia

    """
    turning = Turning(speed=speed)
    loop, limit = loop_in_use(axis, turning=turning), current_limit(axis)
    return step_within(loop, limit, volts_left(axis, turning), speed)


def step_within(loop: SpeedLoop, limit: float, volts: float, speed: float) -> float:
    """Return the usual step (rad/s) of a loop that turns at `speed`, rad/s.

    Parameters
    ----------
    limit, volts : A and V, as of `largest_step`

    """
    if not loop.is_stable:
        return 0.1 * abs(speed)
    linear, amps = largest_step(loop, limit, volts), largest_step(loop, limit, math.inf)
    return min(4.0 * linear, 0.6 * amps, 0.4 * abs(speed))


def usual_load(axis: Axis) -> float:
    """Return a step of load, N·m."""
    return 0.4 * axis.machine.torque_constant * axis.rated


def span_of(loop: SpeedLoop) -> float:
    """Return how long (s) a response is looked at: until the loop is through with it."""
    slow = max(loop.gains.Kp / loop.gains.Ki if loop.gains.Ki > 0.0 else 0.0,
               1.0 / loop.margins.crossover)  # fmt: skip
    return min(max(7.0 * slow, 24.0 / loop.margins.crossover, 0.04), 1.5)


@dataclass(frozen=True, slots=True, kw_only=True)
class Timing:
    """Durations in whole samples of the speed loop."""

    settle: float  # s
    before: float
    after: float
    decimation: int


def timing_at(axis: Axis, speed: float, repeats: int) -> Timing:
    """Return how long a step at a speed (rad/s) is looked at, and how finely."""
    loop = loop_in_use(axis, turning=Turning(speed=speed))
    T, divider = loop.plant.T, axis.inverter.divider
    after = math.ceil(span_of(loop) / T) * T
    before = math.ceil(_BEFORE / T) * T
    samples = repeats * (before + after) / axis.inverter.Ts
    fitting = [d for d in range(1, divider + 1) if divider % d == 0 and samples / d <= _ROWS]
    return Timing(settle=after, before=before, after=after,
                   decimation=fitting[0] if fitting else divider)  # fmt: skip


def way_to(axis: Axis, speed: float) -> Step:
    """Return the way to a speed, in whole samples of the speed loop: all steps begin with one."""
    steep = TORQUE * axis.machine.torque_constant * axis.rated
    steep /= rough_inertia(axis)
    T = axis.inverter.divider * axis.inverter.Ts
    rise = math.ceil((1.3 * ramp_time(axis, speed, TORQUE) + 0.1) / T) * T
    return Step(duration=rise, frame=Frame.SPEED, release=True, speed=speed, acceleration=steep,
                record=False)  # fmt: skip


def _plan(name: str, axis: Axis, speed: float, repeats: int, wave: Wave, top: float) -> Plan:
    """Return the way to the speed, the repeats of the wave there, and the way back."""
    if not 1 <= repeats <= 40:
        raise InputError(f"cannot repeat it {repeats} times", place=name)
    timing, way = timing_at(axis, speed, repeats), way_to(axis, speed)
    at = replace(way, duration=timing.settle, acceleration=0.0)
    once = _once(timing, at, wave)
    steps = (way, *(once * repeats), at, replace(way, speed=0.0))
    turns = abs(speed) * sum(step.duration for step in steps) / math.tau
    return played_at_speed(name, axis, steps, timing.decimation, turns, top)


def _once(timing: Timing, at: Step, wave: Wave) -> tuple[Step, Step, Step]:
    """Return rest, what is recorded ahead, and the wave; `at` is the rest."""
    still = replace(at, acceleration=0.0)
    return (
        at,
        replace(still, duration=timing.before, record=True),
        replace(still, duration=timing.after, record=True, wave=wave),
    )


def played_at_speed(
    name: str, axis: Axis, steps: tuple[Step, ...], decimation: int, turns: float, top: float
) -> Plan:
    """Return the plan of these steps with the loop's own gains."""
    limit, seconds = current_limit(axis), sum(step.duration for step in steps)
    plan = Plan(
        name=name,
        steps=steps,
        channels=("t", "speed_ref", "speed", "iq_ref", "iq", "vd", "vq", "theta_m"),
        decimation=decimation,
        limits=abort_limits(axis, current=limit, turns=1.2 * turns + 1.0,
                            speed=1.6 * top + 10.0, seconds=seconds),
        gains=gains_for(axis),
        speed=SpeedSettings(limit=limit),
    )  # fmt: skip
    return with_speed_loop(plan, axis)


def _repeating(test: "SpeedStep | LoadStep", axis: Axis, wave: Wave, top: float) -> Repeating:
    """Return a step as it goes on and on."""
    timing = timing_at(axis, test.speed, 1)
    turn = 1.3 * ramp_time(axis, 2.0 * test.speed, TORQUE) if goes_back(axis) else 0.0
    timing = repeated_timing(axis, turn, timing.before, timing.after, 1.5 * timing.after)
    way = way_to(axis, test.speed)
    at = replace(way, acceleration=way.acceleration if goes_back(axis) else 0.0)

    def once(at: Step, side: float) -> tuple[Step, Step, Step]:
        return _once(timing, at, replace(wave, amplitude=side * wave.amplitude))

    return repeated(test.name, plain_settings(test), axis, timing, at, once, top)


def goes_back(axis: Axis) -> bool:
    """Return whether what repeats has to go to and fro: the shaft may not turn on and on."""
    return axis.mechanics.max_turns is not None


def repeated_timing(axis: Axis, back: float, before: float, calm: float, after: float) -> Timing:
    """Return the durations of a test that repeats, at the controller's rate.

    Parameters
    ----------
    back : s, that the way back to where it begins takes
    before : s, recorded ahead
    calm : s, in which the loop comes to rest
    after : s, looked at: slower gains may be tried

    """
    divider, T = axis.inverter.divider, axis.inverter.divider * axis.inverter.Ts
    rest = math.ceil((back + max(LEAST_REST, calm)) / T) * T
    return Timing(settle=rest, before=before, after=math.ceil(after / T) * T, decimation=divider)


def repeated(
    name: str,
    settings: dict[str, Plain],
    axis: Axis,
    timing: Timing,
    at: Step,
    once: Callable[[Step, float], tuple[Step, Step, Step]],
    top: float,
) -> Repeating:
    """Return a test at a speed as it goes on and on; to and fro where the shaft may not turn on.

    Parameters
    ----------
    settings : the test's own, for the record
    at : what it rests at, with the way back to there
    once : gives rest, what is recorded ahead and the test, of the rest and a side (1 or -1)
    top : rad/s, the fastest

    """
    way, to_and_fro = way_to(axis, at.speed), goes_back(axis)
    T = axis.inverter.divider * axis.inverter.Ts
    at = replace(at, duration=timing.settle, record=True)
    ahead = once(at, 1.0)
    pairs = (ahead, once(replace(at, speed=-at.speed), -1.0) if to_and_fro else ahead)
    seconds = timing.settle + timing.before + timing.after
    cycles = cycles_within(seconds, len(ahead), 3)
    played = tuple(step for n in range(cycles) for step in pairs[n % 2])
    steps = (way, *played, replace(way, speed=played[-1].speed), replace(way, speed=0.0))
    one_way = top * (way.duration + seconds) / math.tau
    turns = one_way if to_and_fro else sum(abs(s.speed) * s.duration for s in steps) / math.tau
    plan = played_at_speed(name, axis, steps, timing.decimation, turns, top)
    what = f"turns {turns:.2g} turns to and fro" if to_and_fro else f"turns {turns:.0f} turns"
    return Repeating(
        plan=replace(plan, round=True),
        settings={**settings, "rows_before": round(timing.before / T),
                  "rows_after": round(timing.after / T), "decimation": timing.decimation,
                  "divider": timing.decimation, "limit": current_limit(axis)},
        movement=Movement(what=f"{what}, until you end it", speed=1.3 * top,
                          current=current_limit(axis), seconds=plan.duration),
        cycles=cycles, lead=way.duration, rest=timing.settle, seconds=seconds,
        resting=round(timing.settle / T),
        rows=round((timing.before + timing.after) / T), limit=current_limit(axis),
        with_gains_of=with_speed_loop,
    )  # fmt: skip


def _movement(plan: Plan, top: float, axis: Axis) -> Movement:
    turns = sum(abs(step.speed) * step.duration for step in plan.steps) / math.tau
    return Movement(what=f"turns {turns:.0f} turns one way", speed=top,
                    current=current_limit(axis), seconds=plan.duration)  # fmt: skip


def _settings(axis: Axis, speed: float, repeats: int) -> dict[str, Plain]:
    timing, divider = timing_at(axis, speed, repeats), axis.inverter.divider
    row = timing.decimation * axis.inverter.Ts
    return {
        "rows_before": round(timing.before / row), "rows_after": round(timing.after / row),
        "decimation": timing.decimation, "divider": divider, "limit": current_limit(axis),
    }  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedStep:
    """A step of the speed asked for, repeated and averaged."""

    name: ClassVar[str] = "speed step"
    speed: float  # rad/s, before
    amplitude: float  # rad/s
    repeats: int = _REPEATS

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        wave = Wave(shape=Shape.STEP, target=Target.SPEED, amplitude=self.amplitude)
        return _plan(self.name, axis, self.speed, self.repeats, wave, self._top)

    @property
    def _top(self) -> float:
        return max(abs(self.speed), abs(self.speed + self.amplitude))

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"speed step {self.speed / RPM:.0f} to {(self.speed + self.amplitude) / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return _movement(self.plan(axis), 1.3 * self._top, axis)

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on while gains are changed.

        Raises
        ------
        InputError : as `plan`

        """
        wave = Wave(shape=Shape.STEP, target=Target.SPEED, amplitude=self.amplitude)
        return _repeating(self, axis, wave, self._top)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        return {**plain_settings(self), **_settings(axis, self.speed, self.repeats)}


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadStep:
    """A step of load at a speed, repeated and averaged."""

    name: ClassVar[str] = "load step"
    speed: float  # rad/s
    torque: float  # N·m, against the motion
    repeats: int = _REPEATS

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        against = -math.copysign(self.torque, self.speed)
        wave = Wave(shape=Shape.STEP, target=Target.LOAD, amplitude=against)
        return _plan(self.name, axis, self.speed, self.repeats, wave, abs(self.speed))

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"load step {self.torque:.3g} N·m at {self.speed / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return _movement(self.plan(axis), 1.3 * abs(self.speed), axis)

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on while gains are changed.

        Raises
        ------
        InputError : as `plan`

        """
        against = -math.copysign(self.torque, self.speed)
        wave = Wave(shape=Shape.STEP, target=Target.LOAD, amplitude=against)
        return replace(
            _repeating(self, axis, wave, abs(self.speed)),
            settings={**_repeating(self, axis, wave, abs(self.speed)).settings,
                      "amperes": self.torque / axis.machine.torque_constant},
        )  # fmt: skip

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        amperes = self.torque / axis.machine.torque_constant
        return {**plain_settings(self), **_settings(axis, self.speed, self.repeats),
                "amperes": amperes}  # fmt: skip
