"""Read a value as a datasheet prints it: unit, and the convention behind it.

Everything is converted once, here, to SI, star-equivalent phase, peak. What was done is told
in `Entry.note`, so that a screen can show it beside the text as typed.
"""

import functools
import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from oarlock.errors import InputError
from oarlock.quantities.kinds import UNITS, Kind, like, refuse_implausible
from oarlock.quantities.units import PARTS, PLAIN


@dataclass(frozen=True, slots=True)
class Entry:
    """A converted entry: SI value and what was done to reach it."""

    value: float
    unit: str
    note: str  # "line to line, halved"; empty where nothing had to be decided


@dataclass(frozen=True, slots=True)
class _Words:
    """What a text says besides its number: unit and conventions."""

    number: float
    unit: str
    marks: frozenset[str]


_MARKS: tuple[tuple[str, str], ...] = (
    (r"line[ -]to[ -]line|\bl\s*-\s*l\b|\bll\b|phase[ -]to[ -]phase|\bph\s*-\s*ph\b", "l-l"),
    (
        r"line[ -]to[ -]neutral|\bl\s*-\s*n\b|\bper[ -]phase\b|\bphase\b|\bph\b|\bstar\b|\bwye\b",
        "phase",
    ),
    (r"\bdelta\b", "delta"),
    (r"\brms\b|\beff\b", "rms"),
    (r"\bpeak\b|\bpk\b|\bamplitude\b", "peak"),
    (r"\bpole[ -]pairs?\b|\bpp\b", "pairs"),
    (r"\bpoles?\b", "poles"),
    (r"\belectrical\b|\bel\b|\belec\b", "electrical"),
    (r"\bmechanical\b|\bmech\b", "mechanical"),
)
_NUMBER = re.compile(r"^\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*)$")
_GREEK = str.maketrans(
    {
        "\N{OHM SIGN}": "ohm",
        "\N{GREEK CAPITAL LETTER OMEGA}": "ohm",
        "µ": "u",
        "μ": "u",
        "·": " ",
        "²": "2",
        "−": "-",
        "*": " ",
    }
)


def _split(text: str, kind: Kind) -> _Words:
    if len(text) > _LONGEST:
        raise InputError(f"an entry of {len(text)} characters", remedy=like(kind))
    plain = " ".join(text.translate(_GREEK).split())
    if re.match(r"^[+-]?\d+,\d", plain):
        raise InputError(f"'{text}' has a comma", remedy="Write the decimal with a point")
    found = _NUMBER.match(plain)
    if not found:
        raise InputError(f"'{text}' does not begin with a number", remedy=like(kind))
    rest, marks = found[2], set()
    rest = (
        re.sub(r",?\s*(?:at|@)?\s*\d+(?:\.\d+)?\s*°C\s*$", "", rest) if kind in _AT_HEAT else rest
    )
    for pattern, mark in _MARKS:
        rest, hits = re.subn(pattern, " ", rest, flags=re.IGNORECASE)
        if hits:
            marks.add(mark)
    rest = re.sub(r"\(\s*\)", " ", rest)  # what a mark in brackets leaves behind
    return _Words(float(found[1]), rest.strip(" ,"), frozenset(marks))


_LONGEST = 200  # characters of an entry
_AT_HEAT = {Kind.RESISTANCE, Kind.INDUCTANCE, Kind.FLUX}


# What is handed to the units package: products and quotients of names with whole powers.
_NAME = r"[A-Za-z%°]+(?:\*\*-?[1-9])?"
_TERM = rf"(?:{_NAME}(?:\*{_NAME})*|\({_NAME}(?:\*{_NAME})*\))"
_PRODUCT = re.compile(rf"^{_TERM}(?:/{_TERM})*$")


@functools.cache
def _registry() -> Any:
    from pint import UnitRegistry

    registry = UnitRegistry(cache_folder=None)
    registry.define("krpm = 1000 * revolutions_per_minute")
    return registry


def _unit(text: str, kind: Kind) -> Any:
    """Return the pint unit of `text`, which may write products with spaces and powers bare."""
    from pint.errors import PintError

    spelled = re.sub(r"([A-Za-z])\^?(\d)", r"\1**\2", text)
    spelled = re.sub(r"\bNm\b", "N m", spelled)
    spelled = re.sub(r"\bVs\b", "V s", spelled)
    spelled = re.sub(r"\bLSB\b", "count", spelled)
    spelled = re.sub(r"(?<=[\w)])\s+(?=[A-Za-z(])", "*", spelled.strip())
    if not _PRODUCT.match(spelled):
        raise InputError(f"'{text}' is not a unit", remedy=like(kind))
    try:
        found = _registry().parse_units(spelled)
        _ = found.dimensionality  # fails for what the package parses and does not know
    except (PintError, ValueError, TypeError, AttributeError, OverflowError) as error:
        raise InputError(f"'{text}' is not a unit", remedy=like(kind)) from error
    return found


def unit_parts(text: str, kind: Kind) -> dict[str, float]:
    """Return the units that `text` is a product of, with their powers."""
    if text in PARTS:
        return PARTS[text]
    quantity = _registry().Quantity(1.0, _unit(text, kind))
    return {str(name): float(power) for name, power in quantity.unit_items()}


def _scale(words: _Words, si: str, kind: Kind) -> float:
    """Return the number in the SI unit `si`; a bare number is SI already."""
    if not words.unit:
        return words.number
    plain = PLAIN.get(si, {}).get(words.unit)
    if plain is not None:
        return words.number * plain
    from pint.errors import PintError

    unit = _unit(words.unit, kind)
    base = _unit(si, kind)
    if not unit.is_compatible_with(base):
        wanted = "rpm or rad/s" if kind is Kind.SPEED else si.replace("**", "").replace("*", " ")
        cause = f"'{words.unit}' is not a unit of {kind.value}; expected {wanted}"
        raise InputError(cause, remedy=like(kind))
    try:
        return float(_registry().Quantity(words.number, unit).to(base).magnitude)
    except (PintError, ValueError, TypeError, AttributeError, OverflowError) as error:
        raise InputError(f"'{words.unit}' cannot be converted", remedy=like(kind)) from error


def _refuse_marks(words: _Words, allowed: set[str], kind: Kind) -> None:
    strange = words.marks - allowed
    if strange:
        cause = f"'{', '.join(sorted(strange))}' makes no sense for {kind.value}"
        raise InputError(cause, remedy=like(kind))
    for pair in ({"rms", "peak"}, {"l-l", "phase"}, {"pairs", "poles"}):
        if pair <= words.marks:
            raise InputError(f"{' and '.join(sorted(pair))} at once", remedy="Keep one of them")


def _winding(words: _Words, kind: Kind, _pairs: float | None) -> tuple[float, str]:
    _refuse_marks(words, {"l-l", "phase", "delta"}, kind)
    value = _scale(words, UNITS[kind], kind)
    if "l-l" in words.marks:
        return value / 2.0, "line to line, halved"
    if "delta" in words.marks:
        return value / 3.0, "delta phase, a third"
    return value, "per phase"


def _current(words: _Words, kind: Kind, _pairs: float | None) -> tuple[float, str]:
    _refuse_marks(words, {"rms", "peak", "phase"}, kind)
    value = _scale(words, "A", kind)
    if "rms" in words.marks:
        return value * math.sqrt(2.0), "RMS, times √2"
    if words.unit and "peak" not in words.marks:
        number = f"{words.number:g} {words.unit}"
        raise InputError(
            f"'{number}' could be RMS or peak", remedy=f"Write '{number} rms' or '{number} peak'"
        )
    return value, "peak"


def _flux(words: _Words, kind: Kind, pairs: float | None) -> tuple[float, str]:
    """Flux linkage from whichever constant is printed; see the glossary's conversions."""
    _refuse_marks(words, {"l-l", "phase", "rms", "peak", "electrical", "mechanical"}, kind)
    if not words.unit:
        return words.number, "flux linkage"
    names = {str(name): power for name, power in unit_parts(words.unit, kind).items()}
    joined = " ".join(names)
    if any(name.endswith("weber") for name in names):
        return _scale(words, "Wb", kind), "flux linkage"
    p = _needed_pairs(pairs)
    if "newton" in joined and "ampere" in joined:
        return _torque_constant(words, kind, p)
    if "rpm" in joined or "revolutions_per_minute" in joined:
        inverse = any(power > 0 for name, power in names.items() if "r" in name and "pm" in name)
        inverse = inverse or names.get("revolutions_per_minute", 0) > 0
        return _speed_constant(words, kind, p) if inverse else _voltage_constant(words, kind, p)
    if "hertz" in joined:
        value = _scale(words, "V/Hz", kind) / math.tau
        return _to_phase_peak(value, words, "phase", "peak", "V/Hz electrical")
    if "radian" in joined:
        value = _scale(words, "V*s/rad", kind) / p
        return _to_phase_peak(value, words, "l-l", "peak", "V·s/rad")
    raise InputError(f"'{words.unit}' is not a unit of magnet flux", remedy=like(kind))


def _needed_pairs(pairs: float | None) -> float:
    if pairs is None:
        raise InputError("this needs the pole pairs first", remedy="Enter the poles")
    return pairs


def _to_phase_peak(
    value: float, words: _Words, wires: str, form: str, name: str
) -> tuple[float, str]:
    """Turn a voltage per electrical rad/s into phase peak; say what was taken for granted."""
    wires = "l-l" if "l-l" in words.marks else "phase" if "phase" in words.marks else wires
    form = "rms" if "rms" in words.marks else "peak" if "peak" in words.marks else form
    value = value / math.sqrt(3.0) if wires == "l-l" else value
    value = value * math.sqrt(2.0) if form == "rms" else value
    return value, f"{name} {'line to line' if wires == 'l-l' else 'phase'} {form}"


def _voltage_constant(words: _Words, kind: Kind, p: float) -> tuple[float, str]:
    per_rad = _scale(words, "V*s/rad", kind) / p
    return _to_phase_peak(per_rad, words, "l-l", "rms", "V/krpm")


def _speed_constant(words: _Words, kind: Kind, p: float) -> tuple[float, str]:
    if not words.number > 0.0:
        raise InputError("the speed constant must be above zero", remedy=like(kind))
    per_volt = _scale(words, "rad/(V*s)", kind)
    return _to_phase_peak(1.0 / per_volt / p, words, "l-l", "peak", "rpm/V")


def _torque_constant(words: _Words, kind: Kind, p: float) -> tuple[float, str]:
    value = _scale(words, "N*m/A", kind) / (1.5 * p)
    if "rms" in words.marks:
        return value / math.sqrt(2.0), "torque per A RMS"
    if "peak" in words.marks:
        return value, "torque per A peak"
    number = f"{words.number:g} {words.unit}"
    raise InputError(
        f"'{number}' could be per A RMS or per A peak",
        remedy=f"Write '{number} rms' or '{number} peak'",
    )


def _pole_pairs(words: _Words, kind: Kind, _pairs: float | None) -> tuple[float, str]:
    _refuse_marks(words, {"poles", "pairs"}, kind)
    if words.unit:
        raise InputError(f"'{words.unit}' is not a count of poles", remedy=like(kind))
    value = words.number
    if value != round(value):
        raise InputError(f"{value:g} is not a whole number", remedy=like(kind))
    if "poles" in words.marks:
        if value % 2:
            raise InputError(f"{value:g} poles: a machine has an even number", remedy=like(kind))
        return value / 2.0, "poles, halved"
    return value, "pole pairs"


def _speed(words: _Words, kind: Kind, _pairs: float | None) -> tuple[float, str]:
    _refuse_marks(words, {"mechanical"}, kind)
    if words.unit in ("Hz", "kHz"):
        raise InputError(f"'{words.unit}' could be electrical or mechanical", remedy=like(kind))
    return _scale(words, "rad/s", kind), ""


def _plain(words: _Words, kind: Kind, _pairs: float | None) -> tuple[float, str]:
    _refuse_marks(words, {"phase"} if kind is Kind.VOLTAGE else set(), kind)
    if kind in (Kind.COUNT, Kind.BITS):
        if words.unit or words.number != round(words.number):
            raise InputError("a whole number is wanted", remedy=like(kind))
        return words.number, ""
    if kind is Kind.FACTOR:
        if words.unit:
            raise InputError(f"'{words.unit}' is no number", remedy=like(kind))
        return words.number, ""
    if kind is Kind.TURNS:
        if words.unit not in ("", "turn", "turns"):
            raise InputError(f"'{words.unit}' is not a number of turns", remedy=like(kind))
        return words.number, ""
    si = {"kg m2": "kg*m**2", "°C": "degC"}.get(UNITS[kind], UNITS[kind])
    if kind is Kind.TEMPERATURE:
        return words.number, ""
    return _scale(words, si, kind), ""


def _shunt(text: str) -> tuple[float, str]:
    """Full-scale current of shunt, amplifier and converter; zero current lies mid-range."""
    found: dict[str, float] = {}
    for part in text.split(","):
        words = part.strip()
        gain = re.fullmatch(r"gain\s+(\d+(?:\.\d+)?)", words, re.IGNORECASE)
        bits = re.fullmatch(r"(\d+)\s*bits?", words, re.IGNORECASE)
        if gain:
            found["gain"] = float(gain[1])
        elif bits:
            found["bits"] = float(bits[1])
        elif re.search(r"ohm|Ω|\N{OHM SIGN}", words):
            found["shunt"] = _scale(_split(words, Kind.RESISTANCE), "ohm", Kind.FULL_SCALE)
        else:
            found["range"] = _scale(_split(words, Kind.VOLTAGE), "V", Kind.FULL_SCALE)
    missing = [name for name in ("shunt", "gain", "range") if not found.get(name, 0.0) > 0.0]
    if missing:
        raise InputError(f"'{text}' lacks {' and '.join(missing)}", remedy=like(Kind.FULL_SCALE))
    value = 0.5 * found["range"] / (found["gain"] * found["shunt"])
    return value, f"half of {found['range']:g} V over gain times shunt"


_WAYS = {"forward": 1.0, "1": 1.0, "+1": 1.0, "reversed": -1.0, "backward": -1.0, "-1": -1.0}


def _direction(text: str) -> tuple[float, str]:
    way = _WAYS.get(text.strip().lower())
    if way is None:
        raise InputError(f"'{text}' is no direction", remedy=like(Kind.DIRECTION))
    return way, ""


_READERS: dict[Kind, Callable[[_Words, Kind, float | None], tuple[float, str]]] = {
    Kind.RESISTANCE: _winding,
    Kind.INDUCTANCE: _winding,
    Kind.FLUX: _flux,
    Kind.CURRENT: _current,
    Kind.FULL_SCALE: _current,
    Kind.SPEED: _speed,
    Kind.POLE_PAIRS: _pole_pairs,
}


@functools.lru_cache(1024)
def parse(kind: Kind, text: str, *, pole_pairs: float | None = None) -> Entry:
    """Read `text` as a quantity of `kind`.

    Parameters
    ----------
    kind : what is wanted
    text : as a datasheet prints it; a bare number is SI, phase, peak
    pole_pairs : needed where a voltage or torque constant stands for the flux

    Returns
    -------
    Entry : SI, star-equivalent phase, peak

    Raises
    ------
    InputError : no number, a unit or a convention that makes no sense, or a value that no
        machine has

    Examples
    --------
    >>> parse(Kind.RESISTANCE, "1.64 ohm l-l").value
    0.82
    >>> parse(Kind.POLE_PAIRS, "8 poles")
    Entry(value=4.0, unit='1', note='poles, halved')

    """
    if kind is Kind.FULL_SCALE and "gain" in text.lower():
        value, note = _shunt(text)
    elif kind is Kind.DIRECTION:
        value, note = _direction(text)
    else:
        words = _split(text, kind)
        value, note = _READERS.get(kind, _plain)(words, kind, pole_pairs)
    if kind is not Kind.DIRECTION:
        refuse_implausible(kind, value, text)
    return Entry(value, UNITS[kind], note)


def warm() -> None:
    """Load the units package, which takes half a second, before somebody types."""
    _registry()
