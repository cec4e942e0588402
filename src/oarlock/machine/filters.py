"""Filters of a loop as they are asked for: a corner, a notch, a lead or a lag."""

from dataclasses import dataclass
from enum import StrEnum


class FilterKind(StrEnum):
    """What a filter does."""

    LOW_PASS = "low_pass"
    NOTCH = "notch"
    LEAD_LAG = "lead_lag"


@dataclass(frozen=True, slots=True, kw_only=True)
class Filter:
    """One filter; what its kind does not use stays at its default."""

    path: str  # where it stands: "torque", "measured", …
    kind: FilterKind
    frequency: float  # rad/s: corner, middle of the notch, geometric mean of a lead's corners
    poles: int = 1  # of a low pass: 1 or 2
    damping: float = 0.70710678  # of a low pass of two poles
    width: float = 1.0  # of a notch: -3 dB band over its middle
    depth: float = 0.1  # of a notch: gain at its middle, ratio
    ratio: float = 1.0  # of a lead (above 1) or lag (below): upper over lower corner

    def numbers(self) -> dict[str, float]:
        """Return the numbers that its kind uses, by name."""
        return {name: float(getattr(self, name)) for name in ("frequency", *NUMBERS[self.kind])}


# What each kind takes besides its frequency, and between which numbers.
NUMBERS: dict[FilterKind, dict[str, tuple[float, float]]] = {
    FilterKind.LOW_PASS: {"poles": (1, 2), "damping": (0.1, 2.0)},
    FilterKind.NOTCH: {"width": (0.01, 20.0), "depth": (0.0, 1.0)},
    FilterKind.LEAD_LAG: {"ratio": (0.01, 100.0)},
}
