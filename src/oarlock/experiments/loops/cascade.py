"""How a plan is played with the loops that stand in an axis: gains, filters, rates."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from oarlock.control.filters import coefficients
from oarlock.control.load_observer import load_observer, reference_share
from oarlock.control.position import PositionLoop as ExactPositionLoop
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.drive.parameters import controllers
from oarlock.drive.steps import Limits, Plan, PositionLoop, SpeedLoop
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.position_loop import KEY as POSITION_KEY
from oarlock.machine.position_loop import PositionGains
from oarlock.machine.speed_loop import KEY as SPEED_KEY
from oarlock.machine.speed_loop import SpeedGains


def gains_for(axis: Axis) -> CurrentGains:
    """Return the current loop's gains in use.

    Raises
    ------
    InputError : there are none

    """
    if axis.gains is None:
        raise _missing("current")
    return axis.gains


def with_speed_loop(plan: Plan, axis: Axis) -> Plan:
    """Return a plan that is played with the axis's current and speed loop, watched for swinging.

    Raises
    ------
    InputError : one of them has no gains, or the loop would swing up

    """
    gains = axis.loops[SPEED_KEY].gains
    if not isinstance(gains, SpeedGains):
        raise _missing("speed")
    if not loop_in_use(axis, turning=Turning(speed=usual_speed(axis))).is_stable:
        raise _swinging("speed")
    Ts, divider = axis.inverter.Ts, axis.inverter.divider
    filters = axis.loops[SPEED_KEY].filters
    observer = load_observer(gains, divider * Ts)
    return replace(
        plan,
        gains=gains_for(axis),
        speed=SpeedLoop(Kp=gains.Kp, Ki=gains.Ki, weight=gains.weight,
                        acceleration=gains.acceleration, divider=divider, lag=0.0,
                        slope=axis.inverter.slope, limit=plan.speed.limit,
                        share=reference_share(gains, divider * Ts), friction=gains.friction,
                        observer=(observer.step, observer.speed, observer.load)),
        torque_filters=tuple(coefficients(f, Ts) for f in filters if f.path == "torque"),
        speed_filters=tuple(
            coefficients(f, divider * Ts) for f in filters if f.path == "measured"
        ),
        watch=True,
    )  # fmt: skip


def standing_plan(axis: Axis) -> Plan:
    """Return a plan without steps, that holds every loop of the axis as it stands.

    Raises
    ------
    InputError : no gains of the current loop, or a loop would swing up

    """
    most = axis.peak
    plan = Plan(name="as it stands", steps=(), channels=(), gains=gains_for(axis),
                limits=Limits(current=most, speed=0.0, travel=0.0, time=0.0),
                speed=SpeedLoop(limit=most))  # fmt: skip
    if axis.loops[POSITION_KEY].gains is not None:
        return with_position_loop(plan, axis)
    return with_speed_loop(plan, axis) if axis.loops[SPEED_KEY].gains is not None else plan


def standing_numbers(axis: Axis) -> dict[str, float]:
    """Return gains and filters in use, as a drive names them.

    Raises
    ------
    InputError : as `standing_plan`

    """
    return controllers(standing_plan(axis))


def differing(axis: Axis, holds: Mapping[str, float]) -> tuple[str, ...] | None:
    """Return which gains and filters a drive holds otherwise than they are in use; None: not known.

    Parameters
    ----------
    holds : by the drive's names; empty: not known

    """
    try:
        wanted = standing_numbers(axis) if holds else {}
    except InputError:
        return None
    if not wanted:
        return None
    return tuple(name for name, value in wanted.items()
                 if name in holds and np.float32(value) != np.float32(holds[name]))  # fmt: skip


def with_position_loop(plan: Plan, axis: Axis) -> Plan:
    """Return a plan that is played with all three loops of the axis.

    Raises
    ------
    InputError : one of them has no gains, or one of the loops would swing up

    """
    gains = axis.loops[POSITION_KEY].gains
    if not isinstance(gains, PositionGains):
        raise _missing("position")
    if not ExactPositionLoop(loop_in_use(axis), gains).is_stable:
        raise _swinging("position")
    position = PositionLoop(Kp=gains.Kp, speed_share=gains.speed_share)
    return replace(with_speed_loop(plan, axis), position=position)


def _swinging(which: str) -> InputError:
    """No gains go to a drive whose exact loop has a pole outside the unit circle."""
    return InputError(f"the {which} loop would swing up with these gains", place="experiment",
                      remedy="Ask for less")  # fmt: skip


def _missing(which: str) -> InputError:
    return InputError(f"no gains of the {which} loop are in use", place="experiment",
                      remedy="Take the designed gains first")  # fmt: skip
