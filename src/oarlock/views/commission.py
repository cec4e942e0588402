"""What the commissioning panel shows: the proposal beside what stands."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.filters import Filter
from oarlock.machine.loop import Item, LoopSpec
from oarlock.machine.loops import LOOPS
from oarlock.quantities.display import digits, engineering, whole_degrees
from oarlock.quantities.kinds import RPM
from oarlock.records.quantity import QUANTITIES
from oarlock.views.current import picture as current_picture
from oarlock.views.position import picture as position_picture
from oarlock.views.screen import MoveSettings, SpeedSettings
from oarlock.views.speed import SpeedPicture
from oarlock.views.speed import picture as speed_picture

Array = NDArray[np.float64]
NONE = "–"


@dataclass(frozen=True, slots=True)
class Change:
    """One number of the proposal: its name (marked up), as it stands, as it would be."""

    name: str
    old: str
    new: str
    unit: str


@dataclass(frozen=True, slots=True, eq=False)
class Transient:
    """A load step of one size, as an axis answers it: s and rpm."""

    t: Array
    sag: Array


def numbers(before: Axis, after: Axis) -> tuple[Change, ...]:
    """Return what would change of the machine and of the gains, as people read it."""
    rows = (*_machine(before, after), *_gains(before, after), *_filters(before, after))
    return tuple(one for one in rows if one.old != one.new)


def figures(before: Axis, after: Axis) -> tuple[Change, ...]:
    """Return what the loops would do, beside what they do."""
    old, new = _figures(before), _figures(after)
    return tuple(
        Change(name, old.get(name, (NONE, ""))[0], value, unit)
        for name, (value, unit) in new.items()
    )


def _machine(before: Axis, after: Axis) -> list[Change]:
    rows = []
    for quantity in QUANTITIES:
        old, new = before.optional(quantity.path), after.optional(quantity.path)
        if new is None:
            continue
        scale = math.tau if quantity.key == "resonance" else 1.0
        unit = "Hz" if quantity.key == "resonance" else quantity.unit
        number, shown = engineering(new.value / scale, unit, 4)
        was = NONE
        if old is not None and old.value:
            ratio = new.value / old.value if old.value else 1.0
            was = digits(float(number.replace("−", "-")) / ratio, 4) if new.value else NONE
        rows.append(Change(quantity.symbol, was, number if new.value else "rigid", shown))
    return rows


def _gains(before: Axis, after: Axis) -> list[Change]:
    rows = []
    for loop in LOOPS:
        gains, old = after.loops[loop.key].gains, before.loops[loop.key].gains
        if gains is None:
            continue
        was = {item.key: item.value for item in old.listed()} if old is not None else {}
        for item in gains.listed():
            usual = item.unit == "1" and item.value == 1.0 and was.get(item.key, 1.0) == 1.0
            if not usual and (item.value or was.get(item.key)):
                text = digits(was[item.key], 3) if item.key in was else NONE
                unit = "" if item.unit == "1" else item.unit
                rows.append(Change(_name(loop, item), text, digits(item.value, 3), unit))
        still = {item.key for item in gains.listed()}
        rows += [Change(_name(loop, item), digits(item.value, 3), NONE, item.unit)
                 for item in (old.listed() if old is not None else ())
                 if item.key not in still]  # fmt: skip
    return rows


def _name(loop: LoopSpec, item: Item) -> str:
    return item.label if loop.key in item.label else f"{loop.key} {item.label}"


def _filters(before: Axis, after: Axis) -> list[Change]:
    """Return every filter of the torque by its place: what stands there, what would."""
    old, new = before.loops["speed"].filters, after.loops["speed"].filters
    rows = []
    for n in range(max(len(old), len(new))):
        was, will = old[n : n + 1], new[n : n + 1]
        kind = (will or was)[0].kind.value.replace("_", " ")
        rows.append(Change(f"{kind} {n + 1}", _hertz(was), _hertz(will), "Hz"))
    return rows


def _hertz(found: tuple[Filter, ...]) -> str:
    return digits(found[0].frequency / math.tau, 3) if found else NONE


def _figures(axis: Axis) -> dict[str, tuple[str, str]]:
    """Return (text, unit) of each loop's figures, for the loops that have gains."""
    found: dict[str, tuple[str, str]] = {}
    if axis.gains is None:
        return found
    try:
        current = current_picture(axis, "q", 1.0, 0.002)
        found["current crossover"] = (digits(current.crossover, 3), "Hz")
        found["current margin"] = (whole_degrees(current.phase_margin), "°")
        speed = _speed(axis)
        if speed is not None:
            found["speed crossover"] = (digits(speed.crossover, 3), "Hz")
            found["speed margin"] = (whole_degrees(speed.phase_margin), "°")
            found["dip under load"] = (digits(speed.load.dip / RPM, 2), "rpm")
        if axis.loops["position"].gains is not None:
            position = position_picture(axis, MoveSettings())
            found["position crossover"] = (digits(position.crossover, 3), "Hz")
            found["behind in a move"] = (digits(math.degrees(position.figures.following), 2), "°")
    except InputError:
        pass
    return found


def _speed(axis: Axis) -> SpeedPicture | None:
    if axis.loops["speed"].gains is None or axis.machine.inertia is None:
        return None
    return speed_picture(axis, SpeedSettings())


def load_steps(before: Axis, after: Axis) -> tuple[Transient | None, Transient | None]:
    """Return the same load step as both answer it, on the machine as it is known afterwards."""
    # Old gains on the new machine: what is compared is the gains.
    loops = after.loops.having("current", before.loops["current"])
    loops = loops.having("speed", before.loops["speed"])
    found: list[Transient | None] = []
    for axis in (replace(after, loops=loops), after):
        try:
            shown = _speed(axis) if axis.gains is not None else None
        except InputError:
            shown = None
        usable = shown is not None and shown.margins.stable
        found.append(Transient(shown.t, shown.sag / RPM) if usable and shown else None)
    return found[0], found[1]
