"""How the gains of each loop follow from what is asked of it, from the inside out."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.current_loop import KEY as CURRENT
from oarlock.machine.loop import Gains, alike
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED


# What designs a loop is imported when it is first asked: a window stands without.
def _current(axis: Axis) -> Gains:
    from oarlock.control.current import design_current

    return design_current(axis).gains


def _speed(axis: Axis) -> Gains:
    from oarlock.control.speed_design import Turning, design_speed, usual_speed

    return design_speed(axis, turning=Turning(speed=usual_speed(axis))).gains


def _position(axis: Axis) -> Gains:
    from oarlock.control.position_design import design_position

    return design_position(axis).gains


DESIGNS: dict[str, Callable[[Axis], Gains]] = {
    CURRENT: _current,
    SPEED: _speed,
    POSITION: _position,
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


def retuned(before: Axis, after: Axis, *, outside: str = "") -> Axis:
    """Return `after` with gains that follow their targets, where they followed them `before`.

    Gains taken from a run stay as they are; where a target became impossible, the old gains stay.
    What is outside rests on what is inside.

    Parameters
    ----------
    outside : the loop beyond which gains follow; its own and those inside it stay; "": all follow

    """
    keys = list(DESIGNS)
    for key in keys[keys.index(outside) + 1 :] if outside else keys:
        design = DESIGNS[key]
        if before.loops[key].gains is None or not follows(before, key):
            continue
        try:
            gains = design(after)
        except InputError:
            continue
        after = after.with_loop_gains(key, gains)
    return after
