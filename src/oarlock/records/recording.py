"""Recordings from any bench: what is in a file, and which of its columns means what.

A recording may have a header or none, its own names and units. A `Mapping` says what each
channel is made of; `recording` reads the file by it into a `Record` in SI.
"""

import math
import re
from collections.abc import Mapping as Map
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.files import read_head
from oarlock.records.record import Record

Array = NDArray[np.float64]
# What each unit is of, and what it is worth in SI.
UNITS: dict[str, tuple[str, float]] = {
    "s": ("s", 1.0), "ms": ("s", 1e-3), "us": ("s", 1e-6), "µs": ("s", 1e-6),
    "A": ("A", 1.0), "mA": ("A", 1e-3), "V": ("V", 1.0), "mV": ("V", 1e-3), "kV": ("V", 1e3),
    "rad": ("rad", 1.0), "deg": ("rad", math.pi / 180.0), "°": ("rad", math.pi / 180.0),
    "turn": ("rad", math.tau), "turns": ("rad", math.tau),
    "rad/s": ("rad/s", 1.0), "rpm": ("rad/s", math.tau / 60.0), "deg/s": ("rad/s", math.pi / 180.0),
    "N m": ("N m", 1.0), "Nm": ("N m", 1.0), "mNm": ("N m", 1e-3),
    "°C": ("°C", 1.0), "degC": ("°C", 1.0), "1": ("1", 1.0), "": ("", 1.0),
    "counts": ("counts", 1.0),
}  # fmt: skip
# The unit of each channel, and words by which a foreign column is taken for it.
CHANNELS: dict[str, tuple[str, tuple[str, ...]]] = {
    "t": ("s", ("t", "time", "zeit", "sec", "seconds", "timestamp")),
    "ia": ("A", ("ia", "i_a", "iu", "i_u", "phase a current")),
    "ib": ("A", ("ib", "i_b", "iv", "i_v")),
    "ic": ("A", ("ic", "i_c", "iw", "i_w")),
    "va": ("V", ("va", "v_a", "vu", "ua", "u_a")),
    "vb": ("V", ("vb", "v_b", "vv", "ub", "u_b")),
    "vc": ("V", ("vc", "v_c", "vw", "uc", "u_c")),
    "vab": ("V", ("vab", "v_ab", "uab", "emf", "bemf", "back emf", "voltage", "v", "u")),
    "id": ("A", ("id", "i_d")),
    "iq": ("A", ("iq", "i_q")),
    "vd": ("V", ("vd", "v_d", "ud")),
    "vq": ("V", ("vq", "v_q", "uq")),
    "id_ref": ("A", ("id_ref", "id ref", "id_cmd", "id*")),
    "iq_ref": ("A", ("iq_ref", "iq ref", "iq_cmd", "iq*")),
    "i": ("A", ("i", "current", "idc", "i_dc")),
    "vdc": ("V", ("vdc", "v_dc", "bus", "udc", "v_bus")),
    "theta_e": ("rad", ("theta_e", "electrical angle", "theta_el")),
    "theta_m": ("rad", ("theta_m", "position", "angle", "theta", "pos", "encoder")),
    "speed": ("rad/s", ("speed", "omega", "w", "rpm", "n", "velocity")),
    "torque": ("N m", ("torque", "te", "m")),
    "temperature": ("°C", ("temperature", "temp")),
}
FROM_FILE = "file"  # what a record's drive begins with, where none made it
_HEAD = re.compile(r"^\s*(.*?)\s*(?:[\[(]\s*([^\])]*?)\s*[\])])?\s*$")


@dataclass(frozen=True, slots=True)
class Source:
    """Where a channel comes from: a column of the file, by name or number, and its unit."""

    column: str
    unit: str = ""  # as in the file; empty: SI
    scale: float = 1.0  # besides the unit's


@dataclass(frozen=True, slots=True, kw_only=True)
class Preview:
    """The beginning of a file: names, units, numbers."""

    path: Path
    names: tuple[str, ...]  # "column 1" where the file has none
    units: tuple[str, ...]  # as written; empty where none
    rows: Array  # (few, columns)
    experiment: str  # as its own head says; empty: no head of ours
    header_lines: int
    delimiter: str | None  # None: blanks
    decimal_comma: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Mapping:
    """What a recording is: its experiment, its channels, and what its head does not say."""

    experiment: str
    sources: Map[str, Source]
    settings: Map[str, Any] = field(default_factory=dict)
    counts: float = 0.0  # a turn, where an angle comes in counts
    sample_time: float = 0.0  # s; 0: from the time column


def preview(path: Path) -> Preview:
    """Look at the beginning of a recording.

    Raises
    ------
    InputError : no numbers in its first lines

    """
    text = read_head(path, 64 * 1024)
    lines = text.splitlines()
    if len(text) == 64 * 1024 and len(lines) > 1:
        lines = lines[:-1]  # it may be cut
    start = next((n for n, line in enumerate(lines) if _is_data(line)), None)
    if start is None:
        raise InputError("no row of numbers in its beginning", place=str(path),
                         remedy="Save it as text, one row for each sample")  # fmt: skip
    delimiter = _delimiter(lines[start])
    own = re.search(r'^# experiment = "([^"]*)"', text, re.MULTILINE)
    data = [line for line in lines[start : start + 200] if _is_data(line)]
    comma = delimiter == ";" and any("," in line for line in data)
    width = len(_cells(data[0], delimiter))
    rows = [[_number(cell, comma=comma) for cell in _cells(line, delimiter)] for line in data]
    table = np.array([row for row in rows if len(row) == width], dtype=np.float64)
    head = lines[start - 1] if start and not lines[start - 1].startswith("#") else ""
    cells = _cells(head, delimiter) if head else []
    if len(cells) != width:
        cells = [f"column {n + 1}" for n in range(width)]
    found = [_HEAD.match(cell.strip().strip('"')) for cell in cells]
    return Preview(
        path=path,
        names=tuple(f[1] if f else "" for f in found),
        units=tuple((f[2] or "") if f else "" for f in found),
        rows=table,
        experiment=own[1] if own else "",
        header_lines=start,
        delimiter=delimiter,
        decimal_comma=comma,
    )


def _cells(line: str, delimiter: str | None) -> list[str]:
    return [cell.strip() for cell in line.split(delimiter)]


def _number(cell: str, *, comma: bool) -> float:
    try:
        return float(cell.replace(",", ".") if comma else cell)
    except ValueError:
        return math.nan


def _delimiter(line: str) -> str | None:
    return next((mark for mark in (";", "\t", ",") if mark in line), None)


def _is_data(line: str) -> bool:
    if not line.strip() or line.startswith("#"):
        return False
    mark = _delimiter(line)
    cells = _cells(line, mark)
    numbers = [math.isfinite(_number(c, comma=mark == ";")) for c in cells if c]
    return bool(numbers) and sum(numbers) > 0.6 * len(numbers)


def guess(seen: Preview, experiment: str, wanted: tuple[str, ...]) -> Mapping:
    """Return which column is most likely which channel: by name, then by unit, then by look.

    Parameters
    ----------
    wanted : the channels that the experiment can use, the needed ones first

    """
    sources: dict[str, Source] = {}
    free = list(range(len(seen.names)))
    for channel in wanted:
        unit, words = CHANNELS[channel]
        for n in free:
            name = seen.names[n].lower().strip()
            of = UNITS.get(seen.units[n], ("", 1.0))[0]
            fits = not seen.units[n] or of in (unit, "counts", "1")
            if fits and (name in words or name.replace(" ", "_") in words):
                sources[channel] = Source(seen.names[n], seen.units[n])
                free.remove(n)
                break
    for channel in wanted:  # what has no name of its own: by unit, where just one is left
        unit = CHANNELS[channel][0]
        alike = [n for n in free if UNITS.get(seen.units[n], ("", 1.0))[0] == unit]
        if channel not in sources and len(alike) == 1 and unit:
            sources[channel] = Source(seen.names[alike[0]], seen.units[alike[0]])
            free.remove(alike[0])
    if "t" not in sources and seen.rows.shape[0] > 3:
        rising = [n for n in free if _is_time(seen.rows[:, n])]
        if rising:
            sources["t"] = Source(seen.names[rising[0]], seen.units[rising[0]])
    return Mapping(experiment=experiment, sources=sources)


def _is_time(column: Array) -> bool:
    steps = np.diff(column)
    return bool(np.all(steps > 0.0) and np.ptp(steps) < 0.01 * float(np.mean(steps)))


def recording(seen: Preview, mapping: Mapping) -> Record:
    """Read the whole file by the mapping.

    Raises
    ------
    InputError : a column that is not there, a unit that is not of its channel, time that stands
        still or runs backward, samples missing, a value that is not finite

    """
    picked = {}
    for channel, source in mapping.sources.items():
        picked[channel] = (_index(seen, source.column), _worth(channel, source, mapping, seen))
    table = _table(seen, sorted({n for n, _ in picked.values()}))
    columns: dict[str, Any] = {channel: table[n] * worth for channel, (n, worth) in picked.items()}
    for channel, values in columns.items():
        bad = np.flatnonzero(~np.isfinite(values))
        if bad.size:
            place = f"{seen.path}, line {seen.header_lines + 1 + int(bad[0])}"
            raise InputError(f"{channel} is not a number", place=place,
                             remedy="Remove or mend the row")  # fmt: skip
    step = mapping.sample_time
    if "t" in columns:
        step = _time_step(columns["t"], seen)
        columns["t"] = columns["t"] - columns["t"][0]
    elif step > 0.0:
        columns["t"] = step * np.arange(next(iter(columns.values())).size)
    else:
        raise InputError("no column of time", place=str(seen.path),
                         remedy="Name one, or give the sample time")  # fmt: skip
    return Record(
        experiment=mapping.experiment,
        sample_time=step,
        columns=columns,
        units={channel: CHANNELS[channel][0] for channel in columns},
        settings=dict(mapping.settings),
        drive=f"{FROM_FILE} {seen.path.name}",
    )


def _index(seen: Preview, column: str) -> int:
    if column in seen.names:
        return seen.names.index(column)
    if column.isdigit() and 1 <= int(column) <= len(seen.names):
        return int(column) - 1
    raise InputError(f"no column '{column}'", place=str(seen.path),
                     remedy=f"It has {', '.join(seen.names)}")  # fmt: skip


def _worth(channel: str, source: Source, mapping: Mapping, seen: Preview) -> float:
    wanted = CHANNELS[channel][0]
    if source.unit not in UNITS:
        raise InputError(f"unit '{source.unit}' of {source.column} is not known",
                         place=str(seen.path),
                         remedy=f"Known: {', '.join(u for u in UNITS if u)}")  # fmt: skip
    of, worth = UNITS[source.unit]
    if of == "counts":
        if wanted != "rad" or mapping.counts <= 0.0:
            raise InputError(f"{source.column} is in counts", place=str(seen.path),
                             remedy="Say how many counts make a turn")  # fmt: skip
        return math.tau / mapping.counts * source.scale
    if of not in ("", "1", wanted):
        raise InputError(f"{source.column} is in {source.unit}, {channel} is in {wanted}",
                         place=str(seen.path), remedy="Pick another column or unit")  # fmt: skip
    return worth * source.scale


def _table(seen: Preview, wanted: list[int]) -> dict[int, Array]:
    """Read the wanted columns of the whole file."""
    lines: Any = seen.path
    if seen.decimal_comma:
        text = seen.path.read_text(encoding="utf-8-sig", errors="replace")
        lines = text.replace(",", ".").splitlines()
    try:
        found = np.loadtxt(lines, delimiter=seen.delimiter, skiprows=seen.header_lines,
                           usecols=wanted, comments="#", ndmin=2, unpack=True)  # fmt: skip
    except ValueError as error:
        cause = str(error).split(";")[0]
        raise InputError(f"cannot be read: {cause}", place=str(seen.path),
                         remedy="Is a row cut off, or a cell empty?") from error  # fmt: skip
    return dict(zip(wanted, np.asarray(found, dtype=np.float64), strict=True))


def _time_step(t: Array, seen: Preview) -> float:
    steps = np.diff(t)
    if steps.size == 0:
        raise InputError("one row only", place=str(seen.path), remedy="Record for longer")
    step = float(np.median(steps))
    place = f"{seen.path}, line {{}}"
    still = np.flatnonzero(steps <= 0.0)
    if still.size or step <= 0.0:
        at = int(still[0]) if still.size else 0
        word = "stands twice" if steps[at] == 0.0 else "runs backward"
        raise InputError(f"the time {word}", place=place.format(seen.header_lines + 2 + at),
                         remedy="Remove the row, or record again")  # fmt: skip
    return step
