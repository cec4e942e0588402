"""The units in which pictures are drawn: chosen once for all of them, as the palette is."""

from dataclasses import dataclass

from oarlock.quantities.retold import retold
from oarlock.quantities.shown import Scale, Shown, Units
from oarlock.ui.kit.plot import linear_ticks

_SHORT = 3  # letters that fit beside an axis


@dataclass(frozen=True, slots=True)
class _Scales:
    shown: Shown
    pole_pairs: float | None
    rated: float | None
    speed: Scale
    current: Scale
    torque: Scale
    speeds: tuple[Scale, ...]
    torques: tuple[Scale, ...]


def _scales(shown: Shown, pole_pairs: float | None, rated: float | None) -> _Scales:
    return _Scales(
        shown, pole_pairs, rated, shown.speed_scale(pole_pairs), shown.current_scale(),
        shown.torque_scale(rated), shown.speed_scales(pole_pairs), shown.torque_scales(rated),
    )  # fmt: skip


_used = _scales(Shown(), None, None)


def choose(shown: Shown, pole_pairs: float | None, rated: float | None) -> None:
    """Use these units from now on; what is drawn already changes as it is drawn anew.

    Parameters
    ----------
    rated : N·m, of the axis

    """
    global _used
    _used = _scales(shown, pole_pairs, rated)


def speed() -> Scale:
    """Return the unit of speeds, over rad/s of the shaft."""
    return _used.speed


def current() -> Scale:
    """Return the unit of currents, over A peak."""
    return _used.current


def torque() -> Scale:
    """Return the unit of torques, over N·m."""
    return _used.torque


def speeds() -> tuple[Scale, ...]:
    """Return the units that a speed may be typed in, the one it is shown in first."""
    return _used.speeds


def torques() -> tuple[Scale, ...]:
    """Return the units that a torque may be typed in, the one it is shown in first."""
    return _used.torques


def by_name() -> Units:
    """Return the unit that each of the usual ones is told in."""
    return {"rpm": _used.speed, "A": _used.current, "N·m": _used.torque}


def told(text: str) -> str:
    """Return a sentence with its speeds (rpm) and torques (N·m) in the units that were chosen."""
    return retold(text, _used.shown, _used.pole_pairs, _used.rated)


def pair(number: str, unit: str) -> tuple[str, str]:
    """Return a number, or a dash, and its unit as they are told in the units that were chosen."""
    if not any(c.isdigit() for c in number):
        chosen = by_name().get(unit)
        return number, chosen.unit if chosen and unit != "A" else unit
    text, _, called = told(f"{number} {unit}").partition(" ")
    return text, called


def in_words(scale: Scale) -> str:
    """Return what a picture's words say of a unit that no axis carries: ', A rms', or nothing."""
    return f", {scale.unit}" if len(scale.unit) > _SHORT else ""


def ticks(
    scale: Scale, low: float, high: float, many: int, *, named: bool = True
) -> list[tuple[float, str]]:
    """Return ticks in a unit, at places in SI from low to high (SI); the last carries the unit.

    One that takes more room than a number does is left to the picture's words.
    """
    unit = scale.unit if named and len(scale.unit) <= _SHORT else ""
    found = linear_ticks(low / scale.per, high / scale.per, many, unit)
    return [(scale.per * value, text) for value, text in found]
