"""The units in which pictures are drawn: chosen once for all of them, as the palette is."""

from oarlock.quantities.shown import Scale, Shown

_speed = Shown().speed_scale(None)


def choose(shown: Shown, pole_pairs: float | None) -> None:
    """Use these units from now on; what is drawn already changes as it is drawn anew."""
    global _speed
    _speed = shown.speed_scale(pole_pairs)


def speed() -> Scale:
    """Return the unit of speeds, over rad/s of the shaft."""
    return _speed
