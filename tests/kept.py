"""Plain values of anything, kept in files, and what differs from them.

What is kept is what a number or a sentence was when it was last looked at. A test that fails here
says that it moved, not that it is wrong: numbers have tests of their own against what is true.
"""

import inspect
import json
import os
import re
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass
from enum import Enum
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from oarlock.control.current import CurrentLoop
from oarlock.control.position import PositionLoop
from oarlock.control.speed import SpeedLoop
from oarlock.machine import Axis
from oarlock.records import Record

_EXACT = re.compile(r"-?\d+\.\d{8,}(e[-+]?\d+)?")  # numbers with all their digits, in a text
Plain = dict[str, Any] | list[Any] | str | float | int | bool | None


def told_by(reading: object) -> Plain:
    """Return what a reading tells beyond its fields."""
    return {
        name: plain(getattr(reading, name))
        for name, kind in inspect.getmembers(type(reading))
        if isinstance(kind, property | cached_property) and not name.startswith("_")
    }


def plain(value: Any) -> Plain:
    """Return a value as it is kept: arrays by what sums tell of them, objects by their fields."""
    if isinstance(value, np.ndarray):
        return _of_array(value)
    if isinstance(value, Enum):
        return value.name
    if isinstance(value, str):
        return _EXACT.sub(lambda found: f"{float(found[0]):.8g}", value)
    if isinstance(value, bool | int) or value is None:
        return value
    if isinstance(value, float | np.floating):
        return float(f"{value:.9g}") if np.isfinite(value) else str(value)
    if isinstance(value, complex):
        return [value.real, value.imag]
    if isinstance(value, Mapping):
        return {str(key): plain(one) for key, one in value.items()}
    if isinstance(value, tuple | list):
        return _of_many(value)
    if is_dataclass(value) and not isinstance(value, _LEFT_OUT):
        return {one.name: plain(getattr(value, one.name)) for one in fields(value)}
    return type(value).__name__


_LEFT_OUT = (Axis, Record, PositionLoop, SpeedLoop, CurrentLoop)


def _of_many(values: Sequence[Any]) -> Plain:
    """Return the items; of many of one kind what tells the columns, of others which is where."""
    kinds = {type(one) for one in values}
    if len(values) <= _FEW:
        return [plain(one) for one in values]
    if kinds <= {float, int, bool}:
        return _of_array(np.array(values))
    if len(kinds) == 1 and is_dataclass(values[0]):
        return {one.name: _of_many([getattr(item, one.name) for item in values])
                for one in fields(values[0])}  # fmt: skip
    every = list(map(plain, values))
    distinct = [one for n, one in enumerate(every) if one not in every[:n]]
    return {"of": distinct, "which": _of_array(np.array([distinct.index(v) for v in every]))}


_FEW = 6  # items that are kept one by one


def _of_array(x: "np.ndarray[Any, Any]") -> Plain:
    """Return what tells an array: its size, and sums in which each place counts for itself."""
    if x.dtype.kind not in "fiubc":
        return [str(one) for one in x[:3]]
    flat = np.nan_to_num(x.astype(complex).ravel(), nan=1e3, posinf=1e6, neginf=-1e6)
    place = 1.0 + np.arange(flat.size) / max(flat.size, 1)
    sums = [flat.real.sum(), flat.real @ place, flat.imag @ place]
    return {
        "size": float(np.abs(flat).sum()),
        "shape": list(x.shape),
        "sums": list(map(float, sums)),
    }


_NEAR, _NOTHING = 1e-5, 1e-12  # of a number; of one that is zero but for rounding


_KEPT_ON = "processor.txt"


def processor() -> str:
    """Return what decides how sums are rounded: the processor's kind, which BLAS goes by.

    A fit that is steep in its last digits, and a drive whose converter turns on one, come out
    apart by up to some per cent of their uncertainty on another kind.
    """
    told = Path("/proc/cpuinfo").read_text().splitlines()
    names = sorted({line for line in told if line.startswith(("model name", "flags"))})
    return "\n".join([*names, os.environ.get("OPENBLAS_CORETYPE", "")]) + "\n"


def can_compare(folder: Path) -> bool:
    """Return whether a folder was kept on this kind of processor."""
    return processor() == (folder / _KEPT_ON).read_text()


def assert_stays(folder: Path, case: str, now: Plain) -> None:
    """Fail where something differs from what a folder keeps of a case."""
    found = list(apart(json.loads(_path(folder, case).read_text()), json.loads(json.dumps(now))))
    said = [f"{where}: {str(old)[:90]} is {str(new)[:90]} now" for where, old, new in found[:6]]
    assert not found, f"{'; '.join(said)}. If it is meant: make told, then read what has changed"


def keep(folder: Path, cases: Mapping[str, Callable[[], Plain]]) -> None:
    """Write a folder's files anew."""
    folder.mkdir(exist_ok=True)
    for case, tell in cases.items():
        begun = time.monotonic()
        told = json.dumps(tell(), indent=0, ensure_ascii=False)
        _path(folder, case).write_text(f"{told}\n")
        print(f"{case:60}{time.monotonic() - begun:6.1f} s", flush=True)  # noqa: T201
    (folder / _KEPT_ON).write_text(processor())


def _path(folder: Path, case: str) -> Path:
    return folder / f"{re.sub('[^a-z0-9A-Z]+', '_', case)}.json"


def apart(
    kept: Any, now: Any, where: str = "", size: float = 0.0
) -> Iterator[tuple[str, Any, Any]]:
    """Yield (where, kept, now) of what differs; numbers by a share of themselves or of `size`."""
    if isinstance(kept, dict) and isinstance(now, dict):
        for key in kept.keys() | now.keys():
            of_array = kept.get("size", 0.0) if key == "sums" else 0.0
            missing = "nothing"
            yield from apart(kept.get(key, missing), now.get(key, missing), f"{where}/{key}",
                              of_array)  # fmt: skip
    elif isinstance(kept, list) and isinstance(now, list) and len(kept) == len(now):
        for n, (one, other) in enumerate(zip(kept, now, strict=True)):
            yield from apart(one, other, f"{where}/{n}", size)
    elif isinstance(kept, float) and isinstance(now, float | int):
        if abs(now - kept) > _NEAR * max(abs(kept), size) + _NOTHING:
            yield where, kept, now
    elif kept != now:
        yield where, kept, now
