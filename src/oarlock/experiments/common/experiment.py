"""What every experiment is: frozen settings with a plan, a title and plain settings.

To add one, see docs/architecture.md.
"""

import math
from dataclasses import asdict
from typing import TYPE_CHECKING, ClassVar, Protocol, runtime_checkable

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.steps import Limits, Plan
from oarlock.experiments.common.movement import Movement
from oarlock.machine import Axis
from oarlock.records import Plain, Record

if TYPE_CHECKING:
    from _typeshed import DataclassInstance


class Experiment(Protocol):
    """What the runner and the screens need of an experiment."""

    name: ClassVar[str]

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""


@runtime_checkable
class Moving(Protocol):
    """An experiment that says of itself what will move."""

    def movement(self, axis: Axis) -> Movement:
        """Return what will move, how far, how fast, with what current and for how long."""


@runtime_checkable
class Staged(Protocol):
    """An experiment of several plays, each planned by what the last one showed."""

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress) -> Record:
        """Play them all and return one record."""


@runtime_checkable
class Scalable(Protocol):
    """An experiment that can be played again at another amplitude."""

    may_grow: ClassVar[bool]  # whether a repeat may be stronger than the first

    def scaled(self, factor: float) -> Experiment:
        """Return it at another amplitude."""


@runtime_checkable
class Patient(Protocol):
    """An experiment that can be played again with more time to settle."""

    def longer(self) -> Experiment:
        """Return it with more time."""


def limits_for(axis: Axis, current: float, seconds: float) -> Limits:
    """Return abort limits a little above what an experiment at standstill needs."""
    # A free shaft aligns by half an electrical turn, then follows the directions round.
    travel = 3.4 * math.pi / axis.machine.pole_pairs.value
    if axis.mechanics.max_turns is not None:
        travel = min(travel, math.tau * axis.mechanics.max_turns.value)
    return Limits(
        current=min(1.3 * current + 0.05 * axis.peak, 1.1 * axis.peak),
        speed=0.25 * axis.top_speed,
        travel=travel,
        time=seconds + 1.0,
    )  # fmt: skip


def plain_settings(experiment: "DataclassInstance") -> dict[str, Plain]:
    """Return an experiment's settings as TOML can hold them."""
    return {
        key: list(value) if isinstance(value, tuple) else value
        for key, value in asdict(experiment).items()
    }
