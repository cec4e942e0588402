"""The bridge of a rehearsal: averaged over each period, or seen edge by edge."""

import math
from dataclasses import replace

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

_MOST_HALVES = 8
_WHOLE = 1e-3  # of a half period of the carrier, by which a control period may miss a whole number


def dead_time_of(axis: Axis) -> float:
    """Return the dead time (s) that costs what was measured, or what is printed."""
    inverter = axis.inverter
    bus, pwm = inverter.bus_voltage.value, inverter.pwm_frequency.value
    lost = inverter.dead_voltage.value
    return lost / (bus * pwm) if lost > 0.0 else max(inverter.dead_time.value, 0.0)


def bridged(plant: PlantParameters, axis: Axis, modulation: Modulation) -> PlantParameters:
    """Return the plant under a bridge so modulated.

    Raises
    ------
    InputError : control and carrier do not fit, or dead time leaves no voltage

    """
    if modulation is Modulation.AVERAGED:
        return replace(plant, modulation=modulation)
    control, pwm = axis.inverter.control_frequency.value, axis.inverter.pwm_frequency.value
    halves, dead = 2.0 * pwm / control, dead_time_of(axis)
    whole = round(halves)
    if not math.isfinite(halves) or not 1 <= whole <= _MOST_HALVES or abs(halves - whole) > _WHOLE:
        raise InputError(
            f"{control:g} Hz of control and {pwm:g} Hz of PWM: no whole number of half periods",
            place=axis.name, remedy="A switching bridge needs control at the carrier's ends, at "
            "one of them, or every few")  # fmt: skip
    if dead >= 0.5 / pwm:
        raise InputError(f"a dead time of {1e6 * dead:.3g} µs at {pwm:g} Hz of PWM",
                         place=axis.name, remedy="Correct dead time or dead voltage")  # fmt: skip
    return replace(plant, modulation=modulation, halves=whole, dead_time=dead)
