"""The speed loop's target and gains."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind

KEY = "speed"
LABELS = {
    "Kp": "K~p~ speed", "Ki": "K~i~ speed", "weight": "weight",
    "acceleration": "ahead",
}  # fmt: skip


FAST = ("crossover", "bandwidth", "dip", "symmetry")  # figures of which one may be given


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedTarget:
    """What is asked of the speed loop: at most one figure that makes it fast, and a margin.

    Without such a figure it is the stiffest loop that keeps the margin.
    """

    crossover: float | None = None  # rad/s
    bandwidth: float | None = None  # rad/s
    dip: float | None = None  # rad/s that a step of rated torque may take
    symmetry: float | None = None  # factor of the symmetrical optimum; it decides the margin too
    phase_margin: float | None = None  # rad

    def asked(self) -> Mapping[str, float | bool]:
        """Return the figures that are asked for."""
        found = {f.name: getattr(self, f.name) for f in fields(self)}
        return {name: value for name, value in found.items() if value is not None}


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedGains:
    """Parallel PI gains of the speed controller, and what it feeds ahead."""

    Kp: float  # A s/rad
    Ki: float  # A/rad
    weight: float = 1.0  # share of the reference in the proportional part
    acceleration: float = 0.0  # A s²/rad

    def listed(self) -> tuple[Item, ...]:
        """Return all four."""
        return (
            Item("Kp", self.Kp, "A s/rad", LABELS["Kp"], "proportional gain, speed"),
            Item("Ki", self.Ki, "A/rad", LABELS["Ki"], "integral gain, speed"),
            Item("weight", self.weight, "1", LABELS["weight"], "set-point weight, speed"),
            Item(
                "acceleration",
                self.acceleration,
                "A s2/rad",
                LABELS["acceleration"],
                "current ahead for each rad/s2 asked for",
            ),
        )


def _target(figures: Mapping[str, float], _switches: Mapping[str, bool]) -> SpeedTarget:
    several = [name for name in FAST if name in figures]
    if len(several) > 1:
        raise ValueError(f"{' and '.join(several)} at once")
    if figures.get("symmetry", math.inf) <= 1.0:
        raise ValueError("a symmetry of 1 or less leaves no margin")
    return SpeedTarget(**figures)


SPEED = LoopSpec(
    key=KEY,
    name="Speed loop",
    prefix="SPD",
    figures=(
        Figure(name="crossover", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="bandwidth", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="dip", kind=Kind.SPEED),
        Figure(name="symmetry", kind=Kind.FACTOR),
        Figure(name="phase_margin", kind=Kind.ANGLE),
    ),
    make_target=_target,
    gains=tuple(f.name for f in fields(SpeedGains)),
    labels=LABELS,
    may_be_zero=("Ki", "weight", "acceleration"),
    may_be_missing=("weight", "acceleration"),
    make_gains=lambda numbers: SpeedGains(**numbers),
    filter_paths=("torque", "measured"),
)
