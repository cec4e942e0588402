"""What is said of an axis, in the units that were chosen for it."""

from oarlock.machine import Axis
from oarlock.quantities.retold import retold
from oarlock.quantities.shown import chosen
from oarlock.views.screen import Screen


def said(text: str, axis: Axis, screen: Screen) -> str:
    """Return a sentence with its speeds and torques in the units that were chosen."""
    pairs = axis.machine.pole_pairs
    known = pairs.value if pairs.is_known else None
    return retold(text, chosen(dict(screen.units)), known, axis.rated_torque)
