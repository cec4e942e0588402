"""How the gains of each loop follow from what is asked of it, from the inside out."""

from collections.abc import Callable

from oarlock.control.current import design_current
from oarlock.control.position_design import design_position
from oarlock.control.speed_design import Turning, design_speed, usual_speed
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.current_loop import KEY as CURRENT
from oarlock.machine.loop import Gains, alike
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED

DESIGNS: dict[str, Callable[[Axis], Gains]] = {
    CURRENT: lambda axis: design_current(axis).gains,
    SPEED: lambda axis: design_speed(axis, turning=Turning(speed=usual_speed(axis))).gains,
    POSITION: lambda axis: design_position(axis).gains,
}


def follows(axis: Axis, key: str) -> bool:
    """Return whether a loop's gains in use are those that its target asks for; none: yes."""
    gains = axis.loops[key].gains
    if gains is None:
        return True
    try:
        return alike(gains, DESIGNS[key](axis))
    except InputError:
        return False


def retuned(before: Axis, after: Axis) -> Axis:
    """Return `after` with gains that follow their targets, where they followed them `before`.

    Gains taken from a run stay as they are; where a target became impossible, the old gains stay.
    What is outside rests on what is inside.
    """
    for key, design in DESIGNS.items():
        if before.loops[key].gains is None or not follows(before, key):
            continue
        try:
            gains = design(after)
        except InputError:
            continue
        after = after.with_loop_gains(key, gains)
    return after
