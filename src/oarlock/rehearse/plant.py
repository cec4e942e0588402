"""The machine as an axis describes it: its best values, its shaft, and a sensor without faults."""

import math
from dataclasses import replace

from oarlock.control.shaft import shaft_of
from oarlock.control.speed_design import angle_step
from oarlock.machine import Axis, Parameter, SensorKind
from oarlock.machine.sensor import Sensor
from oarlock.machine.unknown import refuse_unknown
from oarlock.quantities import Estimate, Origin
from oarlock.simulate.plant_parameters import PlantParameters

_NEEDED = ("machine.R", "machine.Ld", "machine.Lq", "machine.psi", "machine.pole_pairs",
           "inverter.bus_voltage", "inverter.control_frequency")  # fmt: skip
FINEST = 2**20  # counts a turn
# rad, electrical, where each state of three halls begins whose edges lie evenly.
_STARTS = {state: n * math.tau / 6.0 for n, state in enumerate((5, 1, 3, 2, 6, 4))}


def counts_of(axis: Axis) -> int:
    """Return the counts a turn that stand for the axis's sensor: steps as fine as its own."""
    step = angle_step(axis)
    return min(max(round(math.tau / step), 24), FINEST) if step > 0.0 else FINEST


def believed_plant(axis: Axis) -> PlantParameters:
    """Return the plant by the axis's best estimates.

    The sensor is an encoder whose counts are as fine as the axis's own sensor, or three halls whose
    edges lie evenly, without faults;
    saturation beyond what Ld and Lq say, cogging and temperature are left out.

    Raises
    ------
    InputError : a value that it rests on is not known

    """
    refuse_unknown(axis, _NEEDED, "rehearsal")
    m, inv, mech = axis.machine, axis.inverter, axis.mechanics
    shaft = shaft_of(axis)
    coulomb = max(mech.coulomb.value, 0.0)
    breakaway = mech.breakaway.value
    return PlantParameters(
        R=m.R.value, Ld=m.Ld.value, Lq=m.Lq.value, Lq_saturated=m.Lq.value,
        i_saturation=m.peak_current.value, psi=m.psi.value, pole_pairs=round(m.pole_pairs.value),
        inertia=shaft.motor, load_inertia=shaft.load, stiffness=shaft.stiffness,
        shaft_damping=shaft.damping, viscous=max(mech.viscous.value, 0.0), coulomb=coulomb,
        stiction=max(breakaway / coulomb, 1.0) if coulomb else 1.0,
        load=mech.load_torque.value, load_square=max(mech.load_square.value, 0.0), brake=0.0,
        dead_voltage=inv.dead_voltage.value, dead_knee=0.03 * m.rated_current.value,
        bus=inv.bus_voltage.value, bus_ripple=0.0, full_scale=inv.current_full_scale.value,
        bus_compensation=inv.bus_compensation,
        adc_bits=round(inv.adc_bits.value), noise=inv.current_count, offsets=(0.0, 0.0, 0.0),
        gains=(1.0, 1.0, 1.0), encoder_counts=counts_of(axis), Ts=inv.Ts,
        sensor=(SensorKind.HALL if axis.sensor.kind is SensorKind.HALL else
                SensorKind.ENCODER).value,
    )  # fmt: skip


def ideal_sensing(axis: Axis, plant: PlantParameters) -> Axis:
    """Return the axis with the sensor of a plant as `believed_plant` makes it, all of it known."""

    def sure(value: float, unit: str = "1") -> Parameter:
        told = Estimate(value=value, std=0.0, unit=unit, origin=Origin.DERIVED, source="ideal")
        return Parameter(printed=told, adopted=told)

    if plant.sensor == SensorKind.HALL:
        sensor = Sensor(kind=SensorKind.HALL, side=sure(1.0), zero=sure(0.0, "rad"))
        starts = {f"hall_{n}": sure(at, "rad") for n, at in _STARTS.items()}
        sensor = replace(sensor, **starts)  # type: ignore[arg-type]
    else:
        sensor = Sensor(kind=SensorKind.ENCODER, counts=sure(float(plant.encoder_counts)),
                        side=sure(1.0), zero=sure(0.0, "rad"))  # fmt: skip
    none, one = sure(0.0, "A"), sure(1.0)
    inverter = replace(axis.inverter, offset_a=none, offset_b=none, offset_c=none, gain_a=one,
                       gain_b=one)  # fmt: skip
    return replace(axis, sensor=sensor, inverter=inverter)
