"""The position sensor of an axis, and how the firmware makes an angle of it.

    theta_m = side * (mechanical angle that the sensor's lines say)
    theta_e = pole_pairs * theta_m - zero

A resolver's lines are sine = ratio * A sin(phase + skew) + offset, cosine = A cos(phase) +
offset; a hall state begins, turning forward, at the electrical angle in `hall_0` to `hall_7`.
"""

from dataclasses import dataclass, field
from enum import StrEnum

from oarlock.machine.hashed import hashed_once
from oarlock.machine.parameter import Parameter
from oarlock.quantities import Estimate, Origin

ILLEGAL = -10.0  # rad: a hall state that no rotor position gives
HALL_STATES = 8


class SensorKind(StrEnum):
    """What tells the rotor's position."""

    ENCODER = "encoder"
    RESOLVER = "resolver"
    HALL = "hall"
    NONE = "none"


def _assumed(value: float, unit: str = "1") -> Parameter:
    return Parameter(
        printed=Estimate(value=value, std=None, unit=unit, origin=Origin.ASSUMED, source="")
    )


@hashed_once
@dataclass(frozen=True, kw_only=True)
class Sensor:
    """Which sensor there is, and what was found of it; angles in rad."""

    kind: SensorKind = SensorKind.ENCODER
    kind_known: bool = True  # False: nobody said so yet
    counts: Parameter = field(default_factory=lambda: _assumed(4096.0))  # a turn
    pairs: Parameter = field(default_factory=lambda: _assumed(1.0))  # rounds of a resolver a turn
    side: Parameter = field(default_factory=lambda: _assumed(1.0))  # -1: it counts backward
    zero: Parameter = field(default_factory=lambda: _assumed(0.0, "rad"))  # electrical
    sine_offset: Parameter = field(default_factory=lambda: _assumed(0.0))  # of the range
    cosine_offset: Parameter = field(default_factory=lambda: _assumed(0.0))
    sine_ratio: Parameter = field(default_factory=lambda: _assumed(1.0))
    skew: Parameter = field(default_factory=lambda: _assumed(0.0, "rad"))
    hall_0: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_1: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_2: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_3: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_4: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_5: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_6: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))
    hall_7: Parameter = field(default_factory=lambda: _assumed(ILLEGAL, "rad"))

    @property
    def hall_starts(self) -> tuple[float, ...]:
        """Where each hall state begins, rad electrical; `ILLEGAL` where none does."""
        return tuple(
            p.value
            for p in (self.hall_0, self.hall_1, self.hall_2, self.hall_3,
                      self.hall_4, self.hall_5, self.hall_6, self.hall_7)
        )  # fmt: skip

    @property
    def is_found(self) -> bool:
        """Whether the angle's zero was measured, or printed for sure."""
        if self.kind is SensorKind.HALL:
            return any(start > ILLEGAL for start in self.hall_starts)
        return self.zero.best.origin is not Origin.ASSUMED


FOUND = (
    "side", "zero", "sine_offset", "cosine_offset", "sine_ratio", "skew",
    *(f"hall_{n}" for n in range(HALL_STATES)),
)  # fmt: skip
