"""What is identified: each quantity's experiment, its estimator, and the forms of its records."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced_together as all_announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.common.kind import Kind
from oarlock.experiments.identify.flux import FluxSpin, estimate_flux
from oarlock.experiments.identify.inductance import estimate_inductance
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.mechanics_reading import estimate_mechanics
from oarlock.experiments.identify.open_terminals import back_emf
from oarlock.experiments.identify.resistance import estimate_resistance
from oarlock.experiments.identify.resonance import TorqueSines, estimate_resonance
from oarlock.experiments.identify.soundness import prepared, with_angle
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.experiments.identify.two_terminals import direct_current, two_terminal_sine
from oarlock.machine import Axis
from oarlock.records import Finding, Record
from oarlock.records.quantity import BY_KEY, KEYS

_ESTIMATORS: dict[str, Callable[[Record, Axis], Finding]] = {
    "resistance": estimate_resistance,
    "inductance_d": estimate_inductance,
    "inductance_q": estimate_inductance,
    "flux": estimate_flux,
    "inertia": estimate_mechanics,
    "resonance": estimate_resonance,
}


def experiment_for(quantity: str, *, held: bool = True) -> Experiment:
    """Return the experiment that identifies `quantity`.

    Parameters
    ----------
    held : whether a brake holds the shaft; a free one swings after each change of direction,
        and a held q current would spin it, so that saturation along q is left out

    """
    if quantity == "resistance":
        return ResistanceHolds() if held else ResistanceHolds(turn=0.9)
    if quantity == "inductance_d":
        far = (-0.6, 0.6) if held else ()
        return InductanceSine(axis_name="d", aligned=not held, fast=(0.1, 0.15, 0.2), d_biases=far)
    if quantity == "inductance_q":
        biases = (0.3, 0.6, 0.9) if held else ()
        return InductanceSine(axis_name="q", q_biases=biases, aligned=not held)
    turning: dict[str, Callable[[], Experiment]] = {
        "flux": FluxSpin, "inertia": SpeedTrapezoids, "resonance": TorqueSines,
    }  # fmt: skip
    return turning[quantity]()


def record_kind(record: Record) -> str:
    """Return which quantity a record is of, or its experiment's name."""
    if record.experiment == InductanceSine.name:
        return f"{record.experiment}_{record.settings.get('axis_name', '')}"
    return record.experiment


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


def announced_together(axis: Axis, *, held: bool) -> str:
    """Return what will move when all quantities are measured in a row, every try included.

    Raises
    ------
    InputError : one of them cannot be planned

    """
    return all_announced([experiment_for(key, held=held) for key in KEYS], axis)


IDENTIFY = tuple(Kind(key=key, read=estimate, turns=BY_KEY[key].turns) for key in KEYS)
