"""What is identified of an axis, in order: its experiment, its estimator, what it needs."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from oarlock.drive.dry_run import problems
from oarlock.drive.travel import excursion
from oarlock.errors import InputError
from oarlock.identify.experiments import (
    Experiment,
    InductanceSine,
    ResistanceHolds,
    announcement,
)
from oarlock.identify.flux import FluxSpin, estimate_flux
from oarlock.identify.inductance import estimate_inductance
from oarlock.identify.mechanics import SpeedTrapezoids, estimate_mechanics
from oarlock.identify.open_terminals import back_emf
from oarlock.identify.resistance import estimate_resistance
from oarlock.identify.resonance import TorqueSines, estimate_resonance
from oarlock.identify.soundness import prepared, with_angle
from oarlock.identify.two_terminals import direct_current, two_terminal_sine
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Finding, Record

ESTIMATORS: dict[str, Callable[[Record, Axis], Finding]] = {
    "resistance": estimate_resistance,
    "inductance_d": estimate_inductance,
    "inductance_q": estimate_inductance,
    "flux": estimate_flux,
    "inertia": estimate_mechanics,
    "resonance": estimate_resonance,
}
QUANTITIES = tuple(ESTIMATORS)
# What each finding is told by first.
PATHS = {
    "resistance": "machine.R",
    "inductance_d": "machine.Ld",
    "inductance_q": "machine.Lq",
    "flux": "machine.psi",
    "inertia": "machine.inertia",
    "resonance": "mechanics.resonance",
}
TURNING = ("flux", "inertia", "resonance")
_TOO_LITTLE = ("excitation",)


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


_STRONGER = 1.7  # times the amplitude, where the answer was too weak


@dataclass(frozen=True, slots=True)
class Another:
    """The same experiment at another amplitude, and why."""

    experiment: Experiment
    why: str
    stronger: bool = False  # it moves more than the first one


def another(
    experiment: Experiment, finding: Finding | None, ended: str, record: Record | None = None
) -> Another | None:
    """Return what to try after an experiment that was too strong or too weak, or nothing.

    A trip by the experiment's limit of current on a shaft that had followed, and a check that the
    bus or the speed was not reached, ask for less; a check on excitation asks for more, one on
    settling for patience.
    """
    if scaled(experiment, 0.5) is experiment:
        return None
    failed = finding.failed if finding else ()
    # A shaft that did not follow, or a power stage that tripped, is for a human to look at.
    if "current above the experiment's limit" in ended and _followed(record):
        return Another(scaled(experiment, 0.6), ended)
    if not failed:
        return None
    first = failed[0]
    if first.name == "voltage limit" or "too little torque" in first.sentence:
        return Another(scaled(experiment, 0.6), first.sentence)
    if first.name == "settled" and isinstance(experiment, ResistanceHolds):
        longer = replace(experiment, turn=2.5 * experiment.turn, settle=2.5 * experiment.settle)
        return Another(longer, first.sentence)
    if first.name in _TOO_LITTLE and not isinstance(experiment, ResistanceHolds):
        return Another(scaled(experiment, _STRONGER), first.sentence, stronger=True)
    return None


def _followed(record: Record | None) -> bool:
    """Return whether the shaft went the first speed asked for, before the drive tripped."""
    speeds = record.settings.get("speeds", []) if record else []
    if record is None or not speeds or record.rows < 100:
        return False
    t, theta = record["t"][:100], record["theta_m"][:100]
    went = float((theta[-1] - theta[0]) / max(t[-1] - t[0], 1e-9))
    return abs(went / float(speeds[0]) - 1.0) < 0.2


def scaled(experiment: Experiment, factor: float) -> Experiment:
    """Return the experiment at another amplitude."""
    if isinstance(experiment, ResistanceHolds):
        return replace(experiment, levels=tuple(factor * level for level in experiment.levels))
    if isinstance(experiment, InductanceSine | TorqueSines):
        return replace(experiment, amplitude=factor * experiment.amplitude)
    if isinstance(experiment, FluxSpin):
        return replace(experiment, levels=tuple(factor * level for level in experiment.levels))
    if isinstance(experiment, SpeedTrapezoids):
        return replace(experiment, top=factor * experiment.top, torque=factor * experiment.torque)
    return experiment


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
    if kind not in ESTIMATORS:
        remedy = f"Known: {', '.join(QUANTITIES)}; name it with --as"
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
    return ESTIMATORS[kind](record, axis)


def largest_try(experiment: Experiment, axis: Axis) -> Experiment | None:
    """Return the strongest that `experiment` may be repeated as by itself, or None: never stronger.

    It is announced beforehand together with the first one.
    """
    if isinstance(experiment, ResistanceHolds):
        return None
    stronger = scaled(experiment, _STRONGER)
    if stronger is experiment:
        return None
    try:
        return None if problems(stronger.plan(axis), axis) else stronger
    except InputError:
        return None


def announced(experiment: Experiment, axis: Axis, *, braked: bool = False) -> str:
    """Return what will move, how far, how fast, with what current and how long: every try of it."""
    said = _moves(experiment, axis, braked=braked)
    stronger = largest_try(experiment, axis)
    if stronger is not None:
        said += f" If the answer is too weak, once more: {_moves(stronger, axis, braked=braked)}"
    return said


def announced_together(axis: Axis, *, held: bool) -> str:
    """Return what will move when all quantities are measured in a row, every try included.

    Raises
    ------
    InputError : one of them cannot be planned

    """
    first = [experiment_for(quantity, held=held) for quantity in QUANTITIES]
    said = _together(first, axis)
    stronger = [largest_try(e, axis) or e for e in first]
    return f"{said} Where an answer is too weak, all of it once more: " + _together(stronger, axis)


def _together(experiments: list[Experiment], axis: Axis) -> str:
    plans = [e.plan(axis) for e in experiments]
    turning = [e for e in experiments if getattr(e, "movement", None)]
    moved = [e.movement(axis) for e in turning]  # type: ignore[attr-defined]
    turns = max(excursion(e.plan(axis), axis)[0].farthest for e in turning)
    amperes = max([p.largest_current for p in plans] + [m.current for m in moved])
    seconds = sum(m.seconds for m in moved)
    seconds += sum(p.duration for p, e in zip(plans, experiments, strict=True) if e not in turning)
    rpm = digits(max(m.speed for m in moved) / RPM, 2)
    far = f"It turns up to {digits(turns, 2)} turns either way"
    return f"{far}, {rpm} rpm, {digits(amperes, 2)} A, {seconds:.0f} s."


def _moves(experiment: Experiment, axis: Axis, *, braked: bool) -> str:
    movement: Any = getattr(experiment, "movement", None)
    if movement:
        return str(movement(axis).sentence)
    return announcement(experiment.plan(axis), braked=braked)
