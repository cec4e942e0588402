"""The axis as frozen data, its file, and what the machine can do on its bus."""

from oarlock.machine.axis import (
    Axis,
    CurrentGains,
    CurrentTarget,
    Inverter,
    Machine,
    TargetKind,
)
from oarlock.machine.parameter import Parameter
from oarlock.machine.sensor import Sensor, SensorKind

__all__ = [
    "Axis",
    "CurrentGains",
    "CurrentTarget",
    "Inverter",
    "Machine",
    "Parameter",
    "Sensor",
    "SensorKind",
    "TargetKind",
]
