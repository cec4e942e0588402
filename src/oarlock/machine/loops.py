"""Every loop that an axis may have, from the inside out: one line each.

Retuning goes along this list: what is outside rests on what is inside.
"""

from oarlock.machine.current_loop import CURRENT
from oarlock.machine.loop import LoopSpec
from oarlock.machine.position_loop import POSITION
from oarlock.machine.speed_loop import SPEED

LOOPS: list[LoopSpec] = [CURRENT, SPEED, POSITION]


def spec(key: str) -> LoopSpec:
    """Return a loop's spec by its key.

    Raises
    ------
    KeyError : no such loop

    """
    found = next((one for one in LOOPS if one.key == key), None)
    if found is None:
        raise KeyError(key)
    return found
