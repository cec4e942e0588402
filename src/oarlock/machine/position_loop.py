"""The position loop's target and gains."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind

KEY = "position"
RAMP = ("speed", "acceleration", "jerk_time")
LABELS = {"Kp": "K~p~ position", "speed_share": "speed ahead"}


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionTarget:
    """What is asked of the position loop, and the ramp that the axis moves and changes speed with.

    No crossover: the fastest loop that does not overshoot.
    """

    crossover: float | None = None  # rad/s
    speed: float | None = None  # rad/s, of the ramp
    acceleration: float | None = None  # rad/s²
    jerk_time: float | None = None  # s, over which the acceleration comes and goes

    def asked(self) -> Mapping[str, float | bool]:
        """Return the figures that are asked for."""
        every = {name: getattr(self, name) for name in ("crossover", *RAMP)}
        return {name: value for name, value in every.items() if value is not None}

    @property
    def ramp(self) -> Mapping[str, float]:
        """The numbers of the ramp, where any is set; without a jerk time it is a trapezoid."""
        given = {name: float(value) for name, value in self.asked().items() if name in RAMP}
        return {"jerk_time": 0.0, **given} if given else {}


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
    figures=(
        Figure(name="crossover", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="speed", kind=Kind.SPEED),
        Figure(name="acceleration", kind=Kind.ACCELERATION),
        Figure(name="jerk_time", kind=Kind.TIME),
    ),
    make_target=lambda figures, _switches: PositionTarget(**figures),
    gains=tuple(f.name for f in fields(PositionGains)),
    labels=LABELS,
    may_be_zero=("speed_share",),
    may_be_missing=("speed_share",),
    make_gains=lambda numbers: PositionGains(**numbers),
)
