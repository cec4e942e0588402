"""A scenario's points as they are drawn, and its text with one of them moved; pure."""

import math
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import parse_toml
from oarlock.quantities.shown import USUAL, Units
from oarlock.rehearse.scenario import Control, Scenario
from oarlock.views.rehearsal import scenario_of
from oarlock.views.rehearsal_drawn import asked_as

_STEPS = 400.0  # places of a point in time over the whole duration, at least
_HEIGHTS, _LEAST = 200.0, 1e-3  # places in value, up to the largest; in the unit that is drawn
_WRITTEN = {"turns": "", "rpm": " rpm", "rad/s": " rad/s", "A": " A peak", "A rms": " A rms"}
_KEYS = {Control.POSITION: "by", Control.SPEED: "speed", Control.CURRENT: "current"}


@dataclass(frozen=True, slots=True)
class Handle:
    """Where a point lies in the plot of what is asked: s, and the unit that is drawn."""

    at: float
    value: float


@lru_cache(maxsize=8)  # a drag asks for the same text again and again
def _read(text: str) -> Scenario:
    return scenario_of(text)


def handles_of(text: str, units: Units = USUAL) -> tuple[Handle, ...]:
    """Return the points of a scenario's text; none where it makes no sense."""
    try:
        scenario = _read(text)
    except InputError:
        return ()
    return () if scenario.is_tabled else _handles(scenario, units)


def _handles(scenario: Scenario, units: Units) -> tuple[Handle, ...]:
    found, before = [], 0.0
    for point in scenario.points:
        value = point.value / asked_as(scenario.control, units)[1].per
        if scenario.control is Control.POSITION:
            value = before = before + value
        found.append(Handle(point.at, value))
    return tuple(found)


def beside_project(text: str, folder: Path, project: Path) -> str:
    """Return a scenario's text of another folder, its tables named so that the project finds them.

    Raises
    ------
    InputError : not TOML

    """
    import tomlkit

    if folder == project:
        return text
    raw = parse_toml(text, place="scenario")
    document = tomlkit.parse(text)
    for key in ("points", "loads"):
        name = raw.get(key)
        if isinstance(name, str) and not (project / name).exists():
            document[key] = str((folder / name).resolve())
    return tomlkit.dumps(document)


def moved(text: str, number: int, to: Handle, units: Units = USUAL) -> str:
    """Return the text with a point moved, between its neighbours in time; all else stays.

    The moves after it go as far as they did. A point that is a wave alone moves in time. It is
    written in the unit that is drawn, where a scenario may have it.

    Raises
    ------
    InputError : the text makes no sense

    """
    import tomlkit

    scenario = _read(text)
    handles, control = _handles(scenario, units), scenario.control
    grain = _grain(scenario.duration / _STEPS)
    last = min(scenario.gates_off, scenario.duration)
    low = handles[number - 1].at + grain if number else 0.0
    high = (handles[number + 1].at if number + 1 < len(handles) else last) - grain
    at = round(min(max(to.at, low), max(high, low)) / grain) * grain
    value = to.value
    if control is Control.POSITION and number:
        value -= handles[number - 1].value
    step = _grain(max(abs(value), *(abs(one.value) for one in handles), _LEAST) / _HEIGHTS)
    value = round(value / step) * step
    document = tomlkit.parse(text)
    points = document["points"]
    assert isinstance(points, list)
    table = points[number]
    table["at"] = f"{at:.6g} s"
    if _KEYS[control] in table:
        scale = asked_as(control, units)[1]
        usual = asked_as(control)[1]
        if scale.unit not in _WRITTEN:
            scale, value = usual, value * scale.per / usual.per
        table[_KEYS[control]] = f"{value:.6g}{_WRITTEN[scale.unit]}"
    return tomlkit.dumps(document)


def _grain(most: float) -> float:
    """Return the largest of 1, 2, 5 times a power of ten that is not above `most`."""
    power = 10.0 ** math.floor(math.log10(most))
    return max(n * power for n in (1.0, 2.0, 5.0) if n * power <= most * 1.0001)
