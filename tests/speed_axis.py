"""The winch with everything known that its speed loop rests on, as a practice drive truly is."""

import functools
import math

from benchmarks.machines import the_axis

from oarlock.control.current import design_current
from oarlock.control.speed_design import MARGIN, usual_speed
from oarlock.machine import Axis
from oarlock.machine.parameter import Parameter
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.speed import designed
from oarlock.views.speed_asked import aimed, new_notch, with_filters

__all__ = ["MARGIN", "known_winch", "tuned_winch"]


@functools.cache
def known_winch(plant: PlantParameters | None = None) -> Axis:
    """Return the winch, its machine and shaft known, its current loop tuned."""
    plant = plant or draw("winch", 0)
    axis = the_axis()
    values = {
        "machine.R": (plant.R, "ohm"), "machine.Ld": (plant.Ld, "H"), "machine.Lq": (plant.Lq, "H"),
        "machine.psi": (plant.psi, "Wb"),
        "machine.inertia": (plant.inertia + plant.load_inertia, "kg m2"),
        "mechanics.viscous": (plant.viscous, "N m s/rad"),
    }  # fmt: skip
    if plant.stiffness:
        sides = 1.0 / plant.inertia + 1.0 / plant.load_inertia
        values |= {
            "mechanics.anti_resonance": (math.sqrt(plant.stiffness / plant.load_inertia), "rad/s"),
            "mechanics.resonance": (math.sqrt(plant.stiffness * sides), "rad/s"),
            "mechanics.shaft_damping": (plant.shaft_damping, "N m s/rad"),
        }
    for path, (value, unit) in values.items():
        found = Estimate(value=value, std=2e-3 * value, unit=unit, origin=Origin.MEASURED)
        old = axis.optional(path)
        axis = axis.with_parameter(
            path, Parameter(printed=old.printed if old else found, adopted=found)
        )
    return axis.with_gains(design_current(axis).gains)


@functools.cache
def tuned_winch(plant: PlantParameters | None = None, aim: str = "even") -> Axis:
    """Return the winch with a notch and the speed loop's gains."""
    axis = known_winch(plant)
    axis = with_filters(axis, (new_notch(axis),))
    return axis.with_loop_gains(KEY, designed(axis, aimed(aim), usual_speed(axis)))
