"""References and loads of a scenario that come from a CSV file.

The first row names the columns with their units, `t [s],speed [rpm]`; times rise. Between its rows
a speed or a torque goes straight, a position along a cubic, a current is held. A torque may stand
over the shaft's angle too.
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

Scales = Mapping[str, float]  # SI of each unit that a column may have
Unit = Kind | Scales
MOST_ROWS = 480  # of references: a drive holds 512 steps
_MOST_LOADS = 20_000
_FINEST = 1e-3  # s, at which a torque that changes is renewed
_ANGLES = {"turns": math.tau, "deg": math.tau / 360.0, "°": math.tau / 360.0, "rad": 1.0}
_TORQUES = {"N·m": 1.0, "mN·m": 1e-3, "Nm": 1.0, "N m": 1.0, "mNm": 1e-3}


def read_table(path: Path, columns: Mapping[str, Unit], most: int) -> list[list[float]]:
    """Return the rows of a table in SI, each in the order of `columns`.

    Parameters
    ----------
    columns : what stands in it, rising in the first one; times from zero on
    most : rows that are taken

    Raises
    ------
    InputError : no such file, no such columns, a cell that is no number, rows that do not rise

    """
    rows = _cells(path)
    if len(rows) < 2:
        raise InputError("no rows", place=str(path), remedy=f"Begin it with {_header(columns)}")
    scales = _scales(rows[0], columns, path)
    if len(rows) - 1 > most:
        raise InputError(f"{len(rows) - 1} rows", place=str(path),
                         remedy=f"Up to {most} are taken: thin it out")  # fmt: skip
    table = [_row(row, scales, f"{path}, row {n}") for n, row in enumerate(rows[1:], 2)]
    timed = next(iter(columns.values())) is Kind.TIME
    if (timed and table[0][0] < 0.0) or not all(b[0] > a[0] for a, b in pairwise(table)):
        cause = "its times do not rise from zero on" if timed else "its angles do not rise"
        raise InputError(cause, place=str(path), remedy="Put the rows in order")
    return table


def _cells(path: Path) -> list[list[str]]:
    lines = [line for line in text_lines(read_text(path)) if not line.startswith("#")]
    return list(csv.reader(io.StringIO("\n".join(lines)), skipinitialspace=True))


def _header(columns: Mapping[str, Unit]) -> str:
    usual = {Kind.TIME: "s", Kind.SPEED: "rpm", Kind.CURRENT: "A peak"}
    units = {name: usual[unit] if isinstance(unit, Kind) else next(iter(unit))
             for name, unit in columns.items()}  # fmt: skip
    return f"'{','.join(f'{name} [{unit}]' for name, unit in units.items())}'"


def _scales(heads: list[str], columns: Mapping[str, Unit], path: Path) -> list[tuple[int, float]]:
    """Return where each column stands, and its SI for each unit."""
    found = _heads(heads)
    made = []
    for name, kind in columns.items():
        at, unit = found.get(name, (-1, ""))
        if at < 0:
            raise InputError(f"no column '{name}'", place=str(path),
                             remedy=f"Begin it with {_header(columns)}")  # fmt: skip
        if not isinstance(kind, Kind):
            if unit not in kind:
                written = " or ".join(f"{name} [{one}]" for one in list(kind)[:2])
                raise InputError(f"'{unit}' is no unit of {name}", place=f"{path}, {name}",
                                 remedy=f"Write {written}")  # fmt: skip
            made.append((at, kind[unit]))
            continue
        try:
            made.append((at, parse(kind, f"1 {unit}").value))
        except InputError as error:
            raise InputError(error.cause, place=f"{path}, {name}", remedy=error.remedy) from error
    return made


def _heads(heads: list[str]) -> dict[str, tuple[int, str]]:
    """Return the columns that a first row names: where each stands, and its unit."""
    found = {}
    for at, head in enumerate(heads):
        name, _, unit = head.strip().removesuffix("]").partition("[")
        found[name.strip()] = (at, unit.strip())
    return found


def _row(cells: list[str], scales: list[tuple[int, float]], place: str) -> list[float]:
    try:
        values = [scale * float(cells[at]) for at, scale in scales]
    except (ValueError, IndexError) as error:
        raise InputError("a cell that is no number", place=place, remedy="Mend it") from error
    if not all(math.isfinite(value) for value in values):
        raise InputError("a cell that is not finite", place=place, remedy="Mend it")
    return values


def read_path(path: Path) -> list[tuple[float, float, float]]:
    """Return (s, rad, rad/s) of a table of position, with the speed at each row.

    Where no column tells the speed it is that of the cubic spline through all rows, at rest at both
    ends: the acceleration is continuous then.

    Raises
    ------
    InputError : as `read_table`; a single row, or a speed at an end

    """
    columns: dict[str, Unit] = {"t": Kind.TIME, "position": _ANGLES}
    cells = _cells(path)
    if cells and "speed" in _heads(cells[0]):
        columns["speed"] = Kind.SPEED
    rows = read_table(path, columns, MOST_ROWS)
    if len(rows) < 2:
        raise InputError("a single row leads nowhere", place=str(path), remedy="Add another")
    if "speed" in columns:
        if rows[0][2] or rows[-1][2]:
            raise InputError("it begins or ends at a speed", place=str(path),
                             remedy="Let its first and last row be at rest")  # fmt: skip
        return [(at, position, speed) for at, position, speed in rows]
    from scipy.interpolate import CubicSpline

    at, position = np.array(rows, dtype=np.float64).T
    speeds = CubicSpline(at, position, bc_type="clamped")(at, 1)
    return list(zip(at.tolist(), position.tolist(), speeds.tolist(), strict=True))


def read_loads(path: Path) -> list[tuple[float, float]]:
    """Return (s, N·m) of a table of torque, between its rows as often as it is renewed.

    Raises
    ------
    InputError : as `read_table`

    """
    rows = read_table(path, {"t": Kind.TIME, "torque": _TORQUES}, _MOST_LOADS)
    at, torque = np.array(rows).T
    step = max(_FINEST, float(at[-1] - at[0]) / _MOST_LOADS)
    made: list[tuple[float, float]] = []
    for (t0, a), (t1, b) in pairwise(zip(at.tolist(), torque.tolist(), strict=True)):
        many = max(round((t1 - t0) / step), 1) if a != b else 1
        # Held about its middle: the mean over each step is that of the straight line.
        made += [(t0 + (t1 - t0) * k / many, a + (b - a) * (k + 0.5) / many) if a != b
                 else (t0, a) for k in range(many)]  # fmt: skip
    return [*made, (float(at[-1]), float(torque[-1]))]


def read_pulls(path: Path, most: int) -> tuple[tuple[float, float], ...] | None:
    """Return (rad, N·m) of a table of torque over the shaft's angle; None where it is over time.

    Parameters
    ----------
    most : rows that are taken

    Raises
    ------
    InputError : as `read_table`

    """
    rows = _cells(path)
    if not rows or "angle" not in _heads(rows[0]):
        return None
    found = read_table(path, {"angle": _ANGLES, "torque": _TORQUES}, most)
    return tuple((angle, torque) for angle, torque in found)
