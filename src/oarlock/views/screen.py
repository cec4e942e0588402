"""What the screen keeps in a project, as frozen data: to and from plain values.

A project may come from elsewhere. What is not known here, or not of its kind, is not taken over.
"""

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace

from oarlock.records import Plain

# Kept once for the project; everything else for each axis, as `AXIS/key`.
SHARED = {"axis", "stage", "window", "dark", "units"}
STEP, LOAD, RAMP = "step", "load", "ramp"
SWEEP, CHIRP, MULTISINE = "sweep", "quick sweep", "multisine"
SPEED_TESTS = (STEP, LOAD, RAMP, SWEEP, CHIRP, MULTISINE)
_DRIVE = re.compile(r"[a-z0-9_-]{1,40}")  # it stands on a command line


@dataclass(frozen=True, slots=True, kw_only=True)
class Written:
    """What was written to a firmware file, and when."""

    file: str
    time: str  # "14:05"
    values: Mapping[str, float] = field(default_factory=dict)  # by key


@dataclass(frozen=True, slots=True, kw_only=True)
class StepSettings:
    """How the verifying step was set last."""

    axis_name: str = "q"
    amplitude: float | None = None  # A; None: what suits the axis
    bias: float | None = None
    at_once: bool = False  # a sweep's sines sound all at once


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedSettings:
    """How the test of the speed loop was set last."""

    kind: str = STEP  # which test
    speed: float | None = None  # rad/s; None: what suits the axis
    amplitude: float | None = None  # rad/s
    torque: float | None = None  # N·m
    change: float | None = None  # rad/s, of a ramp
    acceleration: float | None = None  # rad/s²
    jerk_time: float | None = None  # s


def with_speed_number(settings: SpeedSettings, name: str, value: float) -> SpeedSettings:
    """Return settings with one number of the speed loop's test (SI) as it was set."""
    numbers = {f.name: getattr(settings, f.name) for f in fields(settings) if f.name != "kind"}
    return SpeedSettings(kind=settings.kind, **(numbers | {name: value}))


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveSettings:
    """How the test of the position loop was set last; None: what suits the axis."""

    distance: float | None = None  # rad
    speed: float | None = None  # rad/s
    acceleration: float | None = None  # rad/s²
    jerk_time: float | None = None  # s


@dataclass(frozen=True, slots=True, kw_only=True)
class Screen:
    """What was on screen, and what was told or asked there."""

    axis: str = ""
    stage: str = "machine"
    window: tuple[int, int] = (1280, 800)  # px
    dark: bool = False
    units: Mapping[str, str] = field(default_factory=dict)  # in which values are shown
    header: str = ""  # path of the firmware file
    map: Mapping[str, str] = field(default_factory=dict)  # symbol to key; empty: by its names
    practice: str = "winch"  # which practice drive stands for this axis
    channel: str = ""  # by which this axis's drive was reached last
    scenario: str = ""  # text of the one that is rehearsed; empty: a usual one
    bridge: str = ""  # of the inverter that it is rehearsed with; empty: averaged
    rehearsed: Mapping[str, str] = field(default_factory=dict)  # what came of it, for the rail
    proven: str = ""  # digest of file and values that a proof held for
    handover_written: Written | None = None
    sensing: str = ""  # the step that is shown
    identify: str = ""  # the quantity that is shown
    map_omega: float | None = None  # rad/s, of the operating map's cursor
    standing: tuple[float, float] = (0.0, 0.0)  # turns between which the shaft stands
    may_turn: bool = False  # whether it was said that the shaft may turn
    winding: float | None = None  # °C, as noted
    step: StepSettings = field(default_factory=StepSettings)
    speed: SpeedSettings = field(default_factory=SpeedSettings)
    move: MoveSettings = field(default_factory=MoveSettings)


def plain(value: object) -> Plain:
    """Return a field's value as a project keeps it."""
    if isinstance(value, Written):
        return {"file": value.file, "time": value.time, **value.values}
    if isinstance(value, StepSettings | SpeedSettings | MoveSettings):
        told = {f.name: getattr(value, f.name) for f in fields(value)}
        return {name: one for name, one in told.items() if one is not None}
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, Mapping):
        return dict(value)
    return value if isinstance(value, str | int | float | bool) else None


def taken(screen: Screen, kept: Mapping[str, object]) -> Screen:
    """Return the screen with those kept values that are known and of their kind."""
    found = {}
    for key, value in kept.items():
        convert = _KINDS.get(key)
        try:
            if convert is not None:
                found[key] = convert(value)
        except (TypeError, ValueError):
            continue  # not of its kind: it is not missed
    return replace(screen, **found)  # type: ignore[arg-type]


def _text(value: object) -> str:
    if not isinstance(value, str) or len(value) >= 65536:
        raise TypeError("no text")
    return value


def _number(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise TypeError("no number")
    return value


def _flag(value: object) -> bool:
    if not isinstance(value, bool):
        raise TypeError("no flag")
    return value


def _size(value: object) -> tuple[int, int]:
    if not isinstance(value, list) or len(value) != 2:
        raise TypeError("no size")
    if not all(isinstance(n, int) and 200 <= n <= 20_000 for n in value):
        raise ValueError("no size of a window")
    return value[0], value[1]


def _span(value: object) -> tuple[float, float]:
    if not isinstance(value, list) or len(value) != 2:
        raise TypeError("no span")
    return _number(value[0]), _number(value[1])


def _texts(value: object) -> dict[str, str]:
    if not isinstance(value, dict):
        raise TypeError("no table")
    return {_text(key): _text(one) for key, one in value.items()}


def _practice(value: object) -> str:
    if not _DRIVE.fullmatch(_text(value)):
        raise ValueError("no drive")
    return _text(value)


def _written(value: object) -> Written:
    if not isinstance(value, dict):
        raise TypeError("no table")
    values = {_text(k): _number(v) for k, v in value.items() if k not in ("file", "time")}
    return Written(file=_text(value.get("file", "")), time=_text(value.get("time", "")),
                   values=values)  # fmt: skip


def _step(value: object) -> StepSettings:
    if not isinstance(value, dict):
        raise TypeError("no table")
    numbers = {k: _number(value[k]) for k in ("amplitude", "bias") if k in value}
    return StepSettings(axis_name="d" if value.get("axis_name") == "d" else "q",
                        amplitude=numbers.get("amplitude"), bias=numbers.get("bias"),
                        at_once=value.get("at_once") is True)  # fmt: skip


def _speed(value: object) -> SpeedSettings:
    if not isinstance(value, dict):
        raise TypeError("no table")
    names = [f.name for f in fields(SpeedSettings) if f.name != "kind"]
    kind = value.get("kind")
    return SpeedSettings(kind=str(kind) if kind in SPEED_TESTS else STEP,
                         **{k: _number(value[k]) for k in names if k in value})  # fmt: skip


def _move(value: object) -> MoveSettings:
    if not isinstance(value, dict):
        raise TypeError("no table")
    names = [f.name for f in fields(MoveSettings)]
    return MoveSettings(**{k: _number(value[k]) for k in names if k in value})


_KINDS: dict[str, Callable[[object], object]] = {
    "axis": _text, "stage": _text, "window": _size, "dark": _flag, "header": _text,
    "map": _texts, "practice": _practice, "proven": _text,
    "channel": _text, "units": _texts, "scenario": _text, "bridge": _text, "rehearsed": _texts,
    "handover_written": _written,
    "sensing": _text, "identify": _text, "map_omega": _number, "standing": _span,
    "may_turn": _flag, "winding": _number, "step": _step, "speed": _speed, "move": _move,
}  # fmt: skip


def screen_of(kept: Mapping[str, object], axis: str, *, first: bool) -> Screen:
    """Return the screen that a project kept for one of its axes.

    Parameters
    ----------
    first : whether it is the project's first: before there were several, all belonged to it

    """
    own = f"{axis}/"
    begun = {k: v for k, v in kept.items() if "/" not in k and (first or k in SHARED)}
    mine = {k.removeprefix(own): v for k, v in kept.items() if k.startswith(own)}
    return taken(taken(Screen(), begun), mine)
