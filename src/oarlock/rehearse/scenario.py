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

`points = "ride.csv"` and `loads = "pull.csv"` take them from tables (see `tables`). Events happen
to the axis, each until the next of its kind:

    [[events]]
    at = "1.5 s"
    brake = 6.0                     # N·m, of a brake that closes; 0 opens it
    [[events]]
    at = "2 s"
    bus = "220 V"                   # what the supply gives from then on
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import pairwise
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_text
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind
from oarlock.rehearse.tables import MOST_ROWS, read_loads, read_table

_MOST_POINTS = 400
_KNOWN = {"name", "control", "duration", "points", "loads", "gates_off", "events"}
_EVENT_KEYS = {"at", "brake", "bus"}
_LOAD_KEYS = {"at", "torque"}
_MOST_TORQUE = 1e5  # N·m
_INSTANT = 1e-3  # s


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
class Event:
    """What happens to the axis at a time; of both one is given."""

    at: float  # s
    brake: float | None = None  # N·m
    bus: float | None = None  # V


@dataclass(frozen=True, slots=True, kw_only=True)
class Scenario:
    """References, loads and events over time."""

    name: str
    control: Control
    duration: float  # s
    points: tuple[Point, ...]
    loads: tuple[Load, ...] = ()
    events: tuple[Event, ...] = ()
    gates_off: float = math.inf  # s, from which on the bridge is de-energised
    is_tabled: bool = False  # its points come from a table


def read_scenario(path: Path) -> Scenario:
    """Read a scenario's file; errors name file and place."""
    return parse_scenario(read_text(path), place=str(path), beside=path.parent)


def parse_scenario(text: str, *, place: str, beside: Path | None = None) -> Scenario:
    """Return the scenario that a text describes.

    Parameters
    ----------
    beside : folder that its tables are looked for in

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
    if isinstance(raw.get("points"), str):
        points = _points_of(_file(raw, "points", place, beside), kind, duration)
    else:
        points = tuple(_point(one, kind, f"{place}, point {n}")
                       for n, one in enumerate(_tables(raw, "points", place), 1))  # fmt: skip
    if isinstance(raw.get("loads"), str):
        pulls = read_loads(_file(raw, "loads", place, beside))
        loads = tuple(Load(at=at, torque=torque) for at, torque in pulls if at < duration)
    else:
        loads = tuple(_load(one, f"{place}, load {n}")
                      for n, one in enumerate(_tables(raw, "loads", place), 1))  # fmt: skip
    events = tuple(_event(one, f"{place}, event {n}")
                   for n, one in enumerate(_tables(raw, "events", place), 1))  # fmt: skip
    if not points:
        raise InputError("nothing is asked of the axis", place=place, remedy="Add [[points]]")
    _in_order(points, loads, events, duration, place)
    off = _quantity(raw, "gates_off", Kind.TIME, place) if "gates_off" in raw else math.inf
    if off < math.inf and not points[-1].at < off < duration:
        raise InputError(f"the gates go off at {off:g} s", place=place,
                         remedy="Let them after the last point and before the end")  # fmt: skip
    return Scenario(name=str(raw.get("name", "scenario")), control=kind, duration=duration,
                    points=points, loads=loads, events=events, gates_off=off,
                    is_tabled=isinstance(raw.get("points"), str))  # fmt: skip


def _in_order(
    points: tuple[Point, ...], loads: tuple[Load, ...], events: tuple[Event, ...],
    duration: float, place: str,
) -> None:  # fmt: skip
    """Raise where times do not rise up to the duration; events of two kinds may meet."""
    braking = tuple(one for one in events if one.brake is not None)
    feeding = tuple(one for one in events if one.bus is not None)
    listed: tuple[tuple[str, Sequence[Point | Load | Event]], ...] = (
        ("points", points), ("loads", loads), ("events", braking), ("events", feeding),
    )  # fmt: skip
    for what, ones in listed:
        times = [one.at for one in ones]
        rising = all(b > a for a, b in pairwise(times))
        if not rising or any(at >= duration for at in times):
            raise InputError(f"the times of the {what} do not rise up to the duration", place=place,
                             remedy="Put them in order, before the end")  # fmt: skip


def _file(raw: Mapping[str, object], key: str, place: str, beside: Path | None) -> Path:
    """Return the path of a table that a key names."""
    name = str(raw[key]).strip()
    if not name.lower().endswith(".csv"):
        raise InputError(f"{key} = '{name}' is no table", place=place,
                         remedy=f"Write [[{key}]], or the name of a CSV file")  # fmt: skip
    return (beside or Path()) / name


def _points_of(path: Path, control: Control, duration: float) -> tuple[Point, ...]:
    """Return the references of a table up to the duration.

    From one row of speed to the next it is a ramp; a current is held until the next row.
    """
    if control is Control.POSITION:
        raise InputError("moves are not asked for by a table", place=str(path),
                         remedy="Write [[points]], or control = \"speed\"")  # fmt: skip
    kind = _OWN[control]
    rows = [row for row in read_table(path, {"t": Kind.TIME, control.value: kind}, MOST_ROWS)
            if row[0] < duration]  # fmt: skip
    if not rows:
        raise InputError(f"it begins after {duration:g} s", place=str(path),
                         remedy="Make the scenario longer")  # fmt: skip
    if control is Control.CURRENT:
        return tuple(Point(at=at, value=value) for at, value in rows)
    made = [Point(at=at, value=end, acceleration=abs(end - begin) / (until - at))
            for (at, begin), (until, end) in pairwise(rows)]  # fmt: skip
    first, last = (Point(at=at, value=value) for at, value in (rows[0], rows[-1]))
    if rows[0][1] and made:  # it begins turning: there at once, and on its way an instant later
        made[0] = replace(made[0], at=made[0].at + min(_INSTANT, 0.5 * (rows[1][0] - rows[0][0])))
        made.insert(0, first)
    return (*made, last)


def _event(raw: Mapping[str, object], place: str) -> Event:
    _refuse_unknown(raw, _EVENT_KEYS, place)
    if ("brake" in raw) == ("bus" in raw):
        raise InputError("an event of no kind, or of two", place=place,
                         remedy="Give brake = … or bus = …")  # fmt: skip
    if "bus" in raw:
        return Event(at=_time(raw, place), bus=_quantity(raw, "bus", Kind.VOLTAGE, place))
    brake = _newton_metres(raw, "brake", place)
    if brake < 0.0:
        raise InputError("a brake below zero", place=place, remedy="0 opens it")
    return Event(at=_time(raw, place), brake=brake)


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
    return Load(at=_time(raw, place), torque=_newton_metres(raw, "torque", place))


def _newton_metres(raw: Mapping[str, object], key: str, place: str) -> float:
    torque = raw.get(key)
    if isinstance(torque, bool) or not isinstance(torque, int | float):
        raise InputError(f"{key} is no number", place=place,
                         remedy=f"Write it in N·m: {key} = 1.2")  # fmt: skip
    if not abs(torque) <= _MOST_TORQUE:
        raise InputError(f"a {key} of {torque:g} N·m", place=place, remedy="Check the digits")
    return float(torque)


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
