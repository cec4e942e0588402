"""What is read off a record of any kind, and what the logbook says of it."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from oarlock.drive.contract.trips import LIMITS
from oarlock.errors import InputError
from oarlock.experiments.identify.kinds import record_kind
from oarlock.experiments.registry import KINDS, kind_of, loops_of
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.current_loop import CURRENT
from oarlock.machine.loops import LOOPS
from oarlock.records import Check, Finding, Reading, Record, Run

_RAN_AWAY = "Wrong direction, pole pairs or phase order? Prove the zero in Sensing"


def read(record: Record, axis: Axis) -> Reading:
    """Return what the right estimator makes of a record.

    Parameters
    ----------
    axis : as it was when the record was made, with the gains it ran with

    Raises
    ------
    InputError : no such experiment, or a record that its estimator cannot read

    """
    kind = kind_of(record_kind(record))
    if kind is None:
        raise InputError(f"unknown experiment '{record.experiment}'", place="record",
                         remedy=f"Known: {', '.join(kind.key for kind in KINDS)}")  # fmt: skip
    try:
        found = kind.read(record, axis)
    except (KeyError, IndexError, ValueError) as error:
        remedy = "Is the record complete, and of this experiment?"
        raise InputError(f"cannot be read: {error}", place="record", remedy=remedy) from error
    return _ended(found, record) if isinstance(found, Finding) and kind.tells_early else found


def _ended(finding: Finding, record: Record) -> Finding:
    """Return the finding, failed where the drive tripped on the way."""
    if record.ended == "done" or any(check.code == "search ended" for check in finding.checks):
        return finding
    check = Check(code="ran to its end", passed=False, sentence=f"The drive {record.ended}")
    return replace(finding, estimates={}, checks=(*finding.checks, check))


def remark(reading: Reading | None, record: Record) -> str:
    """Return what the program says of a run, in a few words."""
    if reading is not None:
        return reading.said
    kind = kind_of(record_kind(record))
    if kind is not None and kind.turns and record.trip in [trip.key for trip in LIMITS]:
        return f"{record.ended}. {_RAN_AWAY}"
    return "could not be read" if record.ended == "done" else record.ended


def sparkline(reading: Reading | None) -> tuple[float, ...]:
    """Return at most 40 numbers that draw a run in small."""
    if reading is None:
        return ()
    values = reading.curve
    pick = np.linspace(0, values.size - 1, min(values.size, 40)).astype(int)
    return tuple(round(float(v), 5) for v in values[pick])


def runs_like(run: Run, axis: Axis) -> bool:
    """Return whether a run was played with the gains and filters that are in use now."""
    loops = axis.loops.only(loops_of(run.kind))
    prefixes = tuple(f"{key}." for key in loops_of(run.kind))
    mine = {name: value for name, value in run.gains.items() if name.startswith(prefixes)}
    return bool(mine) and _completed(mine) == loops.numbers()


def _completed(numbers: dict[str, float]) -> dict[str, float]:
    """Return gains of a run with those that did not exist yet when it was played."""
    found = dict(numbers)
    for loop in LOOPS:
        own = {name: numbers[f"{loop.key}.{name}"] for name in loop.gains
               if f"{loop.key}.{name}" in numbers}  # fmt: skip
        if set(loop.gains) - set(loop.may_be_missing) <= set(own):
            found |= {f"{loop.key}.{item.key}": item.value
                      for item in loop.make_gains(own).listed()}  # fmt: skip
    return found


def gains_of(gains: Mapping[str, float]) -> CurrentGains | None:
    """Return the current loop's gains among those that a run was played with."""
    own = {name: gains.get(f"{CURRENT.key}.{name}") for name in CURRENT.gains}
    numbers = {name: float(value) for name, value in own.items() if value is not None}
    needed = set(own) - set(CURRENT.may_be_missing)
    return CurrentGains(**numbers) if needed <= set(numbers) else None
