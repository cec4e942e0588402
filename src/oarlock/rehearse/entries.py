"""Entries of a scenario's file: quantities in SI, torques, times, lists of tables."""

from collections.abc import Mapping
from pathlib import Path

from oarlock.errors import InputError
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind

_MOST_POINTS = 400
_MOST_TORQUE = 1e5  # N·m


def quantity(
    raw: Mapping[str, object], key: str, kind: Kind, place: str, *, signed: bool = False
) -> float:
    """Return an entry in SI; a sign stands before it where the quantity has one."""
    if key not in raw:
        raise InputError(f"{key} is missing", place=place, remedy=f"Add {key} = …")
    text = str(raw[key]).strip()
    negative = signed and text.startswith("-")
    plain = text[1:].strip() if negative else text
    if signed and plain.split()[:1] and _is_zero(plain.split()[0]):
        return 0.0
    try:
        value = parse(kind, plain).value
    except InputError as error:
        raise InputError(f"{key}: {error.cause}", place=place, remedy=error.remedy) from error
    return -value if negative else value


def _is_zero(number: str) -> bool:
    try:
        return float(number) == 0.0
    except ValueError:
        return False


def time_of(raw: Mapping[str, object], place: str) -> float:
    """Return when it is, s; without `at` from the beginning."""
    text = str(raw.get("at", "0")).strip()
    return 0.0 if text in ("0", "0.0", "0 s", "0s") else quantity(raw, "at", Kind.TIME, place)


def newton_metres(raw: Mapping[str, object], key: str, place: str) -> float:
    """Return a torque, which is written as a plain number."""
    torque = raw.get(key)
    if isinstance(torque, bool) or not isinstance(torque, int | float):
        raise InputError(f"{key} is no number", place=place,
                         remedy=f"Write it in N·m: {key} = 1.2")  # fmt: skip
    if not abs(torque) <= _MOST_TORQUE:
        raise InputError(f"a {key} of {torque:g} N·m", place=place, remedy="Check the digits")
    return float(torque)


def tables_of(raw: Mapping[str, object], key: str, place: str) -> list[Mapping[str, object]]:
    """Return the tables of a list, none where there is no such key."""
    found = raw.get(key, [])
    if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
        raise InputError(f"{key} is no list of tables", place=place, remedy=f"Write [[{key}]]")
    if len(found) > _MOST_POINTS:
        raise InputError(f"{len(found)} {key}", place=place,
                         remedy=f"Up to {_MOST_POINTS} are taken")  # fmt: skip
    return found


def table_file(raw: Mapping[str, object], key: str, place: str, beside: Path | None) -> Path:
    """Return the path of a table that a key names."""
    name = str(raw[key]).strip()
    if not name.lower().endswith(".csv"):
        raise InputError(f"{key} = '{name}' is no table", place=place,
                         remedy=f"Write [[{key}]], or the name of a CSV file")  # fmt: skip
    return (beside or Path()) / name


def refuse_unknown(raw: Mapping[str, object], known: set[str], place: str) -> None:
    """Raise where a table has a key that is not known."""
    for key in raw:
        if key not in known:
            raise InputError(f"unknown key {key}", place=place,
                             remedy=f"Known here: {', '.join(sorted(known))}")  # fmt: skip
