"""Records as CSV: `# ` lines of TOML, one header row of `name [unit]`, SI values."""

import io
import re
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_head, read_text, shown, text_lines, write_atomic
from oarlock.records.record import Record

_COLUMN = re.compile(r"^\s*([A-Za-z_]\w*)\s*\[([^\]]*)\]\s*$")
_KNOWN = {"experiment", "sample_time", "settings", "drive", "date", "ended", "trip"}


def write_record(path: Path, record: Record) -> None:
    """Write `record` to `path`, whole or not at all."""
    import tomlkit

    head: dict[str, Any] = {"experiment": record.experiment, "sample_time": record.sample_time}
    head |= {"drive": record.drive, "date": record.date, "ended": record.ended}
    head |= {"trip": record.trip} if record.trip else {}
    head["settings"] = dict(record.settings)
    lines = [f"# {line}".rstrip() for line in tomlkit.dumps(head).splitlines()]
    names = list(record.columns)
    out = io.StringIO()
    out.write("\n".join(lines) + "\n")
    out.write(",".join(f"{name} [{record.units[name]}]" for name in names) + "\n")
    table = np.column_stack([record.columns[name] for name in names])
    for row in table.tolist():
        out.write(",".join(map(repr, row)) + "\n")
    write_atomic(path, out.getvalue().encode(), backup=False)


def read_record(path: Path) -> Record:
    """Read a record; errors name the file, the line and the column.

    Raises
    ------
    InputError : not CSV, truncated, a column without unit, a value that is not finite

    """
    lines, first = _beginning(path)
    head = _head(lines[:first], path)
    names, units = _columns(lines[first], path, first + 1)
    columns = _table(path, first + 1, len(names))
    sample_time = head.get("sample_time")
    return Record(
        experiment=str(head.get("experiment", "")),
        sample_time=_sound_time(sample_time, path),
        columns=dict(zip(names, columns, strict=True)),
        units=dict(zip(names, units, strict=True)),
        settings=head.get("settings", {}),
        drive=str(head.get("drive", "") or f"file {shown(Path(path.name))}"),
        date=str(head.get("date", "")),
        ended=str(head.get("ended", "done")),
        trip=str(head.get("trip", "")),
    )


def _head(lines: list[str], path: Path) -> dict[str, Any]:
    text = "\n".join(line[2:] if line.startswith("# ") else line[1:] for line in lines)
    try:
        head = parse_toml(text, place=str(path))
    except InputError as error:
        cause = f"the lines before the header are {error.cause}"
        raise InputError(cause, place=str(path), remedy="Mend that line") from error
    strange = set(head) - _KNOWN
    if strange:
        remedy = f"Known here: {', '.join(sorted(_KNOWN))}"
        raise InputError(f"unknown key {min(strange)}", place=str(path), remedy=remedy)
    if not isinstance(head.get("settings", {}), dict):
        raise InputError("settings is not a table", place=str(path), remedy="Write # [settings]")
    return head


def _columns(line: str, path: Path, number: int) -> tuple[list[str], list[str]]:
    names, units = [], []
    for cell in line.split(","):
        text = " ".join(cell.split())
        found = _COLUMN.match(text)
        if not found:
            cause = f"'{text.strip()}' is not a column name with its unit"
            place = f"{path}, line {number}"
            raise InputError(cause, place=place, remedy="Write it like 'iq [A]'")
        names.append(found[1])
        units.append(found[2])
    if len(set(names)) < len(names):
        raise InputError("a column stands twice", place=f"{path}, line {number}")
    return names, units


def _beginning(path: Path) -> tuple[list[str], int]:
    """Return the lines up to the header row, and the row's index."""
    size = 1 << 16
    while True:
        text = read_head(path, size)
        lines = text_lines(text)
        first = next((i for i, line in enumerate(lines) if not line.startswith("#")), len(lines))
        if first < len(lines) - 1 or len(text) < size:
            break
        size *= 8
    if first >= len(lines):
        raise InputError("no header row", place=str(path), remedy="Add 't [s],id [A],…'")
    return lines[: first + 1], first


def _table(path: Path, skipped: int, width: int) -> list[Any]:
    """Return the columns, read without a detour over text: 10 million rows are nothing odd."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # no samples: said below
            lines: Any = path
            if path.suffix.lower() in (".gz", ".bz2", ".xz", ".lzma"):  # it is text all the same
                lines = iter(text_lines(read_text(path)))
            table = np.loadtxt(lines, delimiter=",", skiprows=skipped, comments=None, ndmin=2,
                               dtype=np.float64, encoding="latin-1")  # fmt: skip
    except ValueError as error:
        raise _first_bad_line(path, width, skipped) from error
    if table.size == 0:
        raise InputError("no samples", place=str(path), remedy="The file may be truncated")
    if table.shape[1] != width:
        raise _first_bad_line(path, width, skipped)
    columns = []
    for i in range(width):
        column = table[:, i].copy()
        bad = np.flatnonzero(~np.isfinite(column))
        if bad.size:
            rows = [n for n, x in enumerate(text_lines(read_text(path)), 1) if x.strip()]
            place = f"{path}, line {[n for n in rows if n > skipped][int(bad[0])]}"
            raise InputError("a value is not finite", place=place, remedy="Remove or mend the row")
        columns.append(column)
    return columns


def _first_bad_line(path: Path, width: int, skipped: int) -> InputError:
    lines, number = text_lines(read_text(path))[skipped:], skipped + 1
    for offset, line in enumerate(lines):
        if not line.strip():
            continue
        cells = line.split(",")
        place = f"{path}, line {number + offset}"
        if len(cells) != width:
            cause = f"{len(cells)} values for {width} columns"
            return InputError(cause, place=place, remedy="The file may be truncated")
        for cell in cells:
            try:
                float(cell)
            except ValueError:
                return InputError(f"'{cell}' is not a number", place=place, remedy="Mend the row")
    return InputError("the table cannot be read", place=str(path), remedy="Check its rows")


def _sound_time(raw: object, path: Path) -> float:
    number = isinstance(raw, int | float) and not isinstance(raw, bool)
    if not number or not 0.0 < float(str(raw)) < 1e6:
        remedy = "Add '# sample_time = 62.5e-6'"
        raise InputError("sample_time is missing or no time", place=str(path), remedy=remedy)
    return float(str(raw))
