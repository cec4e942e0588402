"""References and loads of a scenario that come from a CSV file.

The first row names the columns with their units, `t [s],speed [rpm]`; times rise. Between its rows
a speed or a torque goes straight, a current is held.
"""

import csv
import io
import math
from collections.abc import Mapping
from itertools import pairwise
from pathlib import Path

import numpy as np

from oarlock.errors import InputError
from oarlock.files import read_text, text_lines
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind

MOST_ROWS = 480  # of references: a drive holds 512 steps
_MOST_LOADS = 20_000
_FINEST = 1e-3  # s, at which a torque that changes is renewed
_TORQUES = {"N·m": 1.0, "Nm": 1.0, "N m": 1.0, "mN·m": 1e-3, "mNm": 1e-3}


def read_table(path: Path, columns: Mapping[str, Kind | None], most: int) -> list[list[float]]:
    """Return the rows of a table in SI, each in the order of `columns`.

    Parameters
    ----------
    columns : what stands in it; None: a torque
    most : rows that are taken

    Raises
    ------
    InputError : no such file, no such columns, a cell that is no number, times that do not rise

    """
    lines = [line for line in text_lines(read_text(path)) if not line.startswith("#")]
    rows = list(csv.reader(io.StringIO("\n".join(lines)), skipinitialspace=True))
    if len(rows) < 2:
        raise InputError("no rows", place=str(path), remedy=f"Begin it with {_header(columns)}")
    scales = _scales(rows[0], columns, path)
    if len(rows) - 1 > most:
        raise InputError(f"{len(rows) - 1} rows", place=str(path),
                         remedy=f"Up to {most} are taken: thin it out")  # fmt: skip
    table = [_row(row, scales, f"{path}, row {n}") for n, row in enumerate(rows[1:], 2)]
    if table[0][0] < 0.0 or not all(b[0] > a[0] for a, b in pairwise(table)):
        raise InputError("its times do not rise from zero on", place=str(path),
                         remedy="Put the rows in order")  # fmt: skip
    return table


def _header(columns: Mapping[str, Kind | None]) -> str:
    units = {Kind.TIME: "s", Kind.SPEED: "rpm", Kind.CURRENT: "A peak", None: "N·m"}
    return f"'{','.join(f'{name} [{units[kind]}]' for name, kind in columns.items())}'"


def _scales(
    heads: list[str], columns: Mapping[str, Kind | None], path: Path
) -> list[tuple[int, float]]:
    """Return where each column stands, and its SI for each unit."""
    found = {}
    for at, head in enumerate(heads):
        name, _, unit = head.strip().removesuffix("]").partition("[")
        found[name.strip()] = (at, unit.strip())
    made = []
    for name, kind in columns.items():
        at, unit = found.get(name, (-1, ""))
        if at < 0:
            raise InputError(f"no column '{name}'", place=str(path),
                             remedy=f"Begin it with {_header(columns)}")  # fmt: skip
        if kind is None and unit not in _TORQUES:
            raise InputError(f"'{unit}' is no unit of torque", place=f"{path}, {name}",
                             remedy="Write torque [N·m] or torque [mN·m]")  # fmt: skip
        try:
            made.append((at, _TORQUES[unit] if kind is None else parse(kind, f"1 {unit}").value))
        except InputError as error:
            raise InputError(error.cause, place=f"{path}, {name}", remedy=error.remedy) from error
    return made


def _row(cells: list[str], scales: list[tuple[int, float]], place: str) -> list[float]:
    try:
        values = [scale * float(cells[at]) for at, scale in scales]
    except (ValueError, IndexError) as error:
        raise InputError("a cell that is no number", place=place, remedy="Mend it") from error
    if not all(math.isfinite(value) for value in values):
        raise InputError("a cell that is not finite", place=place, remedy="Mend it")
    return values


def read_loads(path: Path) -> list[tuple[float, float]]:
    """Return (s, N·m) of a table of torque, between its rows as often as it is renewed.

    Raises
    ------
    InputError : as `read_table`

    """
    rows = read_table(path, {"t": Kind.TIME, "torque": None}, _MOST_LOADS)
    at, torque = np.array(rows).T
    step = max(_FINEST, float(at[-1] - at[0]) / _MOST_LOADS)
    made: list[tuple[float, float]] = []
    for (t0, a), (t1, b) in pairwise(zip(at.tolist(), torque.tolist(), strict=True)):
        many = max(round((t1 - t0) / step), 1) if a != b else 1
        # Held about its middle: the mean over each step is that of the straight line.
        made += [(t0 + (t1 - t0) * k / many, a + (b - a) * (k + 0.5) / many) if a != b
                 else (t0, a) for k in range(many)]  # fmt: skip
    return [*made, (float(at[-1]), float(torque[-1]))]
