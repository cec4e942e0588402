"""What the findings of the sensors rest on, for their pictures."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.records.evidence import Evidence

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PhasesAtRest(Evidence):
    """What each phase's sensor read while no current flowed."""

    phases: Mapping[str, Array]  # A, by "a", "b", "c"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PulseAnswer(Evidence):
    """How the machine answered voltage in each direction."""

    tips: Array  # S, (directions, 2)
    ellipse: Array  # S, (points, 2)
    gains: Array  # of the three current sensors over their median


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Circle(Evidence):
    """A resolver's two lines over one another, by the size of their circle."""

    sine: Array
    cosine: Array
    fit_sine: Array
    fit_cosine: Array
    offset: tuple[float, float]  # of sine and cosine


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Counts(Evidence):
    """An encoder's counts while a hand turned the shaft."""

    t: Array  # s
    counts: Array


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class HallStates(Evidence):
    """The state of the three hall lines while a hand turned the shaft."""

    t: Array  # s
    states: Array


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TurnError(Evidence):
    """Measured less forced angle over a turn, rad."""

    grid: Array  # rad, over a turn
    forward: Array
    back: Array
    mean: Array
    orders: Array  # rad, from the first


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class HallRing(Evidence):
    """Where the hall sensors' edges stand, rad electrical."""

    edges: Array
    ways: Array  # +1 or -1 of each edge
    starts: Array  # of the six states, in order
    order: tuple[int, ...]  # the states


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Pushed(Evidence):
    """How the shaft moved under each of the four pushes."""

    t: tuple[Array, ...]  # s
    moved: tuple[Array, ...]  # rad


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Trials(Evidence):
    """Where each trial of a search pointed and which way the shaft went."""

    angle: Array  # rad electrical, commanded
    motion: Array  # +1, 0 or -1
    place: Array | None = None  # rad ahead of d, where it was found


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Levels(Evidence):
    """The back-EMF at each level of current."""

    level: Array  # A
    emf: Array  # V s


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Start(Evidence):
    """The observer's speed over a start."""

    t: Array  # s
    speed: Array  # rad/s electrical
