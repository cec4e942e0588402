"""The shaft turned by hand, gates off: what the position sensor's own lines say.

A resolver's sine and cosine are fitted by an ellipse; an encoder's counts must come back to
where they were, and its index with them; hall states must follow one another in one order.
"""

import math
from dataclasses import dataclass
from typing import ClassVar

from oarlock.drive.steps import Frame, Plan, Step
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.machine import Axis, SensorKind
from oarlock.records import Plain

_LINES = {
    SensorKind.RESOLVER: ("sine", "cosine"),
    SensorKind.ENCODER: ("counts", "index"),
    SensorKind.HALL: ("hall", "counts"),
    SensorKind.NONE: ("hall", "counts"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class TurnByHand:
    """Gates off, brake open: somebody turns the shaft one turn forward and back to its mark."""

    name: ClassVar[str] = "turned by hand"
    seconds: float = 2.8

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        return Plan(
            name=self.name,
            steps=(Step(duration=self.seconds, frame=Frame.OFF, release=True),),
            channels=("t", "theta_m", *_LINES[axis.sensor.kind]),
            decimation=max(round(self.seconds / axis.inverter.Ts / 12000), 1),
            limits=abort_limits(
                axis,
                current=0.0,
                turns=40.0,
                speed=axis.top_speed,
                seconds=self.seconds,
            ),
            gains=gentle_gains(axis, 100.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return "turned by hand, gates off"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move: nothing but what a hand moves."""
        del axis
        return Movement(
            what="is turned by hand",
            speed=2.5 * math.tau,
            current=0.0,
            seconds=self.seconds,
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        sensor, pairs = axis.sensor, axis.machine.pole_pairs
        return {
            "kind": sensor.kind.value,
            "counts": sensor.counts.value,
            # 0: nobody has said so; what is counted then counts.
            "pairs": sensor.pairs.value if sensor.pairs.is_known else 0.0,
            "pole_pairs": pairs.value if pairs.is_known else 0.0,
            "side": sensor.side.value,
        }


# Resolver


# Encoder


# Halls
