"""The axis as frozen data, its file, and what the machine can do on its bus."""

from oarlock.machine.axis import (
    Axis,
    CurrentGains,
    CurrentTarget,
    Inverter,
    Machine,
    Parameter,
    TargetKind,
)

__all__ = [
    "Axis",
    "CurrentGains",
    "CurrentTarget",
    "Inverter",
    "Machine",
    "Parameter",
    "TargetKind",
]
