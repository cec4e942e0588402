"""The axis as frozen data, its file, and what the machine can do on its bus."""

from oarlock.machine.axis import Axis, Inverter, Machine
from oarlock.machine.current_loop import CurrentGains, CurrentTarget, TargetKind
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
