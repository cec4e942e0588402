"""Lines of a datasheet as printed, 'name value unit': each understood, asked about, or left.

Nothing is filled in by this: a line is a proposal that somebody takes. What has two readings is
never decided here; both are offered.
"""

import re
from dataclasses import dataclass

from oarlock.errors import InputError
from oarlock.machine.fields import BY_PATH
from oarlock.quantities.display import sentence
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind

MOST_LINES = 60
_NUMBER = re.compile(r"[-+]?\d[\d.,]*(?:[eE][-+]?\d+)?")
# Words that name a quantity, the more telling ones first.
_NAMES: tuple[tuple[str, tuple[str, ...]], ...] = (
    (r"pole\s*pairs?|number of pole pairs", ("machine.pole_pairs",)),
    (r"\bpoles?\b|number of poles", ("machine.pole_pairs",)),
    (r"torque const|\bk_?t\b|voltage const|back.?emf|\bk_?e\b|speed const|\bk_?v\b|flux",
     ("machine.psi",)),
    (r"\bl_?d\b|d.?axis", ("machine.Ld",)),
    (r"\bl_?q\b|q.?axis", ("machine.Lq",)),
    (r"inductance|inductivity|\bl\b", ("machine.Ld", "machine.Lq")),
    (r"resistance|\br\b", ("machine.R",)),
    (r"inertia|\bj\b", ("machine.inertia",)),
    (r"(peak|max\w*|stall|pulse)\W+(\w+\W+)?current", ("machine.peak_current",)),
    (r"(rated|nominal|continuous|cont\.?)\W+(\w+\W+)?current", ("machine.rated_current",)),
    (r"(max\w*|top|rated|nominal|limit)\W+(\w+\W+)?speed", ("machine.max_speed",)),
    (r"(bus|dc|supply|nominal|rated|link)\W+(\w+\W+)?voltage", ("inverter.bus_voltage",)),
    (r"counts|resolution", ("sensor.counts",)),
)  # fmt: skip
# How a value may be meant that says nothing of it.
_READINGS = {
    Kind.CURRENT: ("rms", "peak"),
    Kind.RESISTANCE: ("l-l", "phase"),
    Kind.INDUCTANCE: ("l-l", "phase"),
}
_SAID = {
    "l-l": r"l-l|line.?to.?line|line.?line|phase.?to.?phase|ph-ph|terminal",
    "phase": r"phase|per phase|ph\b|l-n",
    "rms": r"\brms\b|a_?rms|eff",
    "peak": r"\bpeak\b|a_?pk|\bpk\b|ampl",
}


@dataclass(frozen=True, slots=True)
class Reading:
    """One way to understand a line."""

    entry: str  # as it would be typed
    said: str  # the reading in words; empty where there is but one
    value: str  # what would be used


@dataclass(frozen=True, slots=True)
class Pasted:
    """One line of a datasheet."""

    text: str
    paths: tuple[str, ...]  # where it would go; empty: it is no number of the motor
    readings: tuple[Reading, ...]
    trouble: str = ""  # why it cannot be read, though its name is known

    @property
    def is_sure(self) -> bool:
        """Whether it can be taken as it stands."""
        return len(self.readings) == 1


def pasted(text: str, *, pole_pairs: float | None = None) -> tuple[Pasted, ...]:
    """Return the lines of a pasted table.

    Parameters
    ----------
    pole_pairs : where known; pole pairs among the lines count for the others

    """
    lines = [" ".join(line.split()) for line in text.splitlines()]
    lines = [line for line in lines if line][:MOST_LINES]
    for line in lines:
        paths, label, rest = _named(line)
        if paths == ("machine.pole_pairs",) and rest:
            made = _read(line, paths, label, rest, None)
            if made.readings:
                pole_pairs = parse(Kind.POLE_PAIRS, made.readings[0].entry).value
    return tuple(_read(line, *_named(line), pole_pairs) for line in lines)


def _named(line: str) -> tuple[tuple[str, ...], str, str]:
    """Return where a line belongs, its label, and what stands from its number on."""
    found = _number(line)
    label, rest = (line[: found.start()], line[found.start() :]) if found else (line, "")
    for pattern, paths in _NAMES:
        if re.search(pattern, label, re.IGNORECASE):
            return paths, label, rest
    return (), label, rest


def _number(line: str) -> "re.Match[str] | None":
    """Return the line's value: its first number that is no part of a word and no temperature."""
    found = [m for m in _NUMBER.finditer(line) if not re.search(r"\w$", line[: m.start()])
             and not re.match(r"\s*°", line[m.end() :])]  # fmt: skip
    first = re.search(r"[:=\t]", line)
    after = [m for m in found if first and m.start() > first.start()]
    return next(iter(after or found), None)


def _read(
    line: str, paths: tuple[str, ...], label: str, rest: str, pole_pairs: float | None
) -> Pasted:
    if not paths or not rest:
        return Pasted(line, (), ())
    kind = BY_PATH[paths[0]].kind
    value = _cleaned(rest)
    if kind is Kind.POLE_PAIRS:
        value += " poles" if not re.search("pairs?", label, re.IGNORECASE) else ""
    told = [name for name in _READINGS.get(kind, ()) if re.search(_SAID[name], f"{label} {rest}",
                                                                  re.IGNORECASE)]  # fmt: skip
    wanted = told[:1] or list(_READINGS.get(kind, ("",)))
    if "phase" in wanted and "l-l" in told:
        wanted = ["l-l"]
    if kind is Kind.FLUX:
        wanted = ["", "rms", "peak"]
    readings, trouble = [], ""
    for name in wanted:
        entry = f"{value} {name}".strip() if name not in value.split() else value
        try:
            made = parse(kind, entry, pole_pairs=pole_pairs)
        except InputError as error:
            trouble = trouble or f"{error.cause}. {error.remedy}"
            continue
        used = f"{made.value:g}" if made.unit == "1" else sentence(made.value, made.unit)
        readings.append(Reading(entry, name, used))
        if kind is Kind.FLUX and not name:
            break  # it is plain as it stands
    return Pasted(line, paths, tuple(readings), "" if readings else trouble)


_UNITS = (
    (r"Ω|Ohms?\b|ohms\b", "ohm"), (r"µ|μ", "u"), (r"·|\*", " "), (r"²", "2"),
    (r"\bkgcm2\b", "kg cm2"), (r"\bgcm2\b", "g cm2"), (r"\bkgm2\b", "kg m2"), (r"\bNm\b", "N m"),
    (r"\bmin-1\b|1/min|\br/min\b|U/min", "rpm"), (r"\bVrms\b", "V rms"), (r"\bArms\b", "A rms"),
    (r"\bApk\b|\bAp\b", "A peak"),
)  # fmt: skip


def _cleaned(text: str) -> str:
    """Return a value with its unit as `parse` takes it: nothing in brackets, no tolerance."""
    text = re.sub(r"[(\[].*?[)\]]|±.*$|\+/-.*$|@.*$|\bat \d+.*$", " ", text)
    for pattern, plain in _UNITS:
        text = re.sub(pattern, plain, text)
    text = re.sub(r"\b(line.?to.?line|phase.?to.?phase|ph-ph)\b", "l-l", text, flags=re.IGNORECASE)
    return " ".join(text.split())
