"""What happens to an axis in a scenario from outside: loads, events, and how it begins."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from oarlock.errors import InputError
from oarlock.quantities.kinds import Kind
from oarlock.rehearse.entries import (
    newton_metres,
    quantity,
    refuse_unknown,
    table_file,
    tables_of,
    time_of,
)
from oarlock.rehearse.tables import read_loads, read_pulls
from oarlock.simulate.layout import MOST_PULLS

LOST = 1.0  # value of a sensor's event: its cable is off; 0: on again
_LOAD_KEYS = {"at", "torque"}
_START_KEYS = {"speed", "warmer"}
_LEADS = ("none", "a", "b", "c")
_HOTTEST = 250.0  # K above what R is meant for


class Happening(StrEnum):
    """What an event changes; each holds until the next of its kind."""

    BRAKE = "brake"
    BUS = "bus"
    SENSOR = "sensor"
    SLIP = "slip"
    RUNOUT = "runout"
    OFFSET_A = "offset_a"
    OFFSET_B = "offset_b"
    GAIN_A = "gain_a"
    GAIN_B = "gain_b"
    OPEN = "open"


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """A torque that pulls backward from a time on."""

    at: float  # s
    torque: float  # N·m


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """What happens to the axis at a time."""

    at: float  # s
    what: Happening
    # N·m of a brake, V, `LOST` or 0, rad of the sensor on its shaft, A, a ratio, number of a phase
    value: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Start:
    """How the machine is as the scenario begins."""

    speed: float = 0.0  # rad/s
    warmer: float = 0.0  # K, the winding, than where R was measured


COLD = Start()  # at rest, and as warm as its R was measured


Pulls = tuple[tuple[float, float], ...]  # rad from where the shaft began, N·m backward


def loads_of(
    raw: Mapping[str, object], duration: float, place: str, beside: Path | None
) -> tuple[tuple[Load, ...], Pulls]:
    """Return the loads of a scenario, over time and over angle: its list, or a table of either.

    Raises
    ------
    InputError : an entry or a table without sense

    """
    if not isinstance(raw.get("loads"), str):
        tables = enumerate(tables_of(raw, "loads", place), 1)
        return tuple(_load(one, f"{place}, load {n}") for n, one in tables), ()
    path = table_file(raw, "loads", place, beside)
    over_angle = read_pulls(path, MOST_PULLS)
    if over_angle is not None:
        return (), over_angle
    rows = read_loads(path)
    return tuple(Load(at=at, torque=torque) for at, torque in rows if at < duration), ()


def _load(raw: Mapping[str, object], place: str) -> Load:
    refuse_unknown(raw, _LOAD_KEYS, place)
    return Load(at=time_of(raw, place), torque=newton_metres(raw, "torque", place))


def event_of(raw: Mapping[str, object], place: str) -> Event:
    """Return the event that a table describes.

    Raises
    ------
    InputError : of no kind or of two, or an entry without sense

    """
    kinds = [one.value for one in Happening]
    refuse_unknown(raw, {"at", *kinds}, place)
    given = [name for name in kinds if name in raw]
    if len(given) != 1:
        every = ", ".join(f"{name} = …" for name in kinds)
        raise InputError("an event of no kind, or of two", place=place,
                         remedy=f"Give one of {every}")  # fmt: skip
    what = Happening(given[0])
    return Event(at=time_of(raw, place), what=what, value=_value(raw, what, place))


def _value(raw: Mapping[str, object], what: Happening, place: str) -> float:
    if what is Happening.BUS:
        return quantity(raw, what, Kind.VOLTAGE, place)
    if what in (Happening.SLIP, Happening.RUNOUT):
        return quantity(raw, what, Kind.ANGLE, place, signed=what is Happening.SLIP)
    if what in (Happening.OFFSET_A, Happening.OFFSET_B):
        return quantity(raw, what, Kind.CURRENT, place, signed=True)
    if what in (Happening.GAIN_A, Happening.GAIN_B):
        return _gain(raw[what], what, place)
    if what is Happening.OPEN:
        if raw[what] not in _LEADS:
            raise InputError(f"open = {raw[what]!r}", place=place,
                             remedy='Write the phase, open = "a", or "none"')  # fmt: skip
        return float(_LEADS.index(raw[what]) - 1)
    if what is Happening.SENSOR:
        said = raw[what]
        if said not in ("lost", "back"):
            raise InputError(f"sensor = {said!r}", place=place,
                             remedy='Write sensor = "lost", or "back"')  # fmt: skip
        return LOST if said == "lost" else 0.0
    brake = newton_metres(raw, what, place)
    if brake < 0.0:
        raise InputError("a brake below zero", place=place, remedy="0 opens it")
    return brake


def _gain(said: object, what: Happening, place: str) -> float:
    """Return by how much a current sensor reads too much or too little, as a ratio."""
    if isinstance(said, bool) or not isinstance(said, int | float) or not 0.2 <= said <= 5.0:
        raise InputError(f"{what} = {said!r}", place=place,
                         remedy="Write a ratio: 1.05 reads 5 % too much")  # fmt: skip
    return float(said)


def start_of(raw: Mapping[str, object], place: str) -> Start:
    """Return how the machine is as the scenario begins.

    Raises
    ------
    InputError : an entry without sense

    """
    given = raw.get("start", {})
    place = f"{place}, start"
    if not isinstance(given, dict):
        raise InputError("is no table", place=place, remedy="Write [start]")
    refuse_unknown(given, _START_KEYS, place)
    speed = quantity(given, "speed", Kind.SPEED, place, signed=True) if "speed" in given else 0.0
    warmer = given.get("warmer", 0.0)
    if isinstance(warmer, bool) or not isinstance(warmer, int | float) or not math.isfinite(warmer):
        raise InputError("warmer is no number", place=place, remedy="Write it in K: warmer = 60")
    if not -_HOTTEST <= warmer <= _HOTTEST:
        raise InputError(f"a winding warmer by {warmer:g} K", place=place,
                         remedy="Check the digits")  # fmt: skip
    return Start(speed=speed, warmer=float(warmer))
