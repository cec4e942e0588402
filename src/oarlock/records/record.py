"""Record, finding and run: frozen data that every later stage reads and none changes."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.quantities import Estimate
from oarlock.records.evidence import Evidence
from oarlock.records.settings import Settings

Array = NDArray[np.float64]
FROM_FILE = "file"  # what a record's drive begins with, where none made it


@dataclass(frozen=True, slots=True, eq=False)
class Sums:
    """What a drive added up over whole steps, one row each."""

    channels: tuple[str, ...]
    table: Array  # (rows, 3 + 7 channels): row, samples, limited, then each channel's seven

    def samples(self) -> Array:
        """Return how many samples each row took, (rows,)."""
        return self.table[:, 1]

    def limited(self) -> Array:
        """Return the share of samples with the voltage at its limit, (rows,)."""
        return self.table[:, 2] / np.maximum(self.table[:, 1], 1.0)

    def mean(self, channel: str) -> Array:
        """Return a channel's mean over each row, in its own unit, (rows,)."""
        first, total = self._of(channel)[:, 0], self._of(channel)[:, 1]
        return first + total / np.maximum(self.table[:, 1], 1.0)

    def spread(self, channel: str) -> Array:
        """Return a channel's standard deviation over each row, (rows,)."""
        n = np.maximum(self.table[:, 1], 1.0)
        total, squares = self._of(channel)[:, 1], self._of(channel)[:, 2]
        return np.sqrt(np.maximum(squares / n - (total / n) ** 2, 0.0))

    def gain(self, channel: str) -> NDArray[np.complex128]:
        """Return a channel's complex amplitude at each row's frequency, (rows,).

        Of a·sin(phase) + b·cos(phase) it is a + j·b, exact over a whole number of cycles.
        """
        n = np.maximum(self.table[:, 1], 1.0)
        cosine, sine = self._of(channel)[:, 3], self._of(channel)[:, 4]
        found: NDArray[np.complex128] = (sine + 1j * cosine).astype(np.complex128) * 2.0 / n
        return found

    def extremes(self, channel: str) -> tuple[Array, Array]:
        """Return (least, most) of a channel in each row."""
        return self._of(channel)[:, 5], self._of(channel)[:, 6]

    def _of(self, channel: str) -> Array:
        at = 3 + 7 * self.channels.index(channel)
        return self.table[:, at : at + 7]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Record:
    """Time series with names and units, and the settings they were taken under."""

    experiment: str
    sample_time: float  # s, of the current loop; a decimated record keeps its own `t`
    columns: Mapping[str, Array]  # SI, one length
    units: Mapping[str, str]
    settings: Settings = field(default_factory=dict)  # plain values, as TOML holds them
    drive: str = ""
    date: str = ""  # ISO 8601
    ended: str = "done"  # or why it ended before its time, for people
    trip: str = ""  # key of the drive's trip that ended it
    sums: Sums | None = None  # over whole steps, where they were asked for

    def __post_init__(self) -> None:
        lengths = {name: column.shape for name, column in self.columns.items()}
        if len(set(lengths.values())) > 1:
            raise ValueError(f"columns differ in length: {lengths}")
        for column in self.columns.values():
            column.setflags(write=False)

    def __getitem__(self, name: str) -> Array:
        try:
            return self.columns[name]
        except KeyError as error:
            remedy = f"It has {', '.join(self.columns)}"
            raise InputError(f"no column {name}", place=self.experiment, remedy=remedy) from error

    @property
    def rows(self) -> int:
        """How many samples it holds."""
        return next(iter(self.columns.values())).size if self.columns else 0


class Ask(StrEnum):
    """How an experiment might succeed if it were played again."""

    NOTHING = "nothing"
    WEAKER = "weaker"
    STRONGER = "stronger"
    LONGER = "longer"


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One thing that must hold before a number can be believed, in plain words."""

    code: str  # a few words that stay as they are: code may compare them
    passed: bool
    sentence: str
    ask: Ask = Ask.NOTHING  # where it failed: what another try would need


class Reading(Protocol):
    """What was read off a record: checks, figures for the logbook, a few words, a small curve."""

    @property
    def checks(self) -> tuple[Check, ...]:
        """What had to hold."""

    @property
    def holds(self) -> bool:
        """Whether every check passed."""

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares, SI, by key."""

    @property
    def said(self) -> str:
        """What the program says of it, in a few words."""

    @property
    def curve(self) -> Array:
        """What draws it in small."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Finding:
    """What an estimator made of a record."""

    quantity: str  # "resistance", "inductance_d", "inductance_q"
    estimates: Mapping[str, Estimate]  # by path in the axis, to be adopted together
    extra: Mapping[str, Estimate] = field(default_factory=dict)  # told, not adopted
    checks: tuple[Check, ...]
    remark: str = ""  # "falls 9 % to 18 A"
    evidence: Evidence | None = None
    headline: str = ""  # path of the estimate that the logbook tells; empty: the first

    @property
    def figures(self) -> Mapping[str, float]:
        """The headline's value and standard uncertainty."""
        if not self.estimates:
            return {}
        path = self.headline or next(iter(self.estimates))
        estimate = self.estimates[path]
        return {path: estimate.value, "std": estimate.std or math.nan}

    @property
    def said(self) -> str:
        """The first check that failed, or the estimator's remark."""
        return self.failed[0].sentence if self.failed else self.remark

    @property
    def curve(self) -> Array:
        """What draws it in small."""
        return self.evidence.curve if self.evidence else np.zeros(0)

    @property
    def holds(self) -> bool:
        """Whether every check passed; only then may it be adopted without saying so."""
        return all(check.passed for check in self.checks)

    @property
    def failed(self) -> tuple[Check, ...]:
        """The checks that did not pass."""
        return tuple(check for check in self.checks if not check.passed)


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """One row of the logbook; its record is kept apart under the same id."""

    id: int
    axis: str
    kind: str  # experiment name
    title: str  # what was asked
    started: str  # ISO 8601
    ended: str  # "done", or why not
    settings: Settings
    gains: Mapping[str, float] = field(default_factory=dict)
    figures: Mapping[str, float] = field(default_factory=dict)
    remark: str = ""  # what the program says of it
    note: str = ""  # what the user wrote
    pinned: bool = False
    starred: bool = False
    used: bool = False  # adopted, or its gains taken
    sparkline: tuple[float, ...] = ()
