"""What a control loop of an axis is: what is asked of it, its gains, its filters.

A loop's own file says which figures and gains it has (`LoopSpec`); `loops.py` lists them. Axis
file, project, runs, logbook and handover walk that list and name no loop themselves.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Protocol

from oarlock.machine.filters import Filter
from oarlock.quantities.kinds import Kind


@dataclass(frozen=True, slots=True)
class Item:
    """One number of a loop, as it stands in files, logbook and handover."""

    key: str  # "Kp_q"
    value: float  # SI
    unit: str
    label: str  # marked up
    meaning: str  # in a firmware file


class Target(Protocol):
    """What is asked of a loop."""

    def asked(self) -> Mapping[str, float | bool]:
        """Return its figures by name, SI; those that are not asked for are left out."""


class Gains(Protocol):
    """The numbers that a loop runs with."""

    def listed(self) -> tuple[Item, ...]:
        """Return every one of them, in the order in which people read them."""


def alike(a: Gains, b: Gains) -> bool:
    """Return whether two sets of gains are the same but for rounding."""
    if a == b:
        return True
    one, other = ({item.key: item.value for item in gains.listed()} for gains in (a, b))
    return one.keys() == other.keys() and all(
        abs(value - other[key]) <= 1e-9 * abs(other[key]) for key, value in one.items()
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """One figure that may be asked of a loop: how it is entered, and its size in SI."""

    name: str  # in the axis file
    kind: Kind
    scale: float = 1.0  # SI for each unit of the kind


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopSpec:
    """One loop: its names, and how its target and gains are made of numbers."""

    key: str  # in files: [targets.KEY]
    name: str  # on screen
    prefix: str  # of its symbols in a firmware file
    figures: tuple[Figure, ...]
    switches: tuple[str, ...] = ()  # what is asked for by true or false
    make_target: Callable[[Mapping[str, float], Mapping[str, bool]], Target]
    gains: tuple[str, ...]  # names of all gains
    labels: Mapping[str, str] = field(default_factory=dict)  # of gains, marked up
    may_be_zero: tuple[str, ...] = ()  # of them; every other one is above zero
    may_be_missing: tuple[str, ...] = ()
    make_gains: Callable[[Mapping[str, float]], Gains]
    filter_paths: tuple[str, ...] = ()  # where its filters may stand
    default: Target | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Loop:
    """One loop of an axis as it stands."""

    target: Target | None = None
    gains: Gains | None = None
    filters: tuple[Filter, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing is asked of it and nothing is known."""
        return self.target is None and self.gains is None and not self.filters


_NOTHING = Loop()


@dataclass(frozen=True, slots=True)
class Loops:
    """The loops of an axis by their keys; what was never touched is an empty one."""

    held: tuple[tuple[str, Loop], ...] = ()

    def __getitem__(self, key: str) -> Loop:
        for name, loop in self.held:
            if name == key:
                return loop
        return _NOTHING

    def __iter__(self) -> Iterator[tuple[str, Loop]]:
        return iter(self.held)

    def having(self, key: str, loop: Loop) -> "Loops":
        """Return these with one loop exchanged."""
        kept = dict(self.held) | {key: loop}
        return Loops(tuple((name, one) for name, one in kept.items() if not one.is_empty))

    def with_gains(self, key: str, gains: Gains | None) -> "Loops":
        """Return these with other gains of one loop."""
        return self.having(key, replace(self[key], gains=gains))

    def with_target(self, key: str, target: Target | None) -> "Loops":
        """Return these with another target of one loop."""
        return self.having(key, replace(self[key], target=target))

    def numbers(self) -> dict[str, float]:
        """Return all gains and filters as plain numbers, by keys such as `current.Kp_q`."""
        found: dict[str, float] = {}
        for key, loop in self.held:
            if loop.gains is not None:
                found |= {f"{key}.{item.key}": item.value for item in loop.gains.listed()}
            for n, one in enumerate(loop.filters, 1):
                found |= {f"{key}.{one.path}_{n}_{one.kind}.{name}": value
                          for name, value in one.numbers().items()}  # fmt: skip
        return found

    def only(self, keys: Iterable[str]) -> "Loops":
        """Return some of them alone."""
        wanted = set(keys)
        return Loops(tuple((key, loop) for key, loop in self.held if key in wanted))
