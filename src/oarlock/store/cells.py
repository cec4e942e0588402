"""Cells of the project file: records, runs and plain values, to and from SQLite."""

import json
import math
import zlib
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.records import Plain, Record, Run, Sums

_MOST_UNPACKED = 400_000_000  # bytes of one record: ten million rows of five channels
RUN_FIELDS = (
    "axis", "kind", "title", "started", "ended", "settings", "gains", "figures", "remark",
    "note", "pinned", "starred", "used", "sparkline",
)  # fmt: skip
# What cells that hold something else than they should lead to.
ODD = (
    zlib.error, ValueError, TypeError, KeyError, AttributeError, OverflowError, RecursionError,
    MemoryError,
)  # fmt: skip


def plain(value: object) -> object:
    """Return a value as SQLite holds it; numbers that JSON lacks become null."""
    if isinstance(value, Mapping | list | tuple):
        return json.dumps(_finite(value), default=str)  # dates and the like as text
    return int(value) if isinstance(value, bool) else value


def _finite(value: object) -> object:
    if isinstance(value, Mapping):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(item) for item in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def packed(record: Record) -> list[tuple[int, str, str, str, bytes]]:
    """Return (position, name, unit, type, compressed data) of each channel."""
    rows = []
    for position, (name, column) in enumerate(record.columns.items()):
        single = column.astype("<f4")
        exact = bool(np.array_equal(single.astype(np.float64), column))
        data = zlib.compress((single if exact else column.astype("<f8")).tobytes(), 6)
        rows.append((position, name, record.units[name], "<f4" if exact else "<f8", data))
    return rows


def unpacked(data: object, kind: object, left: int) -> NDArray[np.float64]:
    """Return one channel, of at most `left` bytes unpacked."""
    if not isinstance(data, bytes) or kind not in ("<f4", "<f8"):
        raise ValueError("a channel of an unknown type")
    unpacker = zlib.decompressobj()
    raw = unpacker.decompress(data, left)
    if unpacker.unconsumed_tail or not unpacker.eof:
        raise ValueError(f"a record is larger than {_MOST_UNPACKED // 1_000_000} MB")
    return np.frombuffer(raw, dtype=str(kind)).astype(np.float64)


def text(value: object) -> str:
    """Return a cell that must hold text."""
    if not isinstance(value, str):
        raise TypeError(f"{type(value).__name__} where text belongs")
    return value


def number(value: object) -> float:
    """Return a cell that must hold a number."""
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise TypeError(f"{type(value).__name__} where a number belongs")
    return float(value)


def obj(value: object) -> dict[str, Plain]:
    """Return a cell that must hold a JSON object."""
    found = json.loads(text(value))
    if not isinstance(found, dict):
        raise TypeError("no object where one belongs")
    return found


def summed(record: Record) -> tuple[str, str, bytes]:
    """Return (trip, channels, compressed sums) of a record."""
    if record.sums is None:
        return record.trip, "[]", b""
    data = zlib.compress(record.sums.table.astype("<f8").tobytes(), 6)
    return record.trip, json.dumps(record.sums.channels), data


def _sums(channels: object, data: object) -> Sums | None:
    names = json.loads(text(channels))
    if not isinstance(names, list) or not names:
        return None
    numbers = unpacked(data, "<f8", _MOST_UNPACKED)
    return Sums(tuple(text(name) for name in names), numbers.reshape(-1, 3 + 7 * len(names)))


def record_of(
    row: tuple[object, ...], channels: list[tuple[object, ...]], outcome: tuple[object, ...] | None
) -> Record:
    """Return a record of its rows; `outcome`: trip, channels and sums, where there are any."""
    columns, units, left = {}, {}, _MOST_UNPACKED
    for name, unit, kind, data in channels:
        key = text(name)
        columns[key] = unpacked(data, kind, left)
        left -= columns[key].nbytes // (2 if kind == "<f4" else 1)
        units[key] = text(unit)
    _, experiment, sample_time, settings, drive, date, ended = row
    return Record(
        experiment=text(experiment),
        sample_time=number(sample_time),
        columns=columns,
        units=units,
        settings=obj(settings),
        drive=text(drive),
        date=text(date),
        ended=text(ended),
        trip=text(outcome[0]) if outcome else "",
        sums=_sums(outcome[1], outcome[2]) if outcome else None,
    )


def _figures(value: object) -> dict[str, float]:
    return {k: math.nan if v is None else number(v) for k, v in obj(value).items()}


def _numbers(value: object) -> tuple[float, ...]:
    return tuple(float(v) for v in json.loads(text(value)))


def _gains(value: object) -> dict[str, float]:
    return {key: number(one) for key, one in obj(value).items()}


def _whole(value: object) -> int:
    if not isinstance(value, int):
        raise TypeError(f"{type(value).__name__} where a number belongs")
    return value


_CELLS: dict[str, Callable[[Any], Any]] = {
    "id": _whole, "settings": obj, "gains": _gains, "figures": _figures,
    "sparkline": _numbers, "pinned": bool, "starred": bool, "used": bool,
}  # fmt: skip


def run_of(row: tuple[object, ...]) -> Run:
    """Return a row of the logbook of its cells."""
    values = dict(zip(("id", *RUN_FIELDS), row, strict=True))
    return Run(**{name: _CELLS.get(name, text)(value) for name, value in values.items()})
