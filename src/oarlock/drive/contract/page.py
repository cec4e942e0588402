"""The tables of docs/drive-interface.md that follow from the contract."""

import re
from collections.abc import Sequence

from oarlock.drive.contract.entries import GROUPS, Entry, Group, Type
from oarlock.drive.contract.numbers import CHANNEL_UNITS, COLUMNS, Frame, Shape, Target
from oarlock.drive.contract.trips import TRIPS


def tables(groups: tuple[Group, ...] = GROUPS) -> dict[str, str]:
    """Return each table as Markdown, by the name of its place on the page."""
    return {
        "parameters": _parameters(groups),
        "columns": _table(("column", "name", "meaning"), [
            (str(n), name, meaning) for n, (name, meaning) in enumerate(COLUMNS.items())
        ]),
        "numbers": _table(("number", "frame", "wave", "target"), _numbers()),
        "channels": _table(("code", "channel", "unit"), [
            (str(n), name, unit) for n, (name, unit) in enumerate(CHANNEL_UNITS.items())
        ]),
        "trips": _table(("number", "trip", "emergency code"), [
            (str(t.number), t.words, f"0x{t.emergency:04X}") for t in TRIPS[1:]
        ]),
    }  # fmt: skip


def _access(entry: Entry) -> str:
    return "live" if entry.live else "at once" if entry.at_once else entry.access


def _parameters(groups: tuple[Group, ...]) -> str:
    rows = []
    for group in sorted(groups, key=lambda g: g.index):
        for entry in group.entries:
            sub = group.sub(entry)
            place = f"0x{group.index:04X}" + ("" if group.single else f":{sub}")
            name = group.name if group.single else f"{group.name}.{entry.name}"
            whole = group.meaning if sub <= 1 and group.meaning != entry.meaning else ""
            told = "; ".join(text for text in (whole, entry.meaning) if text)
            rows.append((place, name, entry.type.name, _range(entry), entry.unit,
                         _access(entry), told))  # fmt: skip
    heads = ("index", "name", "type", "range (default)", "unit", "access", "meaning")
    return _table(heads, rows)


def _range(entry: Entry) -> str:
    if entry.access == "ro" or entry.type is Type.DOMAIN:
        return ""
    high = "" if entry.high >= 1e9 else f"{entry.high:g}"
    low = "" if entry.low <= -1e9 else f"{entry.low:g}"
    return f"{low}…{high} ({entry.default:g})"


def _numbers() -> list[tuple[str, str, str, str]]:
    def word(kind: type[Frame | Shape | Target], n: int) -> str:
        return next((m.name.lower().replace("_", " ") for m in kind if m == n), "")

    return [(str(n), word(Frame, n), word(Shape, n), word(Target, n)) for n in range(9)]


def _table(heads: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> str:
    lines = [heads, tuple("---" for _ in heads), *rows]
    return "\n".join(f"| {' | '.join(line)} |" for line in lines)


def filled_in(page: str, groups: tuple[Group, ...] = GROUPS) -> str:
    """Return a page with its tables written anew, between their marks."""
    for name, table in tables(groups).items():
        pattern = rf"(<!-- {name} -->\n).*?(\n<!-- end -->)"
        plain = table.replace("\\", r"\\\\")
        page, count = re.subn(pattern, rf"\g<1>{plain}\g<2>", page, flags=re.DOTALL)
        if count != 1:
            raise ValueError(f"the page has no place for the table of {name}")
    return page
