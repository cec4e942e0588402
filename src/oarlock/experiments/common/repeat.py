"""Playing an experiment again: what a failed try asks for, and how strong it may become."""

from dataclasses import dataclass

from oarlock.drive.contract.trips import LIMIT_CURRENT
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment, Patient, Scalable
from oarlock.machine import Axis
from oarlock.records import Ask, Finding, Record
from oarlock.records.settings import numbers

ATTEMPTS = 3
_STRONGER, _WEAKER = 1.7, 0.6  # times the amplitude


@dataclass(frozen=True, slots=True)
class Another:
    """The same experiment in another size, and why."""

    experiment: Experiment
    why: str
    stronger: bool = False  # it moves more than the first one


def another(experiment: Experiment, finding: Finding | None, record: Record) -> Another | None:
    """Return what to try after an experiment that was too strong or too weak, or nothing.

    A trip by the experiment's limit of current on a shaft that had followed asks for less. Where a
    check failed, the first one says what it asks for.
    """
    # A shaft that did not follow, or a power stage that tripped, is for a human to look at.
    if isinstance(experiment, Scalable) and record.trip == LIMIT_CURRENT.key and _followed(record):
        return Another(experiment.scaled(_WEAKER), record.ended)
    if finding is None or not finding.failed:
        return None
    first = finding.failed[0]
    if first.ask is Ask.LONGER and isinstance(experiment, Patient):
        return Another(experiment.longer(), first.sentence)
    if not isinstance(experiment, Scalable):
        return None
    if first.ask is Ask.WEAKER:
        return Another(experiment.scaled(_WEAKER), first.sentence)
    if first.ask is Ask.STRONGER and experiment.may_grow:
        return Another(experiment.scaled(_STRONGER), first.sentence, stronger=True)
    return None


def stronger_try(experiment: Experiment) -> Experiment | None:
    """Return what an experiment would be repeated as, whether it may be played now or not."""
    if not isinstance(experiment, Scalable) or not experiment.may_grow:
        return None
    return experiment.scaled(_STRONGER)


def gentler_tries(experiment: Experiment, axis: Axis) -> list[Experiment]:
    """Return what may follow where the drive breaks a spin off by its limit of current.

    Each goes on from where the one before stopped.
    """
    tries: list[Experiment] = []
    if "speeds" not in experiment.settings(axis):  # of no other is it known that it had followed
        return tries
    for _ in range(ATTEMPTS - 1):
        if isinstance(experiment, Scalable):
            experiment = experiment.scaled(_WEAKER)
            tries.append(experiment)
    return tries


def largest_try(experiment: Experiment, axis: Axis) -> Experiment | None:
    """Return the strongest that `experiment` may be repeated as by itself, or None: never stronger.

    It is announced beforehand together with the first one.
    """
    stronger = stronger_try(experiment)
    if stronger is None:
        return None
    try:
        return None if problems(stronger.plan(axis), axis) else stronger
    except InputError:
        return None


def _followed(record: Record) -> bool:
    """Return whether the shaft went the first speed asked for, before the drive tripped."""
    speeds = numbers(record.settings, "speeds")
    if not speeds or record.rows < 100:
        return False
    t, theta = record["t"][:100], record["theta_m"][:100]
    went = float((theta[-1] - theta[0]) / max(t[-1] - t[0], 1e-9))
    return abs(went / float(speeds[0]) - 1.0) < 0.2
