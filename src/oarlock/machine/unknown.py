"""What nobody has said of an axis yet, and what is assumed meanwhile.

A guess follows from the ratings. It sizes what is measured first and is shown nowhere as a value:
what is designed or predicted waits until the value is known.
"""

import math
from collections.abc import Mapping
from dataclasses import replace

from oarlock.errors import InputError
from oarlock.machine.axis import Axis
from oarlock.machine.fields import BY_PATH
from oarlock.machine.parameter import Parameter
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.kinds import UNITS

# Without these nothing may be sent to a drive. It tells the last four itself.
NEEDED = (
    "machine.rated_current", "machine.peak_current", "machine.max_speed", "inverter.bus_voltage",
    "inverter.control_frequency", "inverter.pwm_frequency", "inverter.current_full_scale",
)  # fmt: skip
WINDING = ("machine.R", "machine.Ld", "machine.Lq")
# What the current loop is designed on.
DESIGNED_ON = (*WINDING, "inverter.control_frequency")
# What measuring finds where it was not entered.
FOUND_LATER = ("machine.pole_pairs", *WINDING, "machine.psi")
_PAIRS = 4.0
# Of the largest phase voltage: what R takes at rated current, the magnet at top speed; of the
# magnet's flux: what rated current adds. On the low side of what machines have, so that what is
# sized by it stays small.
_DROP, _EMF, _ADDED = 0.04, 0.5, 0.1
_RUN_UP = 0.3  # s that rated torque takes to top speed


def assumed(known: Mapping[str, float]) -> dict[str, float]:
    """Return a value for each path of `NEEDED` and `FOUND_LATER`, the known ones as they are; SI.

    Parameters
    ----------
    known : by path; zero or less counts as unknown

    """
    found = {path: value for path, value in known.items() if value > 0.0}

    def take(path: str, guess: float) -> float:
        return found.setdefault(path, guess)

    peak = known.get("machine.peak_current", 0.0)
    scale = known.get("inverter.current_full_scale", 0.0)
    rated = take("machine.rated_current", 0.5 * peak or 0.25 * scale or 1.0)
    peak = take("machine.peak_current", 2.0 * rated)
    take("inverter.current_full_scale", 2.0 * peak)
    top = take("machine.max_speed", 100.0)
    volts = take("inverter.bus_voltage", 24.0) / math.sqrt(3.0)
    rate = take("inverter.control_frequency", known.get("inverter.pwm_frequency") or 16e3)
    take("inverter.pwm_frequency", rate)
    pairs = take("machine.pole_pairs", _PAIRS)
    psi = take("machine.psi", _EMF * volts / (pairs * top))
    take("machine.R", _DROP * volts / rated)
    L = found.get("machine.Ld") or found.get("machine.Lq") or _ADDED * psi / rated
    take("machine.Ld", L)
    take("machine.Lq", L)
    return found


def guess(path: str, value: float) -> Parameter:
    """Return a parameter that holds a guess: it has no source."""
    unit = UNITS[BY_PATH[path].kind]
    return Parameter(printed=Estimate(value=value, unit=unit, origin=Origin.ASSUMED))


def is_known(axis: Axis, path: str) -> bool:
    """Return whether a value was entered, measured, or told by the drive."""
    found = axis.optional(path)
    return found is not None and found.is_known


def missing(axis: Axis) -> tuple[str, ...]:
    """Return what must be entered before anything can be measured."""
    return tuple(path for path in NEEDED if not _is_given(axis, path))


def _is_given(axis: Axis, path: str) -> bool:
    return axis.parameter(path).best.origin is not Origin.ASSUMED


def guessed_again(axis: Axis) -> Axis:
    """Return the axis with its guesses worked out anew from what is known now."""
    paths = (*NEEDED, *FOUND_LATER)
    given = {path: axis.parameter(path).value for path in paths if _is_given(axis, path)}
    for path, value in assumed(given).items():
        old = axis.parameter(path)
        if old.printed.origin is Origin.ASSUMED and old.printed.value != value:
            axis = axis.with_parameter(path, replace(old, printed=guess(path, value).printed))
    return axis


def as_if_known(axis: Axis) -> Axis:
    """Return the axis with its guesses as if they had been entered: to bound what will move."""
    for path in (*NEEDED, *FOUND_LATER):
        parameter = axis.parameter(path)
        if not parameter.is_known:
            told = replace(parameter.best, origin=Origin.DATASHEET, source="guess")
            axis = axis.with_parameter(path, Parameter(printed=told))
    m = axis.machine
    if m.inertia is None:
        rated = m.torque_constant * m.rated_current.value
        J = Estimate(value=_RUN_UP * rated / m.max_speed.value, unit="kg m2",
                     origin=Origin.DATASHEET, source="guess")  # fmt: skip
        axis = axis.with_parameter("machine.inertia", Parameter(printed=J))
    return axis


def in_words(path: str) -> str:
    """Return what a parameter is called in a sentence."""
    field = BY_PATH[path]
    label = field.label if field.label[:2].isupper() else field.label[:1].lower() + field.label[1:]
    return f"{label} {field.symbol}".strip()


def listed(names: list[str]) -> str:
    """Return names as a sentence lists them."""
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else names[0]


def refuse_unknown(axis: Axis, paths: tuple[str, ...], what: str) -> None:
    """Raise `InputError` where `what` rests on something that is not known yet."""
    unknown = [path for path in paths if not is_known(axis, path)]
    if not unknown:
        return
    named = listed([in_words(path) for path in unknown])
    verb = "are" if len(unknown) > 1 else "is"
    if unknown[0] in NEEDED:
        raise InputError(f"{named} {verb} not known", place=what,
                         remedy="Enter it in the Machine stage")  # fmt: skip
    raise InputError(f"{named} {verb} not known yet", place=what,
                     remedy="Measure it in Identify, or enter it in the Machine stage")  # fmt: skip
