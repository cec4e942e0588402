"""An entry as it is typed, and the axis that it makes."""

from dataclasses import replace

from oarlock.control.designs import retuned
from oarlock.machine import Axis, Parameter
from oarlock.machine.axis import rederived
from oarlock.machine.fields import BY_PATH
from oarlock.machine.unknown import guessed_again
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.entry import parse


def entered(axis: Axis, path: str, text: str) -> tuple[str, Axis]:
    """Return (what is done, the axis with it) for one parameter, as typed.

    Raises
    ------
    InputError : an entry without sense

    """
    field = BY_PATH[path]
    pairs = axis.machine.pole_pairs
    entry = parse(field.kind, text, pole_pairs=pairs.value if pairs.is_known else None)
    old = axis.optional(path)
    std = old.printed.std if old else None
    printed = Estimate(
        value=entry.value, std=std, unit=entry.unit, origin=Origin.DATASHEET, source=text
    )
    adopted = old.adopted if old else None
    axis = axis.with_parameter(path, Parameter(printed=printed, adopted=adopted))
    if path == "machine.pole_pairs":
        axis = _flux_read_again(axis)
    label = f"Set {field.label.lower()} {field.symbol}".strip()
    return label, rederived(guessed_again(axis))


def entered_all(axis: Axis, entries: list[tuple[str, str]]) -> Axis:
    """Return the axis with several entries, (path, text), its gains following their targets.

    Raises
    ------
    InputError : one of them makes no sense

    """
    made = axis
    for path, text in entries:
        made = entered(made, path, text)[1]
    return retuned(axis, made)


def _flux_read_again(axis: Axis) -> Axis:
    """Convert the flux's entry again, after the pole pairs changed."""
    old = axis.machine.psi
    if not old.printed.source:
        return axis
    entry = parse(
        BY_PATH["machine.psi"].kind, old.printed.source, pole_pairs=axis.machine.pole_pairs.value
    )
    return axis.with_parameter(
        "machine.psi", replace(old, printed=replace(old.printed, value=entry.value))
    )
