"""The current loop's target and gains."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields
from enum import StrEnum

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind

KEY = "current"
LABELS = {"Kp_d": "K~p~ d", "Ki_d": "K~i~ d", "Kp_q": "K~p~ q", "Ki_q": "K~i~ q",
          "weight": "weight current"}  # fmt: skip
USUAL_DAMPING = math.sqrt(0.5)


class IntegralRule(StrEnum):
    """How the firmware sums up the error of the current."""

    BACKWARD = "backward"  # the sum includes the newest error
    FORWARD = "forward"  # it does not
    TRAPEZOIDAL = "trapezoidal"  # half of it


class VoltageLimit(StrEnum):
    """How the firmware shares out what the bus gives between both axes."""

    D_FIRST = "d first"  # q has what is left
    IN_PROPORTION = "in proportion"  # a vector that is too long is shortened


class TargetKind(StrEnum):
    """Which one figure of the current loop the user gives."""

    CROSSOVER = "crossover"  # rad/s
    BANDWIDTH = "bandwidth"  # rad/s
    PHASE_MARGIN = "phase_margin"  # rad
    TIME_CONSTANT = "time_constant"  # s
    NATURAL_FREQUENCY = "natural_frequency"  # rad/s, of the closed loop, with a damping


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentTarget:
    """What is asked of the current loop."""

    kind: TargetKind
    value: float  # SI: rad/s, rad or s
    damping: float = USUAL_DAMPING  # that goes with a natural frequency
    override_margin: bool = False  # allow a phase margin below 30°

    def asked(self) -> Mapping[str, float | bool]:
        """Return the figure, its damping where it has one, and the override where it is set."""
        more: dict[str, float | bool] = {"override_margin": True} if self.override_margin else {}
        if self.kind is TargetKind.NATURAL_FREQUENCY:
            more["damping"] = self.damping
        return {self.kind.value: self.value, **more}


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentGains:
    """Parallel PI gains of both current controllers, and the set-point weight that both share."""

    Kp_d: float  # V/A
    Ki_d: float  # V/(A s)
    Kp_q: float
    Ki_q: float
    weight: float = 1.0  # share of the current asked for in the proportional part

    def listed(self) -> tuple[Item, ...]:
        """Return all five."""
        return (
            Item("Kp_d", self.Kp_d, "V/A", LABELS["Kp_d"], "proportional gain, d axis"),
            Item("Ki_d", self.Ki_d, "V/(A s)", LABELS["Ki_d"], "integral gain, d axis"),
            Item("Kp_q", self.Kp_q, "V/A", LABELS["Kp_q"], "proportional gain, q axis"),
            Item("Ki_q", self.Ki_q, "V/(A s)", LABELS["Ki_q"], "integral gain, q axis"),
            Item("weight", self.weight, "1", LABELS["weight"], "set-point weight, both axes"),
        )


def _target(figures: Mapping[str, float], switches: Mapping[str, bool]) -> CurrentTarget:
    given = dict(figures)
    damping = given.pop("damping", USUAL_DAMPING)
    if len(given) != 1:
        raise ValueError("exactly one figure decides the current loop")
    name, value = next(iter(given.items()))
    if "damping" in figures and name != TargetKind.NATURAL_FREQUENCY:
        raise ValueError("a damping goes with natural_frequency alone")
    override = switches.get("override_margin", False)
    return CurrentTarget(kind=TargetKind(name), value=value, damping=damping,
                         override_margin=override)  # fmt: skip


DEFAULT = CurrentTarget(kind=TargetKind.PHASE_MARGIN, value=math.radians(60.0))
CURRENT = LoopSpec(
    key=KEY,
    name="Current loop",
    prefix="CUR",
    figures=(
        Figure(name="crossover", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="bandwidth", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="phase_margin", kind=Kind.ANGLE),
        Figure(name="time_constant", kind=Kind.TIME),
        Figure(name="natural_frequency", kind=Kind.FREQUENCY, scale=math.tau),
        Figure(name="damping", kind=Kind.FACTOR),
    ),
    switches=("override_margin",),
    make_target=_target,
    gains=tuple(f.name for f in fields(CurrentGains)),
    labels=LABELS,
    may_be_zero=("weight",),
    may_be_missing=("weight",),
    make_gains=lambda numbers: CurrentGains(**numbers),
    default=DEFAULT,
)
