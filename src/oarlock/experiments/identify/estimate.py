"""Which estimator reads a record: by its quantity, and by the columns that there are."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.experiments.identify.flux import estimate_flux
from oarlock.experiments.identify.inductance import estimate_inductance
from oarlock.experiments.identify.kinds import record_kind
from oarlock.experiments.identify.mechanics_reading import estimate_mechanics
from oarlock.experiments.identify.open_terminals import back_emf
from oarlock.experiments.identify.resistance import estimate_resistance
from oarlock.experiments.identify.resonance import estimate_resonance
from oarlock.experiments.identify.soundness import prepared, with_angle
from oarlock.experiments.identify.two_terminals import direct_current, two_terminal_sine
from oarlock.machine import Axis
from oarlock.records import Finding, Record
from oarlock.records.quantity import KEYS

_ESTIMATORS: dict[str, Callable[[Record, Axis], Finding]] = {
    "resistance": estimate_resistance,
    "inductance_d": estimate_inductance,
    "inductance_q": estimate_inductance,
    "flux": estimate_flux,
    "inertia": estimate_mechanics,
    "resonance": estimate_resonance,
}
# What settings of a wrong kind, or rows that are missing, lead to.
_ODD = (KeyError, IndexError, ValueError, TypeError, AttributeError, OverflowError)


def estimate(record: Record, axis: Axis) -> Finding:
    """Return what the right estimator makes of a record.

    Raises
    ------
    InputError : no such experiment, or a record that its estimator cannot read

    """
    kind = record_kind(record)
    if kind not in _ESTIMATORS:
        remedy = f"Known: {', '.join(KEYS)}; name it with --as"
        raise InputError(f"unknown experiment '{record.experiment}'", place="record", remedy=remedy)
    try:
        return _by_form(kind, prepared(record), axis)
    except InputError:
        raise
    except ZeroDivisionError as error:
        remedy = "Is time in ms, or a column all zeros?"
        raise InputError("its numbers make no sense", place="record", remedy=remedy) from error
    except _ODD as error:
        remedy = "Is the record complete, and of this experiment?"
        raise InputError(f"cannot be read: {error}", place="record", remedy=remedy) from error


def _by_form(kind: str, record: Record, axis: Axis) -> Finding:
    """Return the finding by the estimator for the columns that there are."""
    names = set(record.columns)
    if kind == "resistance" and {"i", "vab"} <= names:
        return direct_current(record, axis)
    if kind.startswith("inductance") and {"i", "vab"} <= names:
        return two_terminal_sine(record, axis, kind[-1])
    if kind == "flux" and "vq" not in names:
        return back_emf(record, axis)
    if kind in ("inertia", "resonance"):
        record = with_angle(record)
    return _ESTIMATORS[kind](record, axis)
