"""What every test that stirs the speed loop at a speed shares: the way there, limits, movement."""

import math
from collections.abc import Sequence
from dataclasses import replace

from oarlock.drive.steps import Frame, Plan, Step
from oarlock.drive.steps import SpeedLoop as SpeedSettings
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import ramp_time, rough_inertia
from oarlock.experiments.loops.cascade import gains_for, with_speed_loop
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis

_TORQUE = 0.3  # of rated, on the way to the speed


def way_to(axis: Axis, speed: float) -> Step:
    """Return the step that brings the shaft to a speed (rad/s) and lets it calm down."""
    steep = _TORQUE * axis.machine.torque_constant * axis.rated
    return Step(duration=1.3 * ramp_time(axis, speed, _TORQUE) + 0.3, frame=Frame.SPEED,
                release=True, speed=speed, acceleration=steep / rough_inertia(axis),
                record=False)  # fmt: skip


def plan_at(
    axis: Axis, name: str, speed: float, between: Sequence[Step], channels: tuple[str, ...]
) -> Plan:
    """Return the plan of steps at a speed (rad/s), with the way there and back, and its limits.

    A steady stirring is no oscillation that grows: these limits stand guard, not the drive's watch.

    Raises
    ------
    InputError : no gains in use, or a loop that would swing up

    """
    way, limit = way_to(axis, speed), current_limit(axis)
    steps = (way, *between, replace(way, speed=0.0))
    seconds = sum(step.duration for step in steps)
    plan = Plan(
        name=name, steps=steps, channels=channels,
        limits=abort_limits(axis, current=limit, turns=1.2 * _turns(speed, seconds) + 1.0,
                            speed=2.0 * abs(speed) + 20.0, seconds=seconds),
        gains=gains_for(axis),
        speed=SpeedSettings(limit=limit),
    )  # fmt: skip
    return replace(with_speed_loop(plan, axis), watch=False)


def movement_at(axis: Axis, speed: float, torque: float, seconds: float) -> Movement:
    """Return what will move: at a speed (rad/s), stirred by a torque (N·m), for some seconds."""
    amperes = torque / axis.machine.torque_constant
    most = min(2.0 * amperes + _TORQUE * axis.rated, current_limit(axis))
    return Movement(what=f"turns {_turns(speed, seconds):.0f} turns one way",
                    speed=1.3 * abs(speed), current=most, seconds=seconds)  # fmt: skip


def _turns(speed: float, seconds: float) -> float:
    return abs(speed) * seconds / math.tau
