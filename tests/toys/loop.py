"""A loop: the tension of a cable."""

from collections.abc import Mapping
from dataclasses import dataclass

from oarlock.machine.loop import Figure, Item, LoopSpec
from oarlock.quantities.kinds import Kind


@dataclass(frozen=True, slots=True, kw_only=True)
class TensionTarget:
    settling: float  # s

    def asked(self) -> Mapping[str, float | bool]:
        return {"settling": self.settling}


@dataclass(frozen=True, slots=True, kw_only=True)
class TensionGains:
    Kp: float  # rad/(s N)

    def listed(self) -> tuple[Item, ...]:
        return (Item("Kp", self.Kp, "rad/(s N)", "K~p~ tension", "proportional gain, tension"),)


TENSION = LoopSpec(
    key="tension",
    name="Tension loop",
    prefix="TEN",
    figures=(Figure(name="settling", kind=Kind.TIME),),
    make_target=lambda figures, _switches: TensionTarget(**figures),
    gains=("Kp",),
    labels={"Kp": "K~p~ tension"},
    make_gains=lambda numbers: TensionGains(**numbers),
)
