"""The position loop of an axis: what its target asks for, round the speed loop in use."""

from oarlock.control.position import PositionLoop, gain_for, loop_of, quiet_gain
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use
from oarlock.machine import Axis
from oarlock.machine.position_loop import KEY, PositionGains, PositionTarget


def position_target(axis: Axis) -> PositionTarget:
    """Return what is asked of the axis's position loop."""
    found = axis.loops[KEY].target
    return found if isinstance(found, PositionTarget) else PositionTarget()


def position_gains(axis: Axis) -> PositionGains | None:
    """Return the position loop's gains in use."""
    found = axis.loops[KEY].gains
    return found if isinstance(found, PositionGains) else None


def friction_of(axis: Axis) -> float:
    """Return the current (A) that overcomes the axis's friction; 0 where that is not known."""
    m = axis.machine
    known = m.psi.is_known and m.pole_pairs.is_known
    return max(axis.mechanics.coulomb.value, 0.0) / m.torque_constant if known else 0.0


def breaking_away(axis: Axis) -> float:
    """Return by how much current (A) breaking away may take more than turning; 0: not known.

    With what the breakaway torque is uncertain by: it tells how far a shaft may slip.
    """
    m, known = axis.mechanics, axis.machine.psi.is_known and axis.machine.pole_pairs.is_known
    if not (known and m.breakaway.value > 0.0 and m.coulomb.value > 0.0):
        return 0.0
    more = m.breakaway.value + 2.0 * m.breakaway.std - m.coulomb.value
    return max(more, 0.0) / axis.machine.torque_constant


def design_on(speed: SpeedLoop, target: PositionTarget, share: float = 1.0) -> PositionLoop:
    """Return the loop that a target asks for round a speed loop.

    Raises
    ------
    InputError : it would be unstable

    """
    gain = quiet_gain(speed) if target.crossover is None else gain_for(speed, target.crossover)
    return loop_of(speed, PositionGains(Kp=gain, speed_share=share))


def design_position(axis: Axis, target: PositionTarget | None = None) -> PositionLoop:
    """Return the position loop for the axis's target, or for another one; the share stays.

    Raises
    ------
    InputError : the speed loop has no gains, or a target that cannot be met

    """
    old = position_gains(axis)
    speed = loop_in_use(axis, turning=Turning())
    share = old.speed_share if old else 1.0
    return design_on(speed, target or position_target(axis), share)
