"""The axis file: TOML as people write it, to and from `Axis`.

Reading refuses what it does not know, with file, line and key. Writing keeps each entry as it
was typed; what was measured and adopted stands in a table of its own.
"""

import math
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_text, text_lines
from oarlock.machine.axis import (
    MECHANICS_FOUND,
    Axis,
    Inverter,
    Machine,
    Mechanics,
    assumed_delay,
    derived_dead_voltage,
)
from oarlock.machine.current_loop import IntegralRule, VoltageLimit
from oarlock.machine.fields import BY_PATH, FIELDS, FLUX_KEYS, Field
from oarlock.machine.loops_file import read_loops, written
from oarlock.machine.parameter import Parameter
from oarlock.machine.sensor import FOUND, Sensor, SensorKind
from oarlock.machine.unknown import assumed, guess
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import PLAUSIBLE, UNITS, Kind

FORMAT = 2
_READ = (1, 2)
_SECTIONS = {
    "oarlock", "name", "machine", "inverter", "sensor", "mechanics", "targets", "gains", "filters",
    "adopted",
}  # fmt: skip
_WRITTEN = ("machine", "inverter", "sensor", "mechanics")
# Kept as written for stages that read them; this version of the program only passes them on.
_OFFSETS = tuple(f"inverter.offset_{phase}" for phase in "abc")
_DERIVED = (
    "inverter.dead_voltage", "inverter.gain_a", "inverter.gain_b", "inverter.delay", *_OFFSETS,
    *(f"mechanics.{name}" for name in MECHANICS_FOUND),
    *(f"sensor.{name}" for name in FOUND if name not in ("side", "zero")),
)  # fmt: skip
_Rule = TypeVar("_Rule", IntegralRule, VoltageLimit)
_MORE_KEYS = {
    "inverter": {"current_sensors", "integral", "voltage_limit", "bus_compensation"},
    "sensor": {"kind"},
}


def read_axis(path: Path) -> Axis:
    """Read an axis file; errors name the file, the line and the key."""
    return parse_axis(read_text(path), place=str(path))


def parse_axis(text: str, *, place: str) -> Axis:
    """Return the axis that `text` describes.

    Raises
    ------
    InputError : not TOML, a later version, an unknown or missing key, an entry without sense

    """
    reader = _Reader(parse_toml(text, place=place), text, place)
    return reader.axis()


class _Reader:
    """Turns one parsed file into an `Axis`, and knows where each key stands."""

    def __init__(self, table: dict[str, Any], text: str, place: str) -> None:
        self._table, self._text, self._place = table, text, place

    def axis(self) -> Axis:
        version = self._table.get("oarlock")
        if version not in _READ or isinstance(version, bool):
            cause = f"oarlock = {version!r}; this program reads versions 1 to {FORMAT}"
            raise self.wrong(cause, "oarlock", "Open it with the program that wrote it")
        self.refuse_unknown(self._table, _SECTIONS, "")
        known_adopted = {path.split(".")[1] for path in (*BY_PATH, *_DERIVED)}
        self.refuse_unknown(self.section("adopted"), known_adopted, "adopted")
        for section in _WRITTEN:
            known = {f.key for f in FIELDS if f.path.startswith(section)}
            known |= set(FLUX_KEYS) if section == "machine" else set()
            known |= _MORE_KEYS.get(section, set())
            self.refuse_unknown(self.section(section), known, section)
        pairs = self._parameter(BY_PATH["machine.pole_pairs"], None)
        measured = self._adopted("machine.pole_pairs", UNITS[Kind.POLE_PAIRS])
        entered = pairs.value if pairs else measured.value if measured else None
        found = {f.path: self._parameter(f, entered) for f in FIELDS}
        found["machine.psi"], check = self._flux(entered)
        found |= self._guesses(found)
        found |= self._derived(found)
        name = self._table.get("name")
        if not isinstance(name, str) or not name.strip():
            raise self.wrong("the axis has no name", "name", 'Add name = "winch"')
        return Axis(
            name=name,
            machine=Machine(**_section_of(found, "machine")),
            inverter=Inverter(
                **_section_of(found, "inverter"),
                unsensed=self._unsensed(),
                integral=self._rule("integral", IntegralRule.BACKWARD),
                voltage_limit=self._rule("voltage_limit", VoltageLimit.D_FIRST),
                bus_compensation=self._compensation(),
            ),
            sensor=self._sensor(found),
            mechanics=Mechanics(**_section_of(found, "mechanics")),
            loops=read_loops(self, int(version)),
            psi_check=check,
        )

    def _guesses(self, found: Mapping[str, Parameter | None]) -> dict[str, Parameter | None]:
        """Return what is assumed where the file says nothing, with what was measured since."""
        known = {path: p.value for path, p in found.items() if p is not None}
        silent = [f.path for f in FIELDS if found[f.path] is None and not f.optional]
        adopted = {path: self._adopted(path, UNITS[BY_PATH[path].kind]) for path in silent}
        known |= {path: found.value for path, found in adopted.items() if found}
        values = assumed(known)
        made: dict[str, Parameter | None] = {
            path: Parameter(printed=guess(path, values[path]).printed, adopted=adopted[path])
            for path in silent
        }
        for field in FIELDS:  # what need not be there, and was measured
            if found[field.path] is None and field.optional:
                told = self._adopted(field.path, UNITS[field.kind])
                if told is not None:
                    made[field.path] = Parameter(printed=guess(field.path, told.value).printed,
                                                 adopted=told)  # fmt: skip
        return made

    def _derived(self, found: dict[str, Parameter | None]) -> dict[str, Parameter | None]:
        numbers = [found[f"inverter.{k}"] for k in ("bus_voltage", "dead_time", "pwm_frequency")]
        bus, dead, pwm = (p.value for p in numbers if p)
        period = 1.0 / _value(found["inverter.control_frequency"])
        one = Parameter(printed=Estimate(value=1.0, std=0.006, unit="1", origin=Origin.ASSUMED))
        made = {
            "inverter.dead_voltage": derived_dead_voltage(bus, dead, pwm),
            "inverter.gain_a": one,
            "inverter.gain_b": one,
            "inverter.delay": assumed_delay(period),
            **{f"mechanics.{name}": getattr(_RIGID, name) for name in MECHANICS_FOUND},
            **dict.fromkeys(_OFFSETS, _nothing("A")),
            **{f"sensor.{name}": getattr(_UNKNOWN, name) for name in FOUND[2:]},
        }
        return {
            path: Parameter(printed=p.printed, adopted=self._adopted(path, p.printed.unit))
            for path, p in made.items()
        }

    def _unsensed(self) -> str:
        """Return the phase without a current sensor, where there are but two."""
        raw = self.section("inverter").get("current_sensors", "a b c")
        phases = set(str(raw).lower().replace(",", " ").split())
        if not phases <= {"a", "b", "c"} or len(phases) < 2:
            cause = f"current_sensors = {raw!r} names no two or three phases"
            raise self.wrong(cause, "current_sensors", "Write 'a b c', or the two that have one")
        return "".join({"a", "b", "c"} - phases)

    def _rule(self, key: str, usual: _Rule) -> _Rule:
        """Return one of the firmware's rules, as it is named; left out, the usual one."""
        rules, raw = type(usual), self.section("inverter").get(key, usual.value)
        if raw not in [rule.value for rule in rules]:
            known = ", ".join(rule.value for rule in rules)
            raise self.wrong(f"{key} = {raw!r} is no rule", key, f"Known here: {known}")
        return rules(raw)

    def _compensation(self) -> bool:
        raw = self.section("inverter").get("bus_compensation", False)
        if not isinstance(raw, bool):
            cause = f"bus_compensation = {raw!r} is neither true nor false"
            raise self.wrong(cause, "bus_compensation", "Write true, or leave it out")
        return raw

    def _sensor(self, found: dict[str, Parameter | None]) -> Sensor:
        given = self.section("sensor").get("kind")
        raw = SensorKind.ENCODER.value if given is None else given
        if raw not in [kind.value for kind in SensorKind]:
            known = ", ".join(kind.value for kind in SensorKind)
            raise self.wrong(f"kind = {raw!r} is no sensor", "kind", f"Known here: {known}")
        return Sensor(kind=SensorKind(raw), kind_known=given is not None,
                      **_section_of(found, "sensor"))  # fmt: skip

    def section(self, name: str) -> dict[str, object]:
        """Return a table of the file, empty where there is none."""
        section = self._table.get(name, {})
        if not isinstance(section, dict):
            raise self.wrong(f"{name} is not a table", name, f"Write [{name}]")
        return section

    def _parameter(self, field: Field, pairs: float | None) -> Parameter | None:
        section = field.path.split(".")[0]
        raw = self.section(section).get(field.key)
        if field.kind is Kind.FLUX:
            return None
        origin = Origin.DATASHEET
        if raw is None:
            if not field.default:
                return None
            raw, origin = field.default, Origin.ASSUMED
        printed = self._entry(field.kind, raw, field.key, pairs, origin)
        return Parameter(printed=printed, adopted=self._adopted(field.path, UNITS[field.kind]))

    def _entry(
        self, kind: Kind, raw: object, key: str, pairs: float | None, origin: Origin
    ) -> Estimate:
        if isinstance(raw, bool) or not isinstance(raw, str | int | float):
            raise self.wrong(f"{key} is neither a number nor a text", key, "Write it in quotes")
        typed = raw if isinstance(raw, str) else repr(raw)
        try:
            entry = parse(kind, typed, pole_pairs=pairs)
        except InputError as error:
            raise self.wrong(error.cause, key, error.remedy) from error
        std = 0.0 if kind in (Kind.POLE_PAIRS, Kind.COUNT) else None
        return Estimate(value=entry.value, std=std, unit=entry.unit, origin=origin, source=typed)

    def _flux(self, pairs: float | None) -> tuple[Parameter | None, Estimate | None]:
        section = self.section("machine")
        keys = [key for key in FLUX_KEYS if key in section]
        if not keys:
            return None, None
        found = [self._entry(Kind.FLUX, section[k], k, pairs, Origin.DATASHEET) for k in keys]
        adopted = self._adopted("machine.psi", "Wb")
        check = found[1] if len(found) > 1 else None
        return Parameter(printed=found[0], adopted=adopted), check

    def _adopted(self, path: str, unit: str) -> Estimate | None:
        """Return the measured value in use at `path`, held against what any machine has."""
        section, name = path.split(".")
        adopted = self.section("adopted")
        raw = adopted.get(name)
        if raw is None:
            return None
        known = {"value", "std", "unit", "origin", "source"}
        if not isinstance(raw, dict):
            raise self.wrong(f"adopted {name} is not a table", name, "Give value and unit")
        self.refuse_unknown(raw, known, f"adopted.{name}")
        try:
            found = Estimate(
                value=_number(raw["value"]),
                std=None if raw.get("std") is None else _number(raw["std"]),
                unit=str(raw["unit"]),
                origin=Origin(raw.get("origin", "measured")),
                source=str(raw.get("source", "")),
            )
        except (TypeError, KeyError, ValueError, OverflowError) as error:
            cause = f"adopted {section} {name} cannot be read: {error}"
            raise self.wrong(cause, name, "Give value, std, unit, origin and source") from error
        problem = _adopted_problem(path, found, unit)
        if problem:
            raise self.wrong(f"adopted {name} {problem}", name, "Measure it again")
        return found

    def entry(self, kind: Kind, raw: object, key: str) -> float:
        """Return an entry of a kind in its SI unit."""
        return self._entry(kind, raw, key, None, Origin.ASSUMED).value

    def refuse_unknown(self, table: Mapping[str, object], known: set[str], where: str) -> None:
        """Refuse a table with a key that is not known, and name its line."""
        for key in table:
            if key not in known:
                title = f"{where}.{key}" if where else key
                remedy = f"Known here: {', '.join(sorted(known))}"
                raise self.wrong(f"unknown key {title}", key, remedy)

    def wrong(self, cause: str, key: str, remedy: str) -> InputError:
        """Return an error that names the place of a key."""
        pattern = re.compile(rf"^\s*\[{{0,2}}(?:[\w.]+\.)?{re.escape(key)}\b")
        lines = text_lines(self._text)
        line = next((n for n, text in enumerate(lines, 1) if pattern.match(text)), 0)
        place = f"{self._place}, line {line}" if line else self._place
        return InputError(f"{key}: {cause}", place=place, remedy=remedy)


def _number(raw: object) -> float:
    if isinstance(raw, bool) or not isinstance(raw, int | float):
        raise TypeError(f"{raw!r} is not a number")
    return float(raw)


# Between which a measured value can lie, where it is not of a kind that people enter.
_FOUND_RANGES = {
    "inverter.dead_voltage": (0.0, 1e3),
    "inverter.gain_a": (0.5, 1.5),
    "inverter.gain_b": (0.5, 1.5),
    "inverter.delay": (0.0, 1.0),
    "sensor.sine_ratio": (0.1, 10.0),
    "sensor.side": (-1.0, 1.0),
    "mechanics.resonance": (0.0, 1e6),
    "mechanics.anti_resonance": (0.0, 1e6),
}


def _adopted_problem(path: str, found: Estimate, unit: str) -> str:
    """Return what is wrong about a measured value in use, or nothing."""
    if found.unit != unit:
        return f"is in {found.unit!r}, not in {unit!r}"
    if found.std is not None and not 0.0 <= found.std < math.inf:
        return f"has an uncertainty of {found.std:g}"
    field = BY_PATH.get(path)
    if field is not None and field.kind in PLAUSIBLE:
        low, high = PLAUSIBLE[field.kind]
    else:
        low, high = _FOUND_RANGES.get(path, (-1e6, 1e6))
    if not low <= found.value <= high:
        return f"is {found.value:g} {unit}, outside {low:g} to {high:g}"
    return ""


_UNKNOWN = Sensor()
_RIGID = Mechanics()


def _value(parameter: Parameter | None) -> float:
    assert parameter is not None
    return parameter.value


def _nothing(unit: str) -> Parameter:
    return Parameter(printed=Estimate(value=0.0, std=None, unit=unit, origin=Origin.ASSUMED))


def _section_of(found: dict[str, Parameter | None], section: str) -> dict[str, Any]:
    return {path.split(".")[1]: p for path, p in found.items() if path.startswith(section)}


def format_axis(axis: Axis) -> str:
    """Return the axis as TOML; `parse_axis` of it gives the same axis back."""
    import tomlkit

    document = tomlkit.document()
    document["oarlock"], document["name"] = FORMAT, axis.name
    for section in _WRITTEN:
        table = _entries(axis, section)
        if table:
            document[section] = table
    for section, loops in written(axis.loops).items():
        document[section] = loops
    return tomlkit.dumps(document) + _adopted(axis)


def _entries(axis: Axis, section: str) -> dict[str, Any]:
    """Return the entries of one table as they were typed."""
    table: dict[str, Any] = {}
    if section == "sensor" and axis.sensor.kind_known:
        table["kind"] = axis.sensor.kind.value
    for field in FIELDS:
        parameter = axis.optional(field.path)
        if (
            field.path.startswith(f"{section}.")
            and parameter is not None
            and _is_written(parameter)
        ):
            table[field.key] = parameter.printed.source
    if section == "machine" and axis.psi_check:
        table["torque_constant"] = axis.psi_check.source
    if section == "inverter" and axis.inverter.unsensed:
        table["current_sensors"] = " ".join(sorted(set("abc") - set(axis.inverter.unsensed)))
    if section == "inverter" and axis.inverter.integral is not IntegralRule.BACKWARD:
        table["integral"] = axis.inverter.integral.value
    if section == "inverter" and axis.inverter.voltage_limit is not VoltageLimit.D_FIRST:
        table["voltage_limit"] = axis.inverter.voltage_limit.value
    if section == "inverter" and axis.inverter.bus_compensation:
        table["bus_compensation"] = True
    return table


def _is_written(parameter: Parameter) -> bool:
    """Return whether an entry stands in the file: what is only assumed does not."""
    return bool(parameter.printed.source) and parameter.printed.origin is not Origin.ASSUMED


def _adopted(axis: Axis) -> str:
    """Return the table of what was measured and adopted: an inline table a parameter."""
    from tomlkit import item

    lines: list[str] = []
    for path in [*(f.path for f in FIELDS), *_DERIVED]:
        name, parameter = path.split(".")[1], axis.optional(path)
        if parameter is None or parameter.adopted is None:
            continue
        found = parameter.adopted
        entries = {"value": found.value, "std": found.std, "unit": found.unit,
                   "origin": found.origin.value, "source": found.source}  # fmt: skip
        inline = ", ".join(
            f"{key} = {item(value).as_string()}"
            for key, value in entries.items()
            if value is not None
        )
        lines.append(f"{name} = {{{inline}}}\n")
    return "".join(["\n[adopted]\n", *lines]) if lines else ""
