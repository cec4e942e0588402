"""The machine shelf: a folder of the user's own axis files, and the examples that ship.

A line is looked for by words of its name and by ratings as one says them: '48 V 7 A'.
"""

import importlib.resources
import math
import re
from dataclasses import dataclass
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import read_text, write_atomic
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.copied import copied
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM

_RATING = re.compile(r"(\d+(?:[.,]\d+)?)\s*(v|a|rpm)\b", re.IGNORECASE)
_NEAR = 0.12  # by what ratio a rating may be off


@dataclass(frozen=True, slots=True)
class Shelved:
    """A machine on the shelf."""

    name: str
    file: str
    text: str  # of its axis file
    volts: float
    rms: float  # A
    rpm: float
    own: bool  # the user's, not an example
    trouble: str = ""  # why it cannot be taken; empty: it can

    @property
    def rating(self) -> str:
        """Its rating in one line."""
        if self.trouble:
            return self.trouble
        told = [(self.volts, "V"), (self.rms, "A rms"), (self.rpm, "rpm")]
        return "  ".join(f"{digits(value, 3)} {unit}" for value, unit in told if value)


def folder() -> Path:
    """Return the folder of the user's machine files."""
    from platformdirs import user_data_path

    return user_data_path("oarlock") / "machines"


def shelf() -> tuple[Shelved, ...]:
    """Return all machines, the user's own first; a file that makes no sense says so.

    Reads files: work for a job.
    """
    own = sorted(folder().glob("*.toml")) if folder().is_dir() else []
    found = [_read(path) for path in own]
    examples = importlib.resources.files("oarlock.demo")
    for item in sorted(examples.iterdir(), key=lambda one: one.name):
        if item.name.endswith(".axis.toml"):
            found.append(_shelved(item.name, item.read_text(encoding="utf-8"), own=False))
    return tuple(found)


def _read(path: Path) -> Shelved:
    try:
        return _shelved(path.name, read_text(path), own=True)
    except InputError as error:
        return _odd(path.name, error)


def _odd(file: str, error: InputError) -> Shelved:
    return Shelved(file.removesuffix(".toml").removesuffix(".axis"), file, "", 0.0, 0.0, 0.0,
                   own=True, trouble=str(error))  # fmt: skip


def _shelved(file: str, text: str, *, own: bool) -> Shelved:
    try:
        axis = parse_axis(text, place=file)
    except InputError as error:
        return _odd(file, error)
    m, bus = axis.machine, axis.inverter.bus_voltage
    return Shelved(
        axis.name, file, text,
        bus.value if bus.is_known else 0.0,
        m.rated_current.value / math.sqrt(2.0) if m.rated_current.is_known else 0.0,
        m.max_speed.value / RPM if m.max_speed.is_known else 0.0,
        own=own,
    )  # fmt: skip


def fits(one: Shelved, query: str) -> bool:
    """Return whether a machine has the ratings and the words that were typed."""
    rest = query
    for found in _RATING.finditer(query):
        value, unit = float(found.group(1).replace(",", ".")), found.group(2).lower()
        has = {"v": one.volts, "a": one.rms, "rpm": one.rpm}[unit]
        peak = unit == "a" and _near(math.sqrt(2.0) * has, value)
        if not (_near(has, value) or peak):
            return False
        rest = rest.replace(found.group(0), " ")
    words = [word for word in rest.casefold().split() if word not in ("rms", "peak")]
    return all(word in one.name.casefold() for word in words)


def _near(has: float, value: float) -> bool:
    return has > 0.0 and abs(has / value - 1.0) <= _NEAR if value > 0.0 else False


def put(axis: Axis) -> Path:
    """Put an axis's machine on the shelf and return its file; an older one of its name is kept.

    What was measured becomes an entry; what belongs to one drive stays behind.

    Raises
    ------
    InputError : the file cannot be written

    """
    machine = copied(axis, axis.name)
    plain = re.sub(r"[^\w-]+", "-", axis.name.lower()).strip("-") or "machine"
    path = folder() / f"{plain}.axis.toml"
    number = 2
    while path.exists() and path.read_text(errors="replace") != format_axis(machine):
        path = folder() / f"{plain}-{number}.axis.toml"
        number += 1
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"this folder cannot be made: {error.strerror}", place=str(path.parent),
                         remedy="Check its permissions") from error  # fmt: skip
    write_atomic(path, format_axis(machine).encode(), backup=False)
    return path
