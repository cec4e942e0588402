"""Whether a value can be believed: against paper, against what is known, against what can be."""

import math

from oarlock.machine import Axis
from oarlock.machine.axis import RMS, suspected_slip
from oarlock.machine.doubts import doubt
from oarlock.quantities import Origin, measured
from oarlock.records import Check

_AGREE = 0.10  # of a value that was measured before and is in use
_HOT = 1.6  # times the printed resistance that heat and cables make of it
# Ratios to paper between which a value is believed.
BANDS = {
    "machine.R": (0.85, _HOT),
    "machine.Ld": (0.75, 1.35),
    "machine.Lq": (0.70, 1.40),
    "machine.psi": (0.80, 1.25),
    "machine.inertia": (0.60, 1.50),
}
_WIRING = {
    0.75: "a third terminal connected beside one of the two",
    4.0 / 3.0: "a third terminal connected beside one of the two",
    1.5: "two phases side by side",
    2.0 / 3.0: "two phases side by side",
}


def believable(
    axis: Axis, path: str, found: float, *, unit: str, again: bool = True
) -> list[Check]:
    """Return checks of a value against paper, against what is known, and against the machine.

    Parameters
    ----------
    path : where it would be adopted
    found : SI
    again : hold it against a value that was measured before
    """
    checks = _against_paper(axis, path, found)
    old = axis.optional(path)
    if again and old is not None and old.adopted is not None and old.adopted.is_measured:
        checks.append(_against_known(path, found, old.adopted.value))
    return [*checks, *_against_physics(axis, path, found, unit)]


def _against_paper(axis: Axis, path: str, found: float) -> list[Check]:
    old = axis.optional(path)
    if old is None or old.printed.origin is not Origin.DATASHEET or not old.printed.value > 0.0:
        return []
    printed = old.printed.value
    low, high = BANDS[path]
    ratio = found / printed
    inside = low < ratio < high
    slip = "" if inside else _slip(path, printed, found, axis)
    hint = f": {slip}? Check the entry and the wiring" if slip else ""
    if path == "machine.R" and inside and ratio > 1.12:
        hint = ": a warm winding, or the cable's share"
    if not inside and not slip and path == "machine.R" and 1.0 < ratio < 3.0:
        hint = ": a hot winding, a long cable, or line to line?"
    sentence = f"{ratio:.2f} times the printed value{hint}"
    return [Check(code="against datasheet", passed=inside, sentence=sentence)]


def _slip(path: str, printed: float, found: float, axis: Axis) -> str:
    pairs = axis.machine.pole_pairs.value if path == "machine.psi" else 1.0
    name = suspected_slip(printed, found, pole_pairs=pairs)
    winding = path in ("machine.R", "machine.Ld", "machine.Lq")
    if winding and name == RMS:
        name = ""  # neither has an effective value
    if not name and winding:
        off, wired = min((abs(found / printed / r - 1.0), text) for r, text in _WIRING.items())
        name = wired if off < 0.08 else ""
    return name


def _against_known(path: str, found: float, known: float) -> Check:
    ratio = found / known
    allowed = 0.6 if path == "machine.R" else _AGREE  # a winding may be hot by now
    agrees = abs(ratio - 1.0) < allowed and (path != "machine.R" or ratio > 0.65)
    return Check(
        code="against what was measured",
        passed=agrees,
        sentence=f"{ratio:.2f} times what was measured before and is in use",
    )


def _against_physics(axis: Axis, path: str, found: float, unit: str) -> list[Check]:
    """Return a check that fails where no machine of the trade has such a value."""
    if not (math.isfinite(found) and found > 0.0):
        return [Check(code="size", passed=False, sentence=f"{found:.3g} {unit} is no such value")]
    why = doubt(axis.adopting(path, measured(found, None, unit)), path)
    return [Check(code="size", passed=False, sentence=f"With it {why}")] if why else []
