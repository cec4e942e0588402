"""A scenario: what is asked of an axis over time, and what pulls at it; and its file.

    name = "Lift"
    control = "position"            # or "speed", "current"
    duration = "4 s"
    gates_off = "3 s"               # optional: the bridge lets go there, and the shaft coasts
    [[points]]                      # each holds until the next one
    at = "0.2 s"
    by = "6"                        # turns, from where the last point led; of position
    speed = "600 rpm"               # of the move; of speed: what is asked for
    acceleration = "300 rad/s2"     # of the move or of the ramp; without: at once (speed)
    jerk_time = "8 ms"              # of a move
    [[points]]
    at = "2 s"
    by = "-6"
    [[loads]]                       # each holds until the next one
    at = "0 s"
    torque = 1.2                    # N·m, backward, from then on

Of control "current" a point has `current = "5 A peak"`, along q. A current or a speed may have a
wave on top:

    wave = "sine"                   # or "square", "random", "chirp"
    amplitude = "50 rpm"            # in the point's own unit
    frequency = "5 Hz"              # not of a random one, which is new at each sample
    until = "200 Hz"                # of a chirp, at the point's end
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_text
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind

_MOST_POINTS = 400
_KNOWN = {"name", "control", "duration", "points", "loads", "gates_off"}
_LOAD_KEYS = {"at", "torque"}
_MOST_TORQUE = 1e5  # N·m


class Control(StrEnum):
    """Which loop is given references."""

    CURRENT = "current"
    SPEED = "speed"
    POSITION = "position"


class WaveShape(StrEnum):
    """What is added to a reference."""

    SINE = "sine"
    SQUARE = "square"
    RANDOM = "random"
    CHIRP = "chirp"


_WAVE_KEYS = {"wave", "amplitude", "frequency", "until"}
_KEYS = {
    Control.CURRENT: {"at", "current"} | _WAVE_KEYS,
    Control.SPEED: {"at", "speed", "acceleration"} | _WAVE_KEYS,
    Control.POSITION: {"at", "by", "speed", "acceleration", "jerk_time"},
}
_OWN = {Control.CURRENT: Kind.CURRENT, Control.SPEED: Kind.SPEED}


@dataclass(frozen=True, slots=True, kw_only=True)
class PointWave:
    """What is added to a point's reference until the next one."""

    shape: WaveShape
    amplitude: float  # A or rad/s
    frequency: float = 0.0  # Hz
    until: float = 0.0  # Hz, of a chirp


@dataclass(frozen=True, slots=True, kw_only=True)
class Point:
    """What is asked for from a time on."""

    at: float  # s
    value: float  # A along q, rad/s, or rad to go
    speed: float = 0.0  # rad/s, of a move
    acceleration: float = 0.0  # rad/s², of a move or of a ramp; 0: at once
    jerk_time: float = 0.0  # s, of a move
    wave: PointWave | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """A torque that pulls backward from a time on."""

    at: float  # s
    torque: float  # N·m


@dataclass(frozen=True, slots=True, kw_only=True)
class Scenario:
    """References and loads over time."""

    name: str
    control: Control
    duration: float  # s
    points: tuple[Point, ...]
    loads: tuple[Load, ...] = ()
    gates_off: float = math.inf  # s, from which on the bridge is de-energised


def read_scenario(path: Path) -> Scenario:
    """Read a scenario's file; errors name file and place."""
    return parse_scenario(read_text(path), place=str(path))


def parse_scenario(text: str, *, place: str) -> Scenario:
    """Return the scenario that a text describes.

    Raises
    ------
    InputError : not TOML, an unknown or missing key, an entry without sense, times that do not rise

    """
    raw = parse_toml(text, place=place)
    _refuse_unknown(raw, _KNOWN, place)
    control = raw.get("control", Control.SPEED.value)
    if control not in [one.value for one in Control]:
        raise InputError(f"control = {control!r} is no loop", place=place,
                         remedy=f"Known here: {', '.join(c.value for c in Control)}")  # fmt: skip
    duration = _quantity(raw, "duration", Kind.TIME, place)
    kind = Control(control)
    points = tuple(_point(one, kind, f"{place}, point {n}")
                   for n, one in enumerate(_tables(raw, "points", place), 1))  # fmt: skip
    loads = tuple(_load(one, f"{place}, load {n}")
                  for n, one in enumerate(_tables(raw, "loads", place), 1))  # fmt: skip
    if not points:
        raise InputError("nothing is asked of the axis", place=place, remedy="Add [[points]]")
    for what, listed in (("points", points), ("loads", loads)):
        times = [one.at for one in listed]
        rising = all(b > a for a, b in pairwise(times))
        if not rising or any(at >= duration for at in times):
            raise InputError(f"the times of the {what} do not rise up to the duration", place=place,
                             remedy="Put them in order, before the end")  # fmt: skip
    off = _quantity(raw, "gates_off", Kind.TIME, place) if "gates_off" in raw else math.inf
    if off < math.inf and not points[-1].at < off < duration:
        raise InputError(f"the gates go off at {off:g} s", place=place,
                         remedy="Let them after the last point and before the end")  # fmt: skip
    return Scenario(name=str(raw.get("name", "scenario")), control=kind, duration=duration,
                    points=points, loads=loads, gates_off=off)  # fmt: skip


def _tables(raw: Mapping[str, object], key: str, place: str) -> list[Mapping[str, object]]:
    found = raw.get(key, [])
    if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
        raise InputError(f"{key} is no list of tables", place=place, remedy=f"Write [[{key}]]")
    if len(found) > _MOST_POINTS:
        raise InputError(f"{len(found)} {key}", place=place,
                         remedy=f"Up to {_MOST_POINTS} are taken")  # fmt: skip
    return found


def _point(raw: Mapping[str, object], control: Control, place: str) -> Point:
    _refuse_unknown(raw, _KEYS[control], place)
    at = _time(raw, place)
    wave = _wave(raw, control, place) if control is not Control.POSITION else None
    if control is Control.CURRENT:
        value = _quantity(raw, "current", Kind.CURRENT, place, signed=True)
        return Point(at=at, value=value, wave=wave)
    acceleration = (
        _quantity(raw, "acceleration", Kind.ACCELERATION, place) if "acceleration" in raw else 0.0
    )
    if control is Control.SPEED:
        value = _quantity(raw, "speed", Kind.SPEED, place, signed=True)
        return Point(at=at, value=value, acceleration=acceleration, wave=wave)
    if not acceleration:
        raise InputError("acceleration is missing", place=place, remedy="Add acceleration = …")
    jerk = _quantity(raw, "jerk_time", Kind.TIME, place) if "jerk_time" in raw else 0.0
    turns = _quantity(raw, "by", Kind.TURNS, place, signed=True)
    return Point(at=at, value=math.tau * turns, acceleration=acceleration, jerk_time=jerk,
                 speed=_quantity(raw, "speed", Kind.SPEED, place))  # fmt: skip


def _wave(raw: Mapping[str, object], control: Control, place: str) -> PointWave | None:
    """Return what a point adds to its reference; None without."""
    if "wave" not in raw:
        for key in ("amplitude", "frequency", "until"):
            if key in raw:
                raise InputError(f"{key} without a wave", place=place,
                                 remedy='Add wave = "sine", or take it away')  # fmt: skip
        return None
    known = [one.value for one in WaveShape]
    if raw["wave"] not in known:
        raise InputError(f"wave = {raw['wave']!r} is none", place=place,
                         remedy=f"Known here: {', '.join(known)}")  # fmt: skip
    shape = WaveShape(str(raw["wave"]))
    amplitude = _quantity(raw, "amplitude", _OWN[control], place)
    wanted = {WaveShape.RANDOM: set(), WaveShape.CHIRP: {"frequency", "until"}}
    needed = wanted.get(shape, {"frequency"})
    for key in {"frequency", "until"} - needed:
        if key in raw:
            raise InputError(f"a {shape} wave has no {key}", place=place,
                             remedy=f"Take {key} away")  # fmt: skip
    hertz = {key: _quantity(raw, key, Kind.FREQUENCY, place) for key in needed}
    return PointWave(shape=shape, amplitude=amplitude, frequency=hertz.get("frequency", 0.0),
                     until=hertz.get("until", 0.0))  # fmt: skip


def _load(raw: Mapping[str, object], place: str) -> Load:
    _refuse_unknown(raw, _LOAD_KEYS, place)
    torque = raw.get("torque")
    if isinstance(torque, bool) or not isinstance(torque, int | float):
        raise InputError("torque is no number", place=place, remedy="Write it in N·m: torque = 1.2")
    if not abs(torque) <= _MOST_TORQUE:
        raise InputError(f"a torque of {torque:g} N·m", place=place, remedy="Check the digits")
    return Load(at=_time(raw, place), torque=float(torque))


def _time(raw: Mapping[str, object], place: str) -> float:
    text = str(raw.get("at", "0")).strip()
    return 0.0 if text in ("0", "0.0", "0 s", "0s") else _quantity(raw, "at", Kind.TIME, place)


def _quantity(
    raw: Mapping[str, object], key: str, kind: Kind, place: str, *, signed: bool = False
) -> float:
    """Return an entry in SI; a sign stands before it where the quantity has one."""
    if key not in raw:
        raise InputError(f"{key} is missing", place=place, remedy=f"Add {key} = …")
    text = str(raw[key]).strip()
    negative = signed and text.startswith("-")
    plain = text[1:].strip() if negative else text
    if signed and plain.split()[:1] and _is_zero(plain.split()[0]):
        return 0.0
    try:
        value = parse(kind, plain).value
    except InputError as error:
        raise InputError(f"{key}: {error.cause}", place=place, remedy=error.remedy) from error
    return -value if negative else value


def _is_zero(number: str) -> bool:
    try:
        return float(number) == 0.0
    except ValueError:
        return False


def _refuse_unknown(raw: Mapping[str, object], known: set[str], place: str) -> None:
    for key in raw:
        if key not in known:
            raise InputError(f"unknown key {key}", place=place,
                             remedy=f"Known here: {', '.join(sorted(known))}")  # fmt: skip
