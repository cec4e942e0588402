"""The position loop's target and gains."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind

KEY = "position"
LABELS = {"Kp": "K~p~ position", "speed_share": "speed ahead"}


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionTarget:
    """What is asked of the position loop; nothing: the fastest that does not overshoot."""

    crossover: float | None = None  # rad/s

    def asked(self) -> Mapping[str, float | bool]:
        """Return the one figure, where it is asked for."""
        return {} if self.crossover is None else {"crossover": self.crossover}


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionGains:
    """The position controller's gain, and the share of the profile's speed that it asks ahead."""

    Kp: float  # 1/s
    speed_share: float = 1.0

    def listed(self) -> tuple[Item, ...]:
        """Return both."""
        return (
            Item("Kp", self.Kp, "1/s", LABELS["Kp"], "proportional gain, position"),
            Item(
                "speed_share",
                self.speed_share,
                "1",
                LABELS["speed_share"],
                "share of the profile's speed that is asked ahead",
            ),
        )


POSITION = LoopSpec(
    key=KEY,
    name="Position loop",
    prefix="POS",
    figures=(Figure(name="crossover", kind=Kind.FREQUENCY, scale=math.tau),),
    make_target=lambda figures, _switches: PositionTarget(**figures),
    gains=tuple(f.name for f in fields(PositionGains)),
    labels=LABELS,
    may_be_zero=("speed_share",),
    may_be_missing=("speed_share",),
    make_gains=lambda numbers: PositionGains(**numbers),
)
