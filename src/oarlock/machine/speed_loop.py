"""The speed loop's target and gains."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind

KEY = "speed"
LABELS = {
    "Kp": "K~p~ speed", "Ki": "K~i~ speed", "weight": "weight",
    "acceleration": "ahead", "reference": "reference lag", "friction": "friction ahead",
    "observer": "load observer", "inertia": "its inertia",
}  # fmt: skip


OPTIONS = ("reference", "friction", "observer", "inertia")  # gains that are 0 where not in use
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

    @property
    def is_fast(self) -> bool:
        """Whether one of the figures that make it fast is asked for."""
        figures = (self.crossover, self.bandwidth, self.dip, self.symmetry)
        return any(figure is not None for figure in figures)

    def asked(self) -> Mapping[str, float | bool]:
        """Return the figures that are asked for."""
        found = {f.name: getattr(self, f.name) for f in fields(self)}
        return {name: value for name, value in found.items() if value is not None}


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedGains:
    """Parallel PI gains of the speed controller, what it feeds ahead, and its options.

    An option that is 0 is not in use.

    Raises
    ------
    ValueError : an observer that goes by no inertia, or a weight below 1 with nothing but the
        observer in place of an integral: the speed would settle at that share of what is asked

    """

    Kp: float  # A s/rad
    Ki: float  # A/rad
    weight: float = 1.0  # share of the reference in the proportional part
    acceleration: float = 0.0  # A s²/rad
    reference: float = 0.0  # s, lag of the speed asked for
    friction: float = 0.0  # A ahead, on the side that the speed asked for has
    observer: float = 0.0  # rad/s, poles of the load observer
    inertia: float = 0.0  # A s²/rad, that it goes by

    def __post_init__(self) -> None:
        if self.observer > 0.0 and not self.inertia > 0.0:
            raise ValueError("a load observer needs the inertia that it goes by")
        if self.observer > 0.0 and not self.Ki > 0.0 and self.weight != 1.0:
            raise ValueError("without Ki the speed would settle at weight times what is asked")

    def listed(self) -> tuple[Item, ...]:
        """Return the gains, and the options that are in use."""
        options = (
            Item("reference", self.reference, "s", LABELS["reference"],
                 "lag of the speed asked for"),
            Item("friction", self.friction, "A", LABELS["friction"],
                 "current ahead against friction"),
            Item("observer", self.observer, "rad/s", LABELS["observer"],
                 "poles of the load observer"),
            Item("inertia", self.inertia, "A s2/rad", LABELS["inertia"],
                 "current for each rad/s2 that the load observer goes by"),
        )  # fmt: skip
        return (*self._always(), *(item for item in options if item.value > 0.0))

    def _always(self) -> tuple[Item, ...]:
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
    may_be_zero=("Ki", "weight", "acceleration", *OPTIONS),
    may_be_missing=("weight", "acceleration", *OPTIONS),
    make_gains=lambda numbers: SpeedGains(**numbers),
    filter_paths=("torque", "measured"),
)
