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
    jerk_time = "8 ms"              # over which that builds up; without: at once
    [[points]]
    at = "2 s"
    by = "-6"
    [[loads]]                       # each holds until the next one
    at = "0 s"
    torque = 1.2                    # N·m, backward, from then on

Of control "current" a point has `current = "5 A peak"`, along q. A point may have a wave on top;
one of position needs no move then, and its wave is asked for without a speed ahead of it:

    wave = "sine"                   # or "square", "random", "chirp"
    amplitude = "50 rpm"            # in the point's own unit; of position: turns
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
    [[events]]
    at = "3 s"
    sensor = "lost"                 # the position sensor's reading stays as it is; "back" ends it
    [[events]]
    at = "3.5 s"
    slip = "5 deg"                  # how far the sensor has turned on its shaft
    [[events]]
    at = "3.8 s"
    offset_a = "0.5 A peak"         # of the first current sensor; offset_b of the second
    [[events]]
    at = "4 s"
    gain_b = 1.05                   # the second current sensor reads 5 % too much; gain_a the first
    [[events]]
    at = "4.2 s"
    runout = "0.4 deg"              # the position sensor wobbles to each side, once a turn
    [[events]]
    at = "4.4 s"
    open = "a"                      # the lead of a phase comes off; "none" puts it back

How the machine is as it begins:

    [start]
    speed = "600 rpm"               # the shaft turns already
    warmer = 60                     # K, the winding, than where R was measured

What feeds it is told by `[supply]` (see `supply`); without, the bus is stiff.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import pairwise
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_text
from oarlock.quantities.kinds import Kind
from oarlock.rehearse.entries import quantity, refuse_unknown, table_file, tables_of, time_of
from oarlock.rehearse.events import (
    COLD,
    Event,
    Happening,
    Load,
    Pulls,
    Start,
    event_of,
    loads_of,
    start_of,
)
from oarlock.rehearse.supply import Supply, supply_of
from oarlock.rehearse.tables import MOST_ROWS, read_path, read_table

_KNOWN = {
    "name",
    "control",
    "duration",
    "points",
    "loads",
    "gates_off",
    "events",
    "start",
    "supply",
}
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
    Control.SPEED: {"at", "speed", "acceleration", "jerk_time"} | _WAVE_KEYS,
    Control.POSITION: {"at", "by", "speed", "acceleration", "jerk_time"} | _WAVE_KEYS,
}
_OWN = {Control.CURRENT: Kind.CURRENT, Control.SPEED: Kind.SPEED, Control.POSITION: Kind.TURNS}


@dataclass(frozen=True, slots=True, kw_only=True)
class PointWave:
    """What is added to a point's reference until the next one."""

    shape: WaveShape
    amplitude: float  # A, rad/s or rad
    frequency: float = 0.0  # Hz
    until: float = 0.0  # Hz, of a chirp


@dataclass(frozen=True, slots=True, kw_only=True)
class Point:
    """What is asked for from a time on."""

    at: float  # s
    value: float  # A along q, rad/s, or rad to go
    speed: float = 0.0  # rad/s, of a move
    acceleration: float = 0.0  # rad/s², of a move or of a ramp; 0: at once
    jerk_time: float = 0.0  # s, over which that builds up
    wave: PointWave | None = None
    on_path: bool = False  # it leads to the next point along a cubic, which it ends at `speed`


@dataclass(frozen=True, slots=True, kw_only=True)
class Scenario:
    """References, loads and events over time."""

    name: str
    control: Control
    duration: float  # s
    points: tuple[Point, ...]
    loads: tuple[Load, ...] = ()
    pulls: Pulls = ()
    events: tuple[Event, ...] = ()
    start: Start = COLD
    supply: Supply | None = None  # None: the bus is stiff
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
    refuse_unknown(raw, _KNOWN, place)
    control = raw.get("control", Control.SPEED.value)
    if control not in [one.value for one in Control]:
        raise InputError(f"control = {control!r} is no loop", place=place,
                         remedy=f"Known here: {', '.join(c.value for c in Control)}")  # fmt: skip
    duration = quantity(raw, "duration", Kind.TIME, place)
    kind = Control(control)
    if isinstance(raw.get("points"), str):
        points = _points_of(table_file(raw, "points", place, beside), kind, duration)
    else:
        points = tuple(_point(one, kind, f"{place}, point {n}")
                       for n, one in enumerate(tables_of(raw, "points", place), 1))  # fmt: skip
    loads, pulls = loads_of(raw, duration, place, beside)
    events = tuple(event_of(one, f"{place}, event {n}")
                   for n, one in enumerate(tables_of(raw, "events", place), 1))  # fmt: skip
    if not points:
        raise InputError("nothing is asked of the axis", place=place, remedy="Add [[points]]")
    _in_order(points, loads, events, duration, place)
    off = quantity(raw, "gates_off", Kind.TIME, place) if "gates_off" in raw else math.inf
    if off < math.inf and not points[-1].at < off < duration:
        raise InputError(f"the gates go off at {off:g} s", place=place,
                         remedy="Let them after the last point and before the end")  # fmt: skip
    return Scenario(name=str(raw.get("name", "scenario")), control=kind, duration=duration,
                    points=points, loads=loads, pulls=pulls, events=events,
                    gates_off=off,
                    start=start_of(raw, place), supply=supply_of(raw, place),
                    is_tabled=isinstance(raw.get("points"), str))  # fmt: skip


def _in_order(
    points: tuple[Point, ...], loads: tuple[Load, ...], events: tuple[Event, ...],
    duration: float, place: str,
) -> None:  # fmt: skip
    """Raise where times do not rise up to the duration; events of several kinds may meet."""
    kinds = [tuple(one for one in events if one.what is what) for what in Happening]
    listed: list[tuple[str, Sequence[Point | Load | Event]]] = [
        ("points", points), ("loads", loads), *(("events", each) for each in kinds),
    ]  # fmt: skip
    for what, ones in listed:
        times = [one.at for one in ones]
        rising = all(b > a for a, b in pairwise(times))
        if not rising or any(at >= duration for at in times):
            raise InputError(f"the times of the {what} do not rise up to the duration", place=place,
                             remedy="Put them in order, before the end")  # fmt: skip


def _points_of(path: Path, control: Control, duration: float) -> tuple[Point, ...]:
    """Return the references of a table up to the duration.

    From one row of speed to the next it is a ramp, of position a cubic; a current is held.
    """
    if control is Control.POSITION:
        return _path_of(path, duration)
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


def _path_of(path: Path, duration: float) -> tuple[Point, ...]:
    """Return the path through the rows of a table of position, at rest at both ends."""
    rows = read_path(path)
    if rows[-1][0] >= duration:
        raise InputError(f"it goes on after {duration:g} s", place=str(path),
                         remedy="Make the scenario longer")  # fmt: skip
    made = [Point(at=at, value=end - begin, speed=speed, on_path=True)
            for (at, begin, _), (_, end, speed) in pairwise(rows)]  # fmt: skip
    return (*made, Point(at=rows[-1][0], value=0.0))


def _point(raw: Mapping[str, object], control: Control, place: str) -> Point:
    refuse_unknown(raw, _KEYS[control], place)
    at = time_of(raw, place)
    wave = _wave(raw, control, place)
    if control is Control.CURRENT:
        value = quantity(raw, "current", Kind.CURRENT, place, signed=True)
        return Point(at=at, value=value, wave=wave)
    acceleration = (
        quantity(raw, "acceleration", Kind.ACCELERATION, place) if "acceleration" in raw else 0.0
    )
    jerk = quantity(raw, "jerk_time", Kind.TIME, place) if "jerk_time" in raw else 0.0
    moves = {"by", "speed", "acceleration", "jerk_time"} & raw.keys()
    stays = wave is not None and not moves  # where it is, but for the wave
    if not acceleration and (jerk or (control is Control.POSITION and not stays)):
        raise InputError("acceleration is missing", place=place, remedy="Add acceleration = …")
    if control is Control.SPEED:
        value = quantity(raw, "speed", Kind.SPEED, place, signed=True)
        return Point(at=at, value=value, acceleration=acceleration, jerk_time=jerk, wave=wave)
    if stays:
        return Point(at=at, value=0.0, wave=wave)
    turns = quantity(raw, "by", Kind.TURNS, place, signed=True)
    return Point(at=at, value=math.tau * turns, acceleration=acceleration, jerk_time=jerk,
                 speed=quantity(raw, "speed", Kind.SPEED, place), wave=wave)  # fmt: skip


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
    amplitude = quantity(raw, "amplitude", _OWN[control], place)
    amplitude *= math.tau if control is Control.POSITION else 1.0
    wanted = {WaveShape.RANDOM: set(), WaveShape.CHIRP: {"frequency", "until"}}
    needed = wanted.get(shape, {"frequency"})
    for key in {"frequency", "until"} - needed:
        if key in raw:
            raise InputError(f"a {shape} wave has no {key}", place=place,
                             remedy=f"Take {key} away")  # fmt: skip
    hertz = {key: quantity(raw, key, Kind.FREQUENCY, place) for key in needed}
    return PointWave(shape=shape, amplitude=amplitude, frequency=hertz.get("frequency", 0.0),
                     until=hertz.get("until", 0.0))  # fmt: skip
