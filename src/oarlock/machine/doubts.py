"""Entries that are possible but hardly meant: a digit missing, a unit or a factor off.

Each rule sets a value against others of the axis, in a ratio that lies in a known band for any
machine of this trade. What falls out of its band is asked about before it is used.
"""

import math
from collections.abc import Callable

from oarlock.machine.axis import Axis
from oarlock.machine.parameter import Parameter

_Rule = tuple[tuple[str, ...], Callable[[Axis], float], float, float, str]


def _tau(axis: Axis) -> float:
    m = axis.machine
    return min(m.Ld.value, m.Lq.value) / m.R.value


def _drop(axis: Axis) -> float:
    return axis.machine.R.value * axis.machine.rated_current.value / axis.inverter.v_max


def _emf(axis: Axis) -> float:
    m = axis.machine
    return m.psi.value * m.pole_pairs.value * m.max_speed.value / axis.inverter.v_max


def _fault_current(axis: Axis) -> float:
    m = axis.machine
    return m.psi.value / m.Ld.value / m.rated_current.value


def _acceleration(axis: Axis) -> float:
    m = axis.machine
    if m.inertia is None:
        return 1.0
    return m.inertia.value * m.max_speed.value / (m.torque_constant * m.rated_current.value)


def _entered(limit: Parameter | None, otherwise: float) -> float:
    return limit.value if limit is not None else otherwise


def _bus(axis: Axis, most: Parameter | None) -> float:
    bus = axis.inverter.bus_voltage
    return most.value / bus.value if most is not None and bus.is_known else 1.0


_RULES: tuple[_Rule, ...] = (
    (("machine.R", "machine.Ld", "machine.Lq"), _tau, 50e-6, 0.2, "L/R is {:.3g} s"),
    (("machine.Ld", "machine.Lq"), lambda a: a.machine.Lq.value / a.machine.Ld.value, 0.8, 6.0,
     "Lq is {:.3g} times Ld"),
    (("machine.R", "machine.rated_current"), _drop, 2e-4, 0.6,
     "R takes {:.2g} of the bus at rated current"),
    (("machine.psi", "machine.max_speed", "machine.pole_pairs", "inverter.bus_voltage"), _emf,
     0.12, 8.0, "back-EMF at top speed is {:.2g} of what the bus gives"),
    (("machine.psi", "machine.Ld", "machine.rated_current"), _fault_current, 0.3, 40.0,
     "the short-circuit current is {:.2g} times rated"),
    (("machine.rated_current", "machine.peak_current"),
     lambda a: a.machine.peak_current.value / a.machine.rated_current.value, 1.0, 8.0,
     "peak current is {:.2g} times rated"),
    (("inverter.current_full_scale", "machine.peak_current"),
     lambda a: a.inverter.current_full_scale.value / a.machine.peak_current.value, 1.0, 9.0,
     "the current sense reaches {:.2g} times peak current"),
    (("inverter.control_frequency", "inverter.pwm_frequency"),
     lambda a: a.inverter.control_frequency.value / a.inverter.pwm_frequency.value, 0.24, 2.1,
     "control runs at {:.2g} times the PWM frequency"),
    (("inverter.dead_time",),
     lambda a: a.inverter.dead_time.value * a.inverter.pwm_frequency.value, 1e-4, 0.08,
     "the dead time is {:.2g} of a period"),
    (("inverter.speed_divider",), lambda a: a.inverter.speed_divider.value, 1.0, 100.0,
     "every {:.0f}th sample for the speed loop"),
    (("inverter.speed_slope",), lambda a: a.inverter.speed_slope.value, 1.0, 200.0,
     "a slope over {:.0f} samples"),
    (("inverter.adc_bits",), lambda a: a.inverter.adc_bits.value, 8.0, 20.0, "{:.0f} bits"),
    (("machine.inertia",), _acceleration, 2e-3, 60.0, "it takes {:.2g} s to top speed"),
    (("machine.max_temperature",), lambda a: _entered(a.machine.max_temperature, 130.0),
     60.0, 260.0, "{:.0f} °C for a winding"),
    (("inverter.max_temperature",), lambda a: _entered(a.inverter.max_temperature, 85.0),
     45.0, 175.0, "{:.0f} °C for a power stage"),
    (("machine.max_voltage", "inverter.bus_voltage"), lambda a: _bus(a, a.machine.max_voltage),
     0.8, 20.0, "the winding bears {:.2g} times the bus"),
    (("inverter.max_voltage", "inverter.bus_voltage"), lambda a: _bus(a, a.inverter.max_voltage),
     0.95, 10.0, "the drive bears {:.2g} times the bus"),
    (("sensor.counts",), lambda a: a.sensor.counts.value, 16.0, 2.0**24, "{:.0f} counts a turn"),
)  # fmt: skip


def doubt(axis: Axis, path: str) -> str:
    """Return why the value at `path` is hardly meant, or nothing."""
    for paths, ratio, low, high, words in _RULES:
        if path not in paths:
            continue
        value = ratio(axis)
        if not low <= value <= high or not math.isfinite(value):
            return f"{words.format(value)}; {low:g} to {high:g} is usual"
    if path == "sensor.counts" and axis.sensor.counts.value % 4:
        return "counts come in fours, one for each edge of two lines"
    return ""
