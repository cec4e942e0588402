"""A value that knows how well it is known and where it came from."""

from dataclasses import dataclass
from enum import StrEnum


class Origin(StrEnum):
    """Where a value came from, weakest first."""

    ASSUMED = "assumed"
    ROUGH = "rough"  # seen in passing, to size what measures it
    TOLD = "told"  # by the drive
    DATASHEET = "datasheet"
    MEASURED = "measured"
    FITTED = "fitted"
    DERIVED = "derived"


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """A value in SI with its standard uncertainty, unit and origin."""

    value: float
    std: float | None = None  # None: unknown. Zero: exact, as pole pairs are.
    unit: str
    origin: Origin
    source: str = ""  # the run it came from, or the entry as typed

    @property
    def is_measured(self) -> bool:
        """Whether it rests on a measurement rather than on paper."""
        return self.origin in (Origin.MEASURED, Origin.FITTED)


def measured(value: float, std: float | None, unit: str = "1") -> Estimate:
    """Return an estimate that rests on a measurement; SI, `std` standard uncertainty or unknown."""
    return Estimate(value=value, std=std, unit=unit, origin=Origin.MEASURED)
