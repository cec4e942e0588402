"""The beginning of a text file of numbers: what parts its cells, its names and units, its rows.

Files from any bench: commas, semicolons, tabs or blanks between; decimal commas where commas do
not part; quoted cells; names with units in brackets behind, or in a row of their own beneath;
columns of text among the numbers.
"""

import csv
import math
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.files import read_head, text_lines

Array = NDArray[np.float64]
_HEAD = 64 * 1024  # bytes that are looked at
_SEEN = 200  # rows
_PACKED = {".gz", ".bz2", ".xz", ".lzma"}  # by these endings a reader would unpack


@dataclass(frozen=True, slots=True, kw_only=True)
class Preview:
    """The beginning of a file: names, units, numbers."""

    path: Path
    names: tuple[str, ...]  # "column 1" where the file has none
    units: tuple[str, ...]  # as written; empty where none
    rows: Array  # (few, columns); NaN where a cell is text
    experiment: str  # as its own head says; empty: no head of ours
    header_lines: int
    delimiter: str | None  # None: blanks
    decimal_comma: bool
    quoted: bool = False

    def index(self, column: str) -> int:
        """Return the index of a column by its name or number.

        Raises
        ------
        InputError : no such column, or two of that name

        """
        if self.names.count(column) > 1:
            numbers = [str(n + 1) for n, name in enumerate(self.names) if name == column]
            raise InputError(f"{len(numbers)} columns are called '{column}'", place=str(self.path),
                             remedy=f"Name it by its number: {' or '.join(numbers)}")  # fmt: skip
        if column in self.names:
            return self.names.index(column)
        if column.isdigit() and 1 <= int(column) <= len(self.names):
            return int(column) - 1
        raise InputError(f"no column '{column}'", place=str(self.path),
                         remedy=f"It has {', '.join(self.names)}")  # fmt: skip


def preview(path: Path) -> Preview:
    """Look at the beginning of a recording.

    Raises
    ------
    InputError : no numbers in its first lines

    """
    text = read_head(path, _HEAD)
    lines = text_lines(text)
    if len(text) == _HEAD and len(lines) > 1:
        lines = lines[:-1]  # it may be cut
    form, start = _form(lines)
    if form is None:
        raise InputError("no row of numbers in its beginning", place=str(path),
                         remedy="Save it as text, one row for each sample")  # fmt: skip
    own = re.search(r'^# experiment = "([^"]*)"', text, re.MULTILINE)
    data = [form.numbers(line) for line in lines[start : start + _SEEN] if form.fits(line)]
    names, units = _names(lines[:start], form)
    return Preview(
        path=path, names=names, units=units, rows=np.array(data, dtype=np.float64),
        experiment=own[1] if own else "", header_lines=start, delimiter=form.delimiter,
        decimal_comma=form.comma, quoted=form.quoted,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Form:
    """How a line is parted, and which of its cells are numbers."""

    delimiter: str | None
    comma: bool  # in decimals
    quoted: bool
    mask: tuple[bool, ...]

    @property
    def share(self) -> float:
        return sum(self.mask) / len(self.mask)

    def cells(self, line: str) -> list[str]:
        return split(line, self.delimiter, quoted=self.quoted)

    def numbers(self, line: str) -> list[float]:
        return [number(cell, comma=self.comma) for cell in self.cells(line)]

    def fits(self, line: str) -> bool:
        if not line.strip() or line.startswith("#"):
            return False
        found = self.numbers(line)
        return len(found) == len(self.mask) and all(
            math.isfinite(v) or not m for v, m in zip(found, self.mask, strict=True)
        )


def _form(lines: list[str]) -> tuple[_Form | None, int]:
    """Return the form of the first rows of numbers, and where they begin."""
    for start, line in enumerate(lines):
        if not line.strip() or line.startswith("#") or "=" in line:
            continue
        more = [x for x in lines[start + 1 : start + 20] if x.strip() and not x.startswith("#")]
        form = _form_of(line, more)
        if form is None:
            continue
        fitting = sum(form.fits(x) for x in more[:5])
        if fitting >= min(max(len(more), 1), 3) or (not fitting and not more and all(form.mask)):
            return form, start
        if all(form.mask) and len(form.mask) > 1 and fitting:
            return form, start  # what is wrong with a later row is told when it is read
    return None, 0


def _form_of(line: str, more: list[str]) -> _Form | None:
    quoted, best = '"' in line, None
    for delimiter in (";", "\t", ",", None):
        if delimiter is not None and delimiter not in line:
            continue
        cells = split(line, delimiter, quoted=quoted)
        several = [c for x in (line, *more) for c in split(x, delimiter, quoted=quoted)]
        comma = delimiter != "," and any(re.fullmatch(r"[-+]?\d+,\d+.*", c) for c in several)
        form = _Form(
            delimiter, comma, quoted, tuple(math.isfinite(number(c, comma=comma)) for c in cells)
        )
        if any(form.mask) and (best is None or form.share > best.share):
            best = form
    return best


def split(line: str, delimiter: str | None, *, quoted: bool) -> list[str]:
    """Return the cells of a line without the blanks and quotes round them."""
    if quoted and delimiter is not None:
        row: list[str] = next(csv.reader([line], delimiter=delimiter, skipinitialspace=True), [])
        return [cell.strip() for cell in row]
    return [cell.strip().strip('"') for cell in line.split(delimiter)]


def number(cell: str, *, comma: bool) -> float:
    """Return a cell's number, NaN where it is none."""
    try:
        return float(cell.replace(",", ".") if comma else cell)
    except ValueError:
        return math.nan


def _names(above: list[str], form: _Form) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return names and units from the lines above the numbers, one or two of which hold them."""
    width = len(form.mask)
    heads = [form.cells(line) for line in above[-2:] if line.strip() and not line.startswith("#")]
    heads = [cells for cells in heads if len(cells) == width and any(cells)]
    if not heads:
        return tuple(f"column {n + 1}" for n in range(width)), ("",) * width
    named = [_name_and_unit(cell) for cell in heads[-1]]
    if len(heads) == 2 and all(_is_unit(cell) for cell in heads[1]):
        named = [
            (name, unit or beneath.strip("[]() "))
            for (name, unit), beneath in zip(map(_name_and_unit, heads[0]), heads[1], strict=True)
        ]
    return tuple(name for name, _ in named), tuple(unit for _, unit in named)


def _is_unit(cell: str) -> bool:
    """Return whether a cell looks like a unit: short, or in brackets, or nothing."""
    plain = cell.strip()
    return len(plain) <= 7 and not re.search(r"\d{2}", plain)


def _name_and_unit(cell: str) -> tuple[str, str]:
    """Return (name, unit) of a cell such as `iq [A]` or `Speed (rpm)`."""
    plain = " ".join(cell.split())
    for opening, closing in ("[]", "()"):
        if plain.endswith(closing) and opening in plain:
            name, _, unit = plain[:-1].rpartition(opening)
            return name.strip(), unit.strip()
    return plain, ""


def read_columns(seen: Preview, wanted: list[int]) -> dict[int, Array]:
    """Read columns of the whole file.

    Raises
    ------
    InputError : a row that is cut off, a cell that is no number; with its line in the file

    """
    lines: Any = seen.path
    if seen.decimal_comma:
        lines = (line.replace(",", ".") for line in _all_lines(seen.path))
    elif seen.path.suffix.lower() in _PACKED:
        lines = iter(_all_lines(seen.path))
    try:
        found = np.loadtxt(
            lines, delimiter=seen.delimiter, skiprows=seen.header_lines, usecols=wanted,
            comments="#", ndmin=2, unpack=True, encoding="latin-1",
            quotechar='"' if seen.quoted else None,
        )  # fmt: skip
    except ValueError as error:
        raise _bad_row(seen, wanted) from error
    return dict(zip(wanted, np.asarray(found, dtype=np.float64), strict=True))


def _all_lines(path: Path) -> list[str]:
    return text_lines(path.read_text(encoding="utf-8-sig", errors="replace"))


def line_of(seen: Preview, row: int) -> int:
    """Return the line in the file, from 1, of a row of numbers; blank lines count as lines."""
    data = _data_lines(seen)
    return data[row][0] if row < len(data) else seen.header_lines + row + 1


def _data_lines(seen: Preview) -> list[tuple[int, str]]:
    lines = _all_lines(seen.path)
    return [
        (n, line)
        for n, line in enumerate(lines[seen.header_lines :], seen.header_lines + 1)
        if line.strip() and not line.lstrip().startswith("#")
    ]


def _bad_row(seen: Preview, wanted: list[int]) -> InputError:
    """Return what is wrong with the first row that cannot be read."""
    remedy = "Is a row cut off, or a cell empty?"
    for n, line in _data_lines(seen):
        cells = split(line, seen.delimiter, quoted=seen.quoted)
        place = f"{seen.path}, line {n}"
        if len(cells) <= max(wanted):
            cause = f"cannot be read: {len(cells)} cells where {len(seen.names)} are"
            return InputError(cause, place=place, remedy=remedy)
        for column in wanted:
            cell = cells[column]
            try:
                float(cell.replace(",", ".") if seen.decimal_comma else cell)
            except ValueError:
                told = f"'{cell[:40]}' is not a number" if cell else "an empty cell"
                return InputError(f"cannot be read: {told}", place=place, remedy=remedy)
    return InputError("cannot be read", place=str(seen.path), remedy=remedy)
