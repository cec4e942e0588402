"""An experiment: how far a tug at the cable moves the shaft."""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from oarlock.drive.steps import Plan, Step
from oarlock.experiments.common.experiment import limits_for
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.kind import Kind
from oarlock.machine import Axis
from oarlock.records import Check, Finding, Plain, Record


@dataclass(frozen=True, slots=True, kw_only=True)
class CableTug:
    name: ClassVar[str] = "cable tug"

    def plan(self, axis: Axis) -> Plan:
        return Plan(
            name=self.name,
            steps=(Step(duration=0.05, i_d=1.0),),
            channels=("t", "theta_m"),
            limits=limits_for(axis, 1.0, 0.05),
            gains=gentle_gains(axis, 500.0),
        )

    def title(self, axis: Axis) -> str:
        return "a tug at the cable"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        return {}


def read_tug(record: Record, _axis: Axis) -> Finding:
    moved = float(np.ptp(record["theta_m"]))
    check = Check(code="stiff", passed=moved < 0.1, sentence=f"The shaft gave {moved:.3f} rad")
    return Finding(quantity=CableTug.name, estimates={}, checks=(check,), remark="stiff enough")


TUG = Kind(key=CableTug.name, read=read_tug, proves=True)
