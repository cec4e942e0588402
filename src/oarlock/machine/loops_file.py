"""The loops in an axis file: [targets.KEY], [gains.KEY] and [filters.KEY] for every known loop."""

import math
from collections.abc import Mapping
from typing import Any, Protocol

from oarlock.errors import InputError
from oarlock.machine.filters import NUMBERS, Filter, FilterKind
from oarlock.machine.loop import Gains, Loop, Loops, LoopSpec, Target
from oarlock.machine.loops import LOOPS
from oarlock.quantities.kinds import Kind

_SECTIONS = ("targets", "gains", "filters")
_MOST = 1e9


class Reader(Protocol):
    """What reads the rest of the file: entries with units, and errors that name file and line."""

    def section(self, name: str) -> dict[str, object]:
        """Return a table of the file, empty where there is none."""

    def entry(self, kind: Kind, raw: object, key: str) -> float:
        """Return an entry of a kind in its SI unit."""

    def refuse_unknown(self, table: Mapping[str, object], known: set[str], where: str) -> None:
        """Refuse a table with a key that is not known."""

    def wrong(self, cause: str, key: str, remedy: str) -> InputError:
        """Return an error that names the place of a key."""


def read_loops(reader: Reader, version: int) -> Loops:
    """Return the loops of an axis file.

    Version 1 knew the current loop alone, and no filters.

    Raises
    ------
    InputError : an unknown key, or a number without sense

    """
    known = LOOPS if version > 1 else LOOPS[:1]
    keys = {spec.key for spec in known}
    for section in _SECTIONS:
        reader.refuse_unknown(reader.section(section), keys, section)
    loops = Loops()
    for spec in known:
        loop = Loop(
            target=_target(reader, spec),
            gains=_gains(reader, spec),
            filters=_filters(reader, spec),
        )
        loops = loops.having(spec.key, loop)
    return loops


def _table(reader: Reader, section: str, key: str) -> dict[str, object] | None:
    found = reader.section(section).get(key)
    if found is not None and not isinstance(found, dict):
        raise reader.wrong(f"{section}.{key} is not a table", key, f"Write [{section}.{key}]")
    return found


def _target(reader: Reader, spec: LoopSpec) -> Target | None:
    table = _table(reader, "targets", spec.key)
    if table is None:
        return spec.default
    names = {figure.name for figure in spec.figures}
    reader.refuse_unknown(table, names | set(spec.switches), f"targets.{spec.key}")
    figures = {f.name: f.scale * reader.entry(f.kind, table[f.name], f.name)
               for f in spec.figures if f.name in table}  # fmt: skip
    switches = {name: bool(table[name]) for name in spec.switches if name in table}
    if not figures:
        return spec.default
    try:
        return spec.make_target(figures, switches)
    except (TypeError, ValueError) as error:
        several = list(figures)
        cause = f"{' and '.join(several)} at once" if len(several) > 1 else str(error)
        raise reader.wrong(cause, several[-1], "Keep one of them") from error


def _gains(reader: Reader, spec: LoopSpec) -> Gains | None:
    table = _table(reader, "gains", spec.key)
    if table is None:
        return None
    reader.refuse_unknown(table, set(spec.gains), f"gains.{spec.key}")
    needed = set(spec.gains) - set(spec.may_be_missing)
    if not needed <= set(table) or not all(_is_gain(spec, n, v) for n, v in table.items()):
        cause = f"gains.{spec.key} needs numbers above zero: {', '.join(sorted(needed))}"
        raise reader.wrong(cause, "gains", "Run 'oarlock tune' to write them")
    try:
        return spec.make_gains({name: float(str(value)) for name, value in table.items()})
    except ValueError as error:
        raise reader.wrong(str(error), "gains", f"Mend [gains.{spec.key}]") from error


def _is_gain(spec: LoopSpec, name: str, raw: object) -> bool:
    if isinstance(raw, bool) or not isinstance(raw, int | float):
        return False
    return 0.0 < raw < _MOST or (raw == 0.0 and name in spec.may_be_zero)


def _filters(reader: Reader, spec: LoopSpec) -> tuple[Filter, ...]:
    table = _table(reader, "filters", spec.key)
    if table is None:
        return ()
    where = f"filters.{spec.key}"
    reader.refuse_unknown(table, set(spec.filter_paths), where)
    found = []
    for path, listed in table.items():
        if not isinstance(listed, list):
            remedy = f"Write [[{where}.{path}]] for each filter"
            raise reader.wrong(f"{where}.{path} is no list of filters", path, remedy)
        found += [_filter(reader, path, one) for one in listed]
    return tuple(found)


def _filter(reader: Reader, path: str, table: object) -> Filter:
    kinds = [kind.value for kind in FilterKind]
    if not isinstance(table, dict) or table.get("kind") not in kinds:
        cause = "a filter names no kind"
        raise reader.wrong(cause, path, f"Give kind = one of {', '.join(kinds)}")
    kind = FilterKind(table["kind"])
    numbers = NUMBERS[kind]
    reader.refuse_unknown(table, {"kind", "frequency", *numbers}, f"a {kind.value} filter")
    if "frequency" not in table:
        raise reader.wrong("a filter has no frequency", path, 'Give frequency = "211 Hz"')
    hertz = reader.entry(Kind.FREQUENCY, table["frequency"], "frequency")
    given: dict[str, Any] = {}
    for name, (low, high) in numbers.items():
        raw = table.get(name)
        if raw is None:
            continue
        if isinstance(raw, bool) or not isinstance(raw, int | float) or not low <= raw <= high:
            raise reader.wrong(f"{raw!r} is not between {low:g} and {high:g}", name, "Change it")
        given[name] = int(raw) if name == "poles" else float(raw)
    return Filter(path=path, kind=kind, frequency=math.tau * hertz, **given)


def written(loops: Loops) -> dict[str, dict[str, object]]:
    """Return the three tables as an axis file holds them; empty ones are left out."""
    made: dict[str, dict[str, Any]] = {"targets": {}, "gains": {}, "filters": {}}
    for spec in LOOPS:
        loop = loops[spec.key]
        target = loop.target or spec.default
        if target is not None:
            made["targets"][spec.key] = _asked(spec, target.asked())
        if loop.gains is not None:
            made["gains"][spec.key] = {item.key: item.value for item in loop.gains.listed()}
        for one in loop.filters:
            paths = made["filters"].setdefault(spec.key, {})
            paths.setdefault(one.path, []).append(_plain(one))
    return {section: table for section, table in made.items() if table}


def _asked(spec: LoopSpec, figures: Mapping[str, float | bool]) -> dict[str, float | bool]:
    scales = {figure.name: figure.scale for figure in spec.figures}
    return {
        name: value / scales[name] if name in scales else value for name, value in figures.items()
    }


def _plain(one: Filter) -> dict[str, Any]:
    numbers = {name: getattr(one, name) for name in NUMBERS[one.kind]}
    return {"kind": one.kind.value, "frequency": one.frequency / math.tau, **numbers}
