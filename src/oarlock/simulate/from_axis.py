"""The plant as an axis describes it: what is believed, for rehearsing before anything moves."""

from oarlock.machine import Axis, SensorKind
from oarlock.simulate.plant_parameters import PlantParameters


def plant_of(axis: Axis, *, inertia: float, coulomb: float = 0.0, load_square: float = 0.0,
             R_error: float = 0.0) -> PlantParameters:  # fmt: skip
    """Return a plant with the axis's best numbers, an ideal sensor and the given mechanics.

    Parameters
    ----------
    inertia : kg m2
    coulomb : N·m
    load_square : N·m s²/rad²
    R_error : ratio by which the real resistance is above the believed one

    """
    m, inv = axis.machine, axis.inverter
    rated = m.rated_current.value
    return PlantParameters(
        R=m.R.value * (1.0 + R_error),
        Ld=m.Ld.value,
        Lq=m.Lq.value,
        Lq_saturated=m.Lq.value,
        i_saturation=rated,
        psi=m.psi.value,
        pole_pairs=round(m.pole_pairs.value),
        inertia=inertia,
        viscous=0.02 * m.torque_constant * rated / m.max_speed.value,
        coulomb=coulomb,
        brake=0.0,
        dead_voltage=inv.dead_voltage.value,
        dead_knee=0.03 * rated,
        bus=inv.bus_voltage.value,
        bus_ripple=0.0,
        full_scale=inv.current_full_scale.value,
        adc_bits=round(inv.adc_bits.value),
        noise=2.0 * inv.current_count,
        offsets=(0.0, 0.0, 0.0),
        gains=(1.0, 1.0, 1.0),
        encoder_counts=2**20,
        Ts=inv.Ts,
        load_square=load_square,
        sensor=SensorKind.ENCODER.value,
    )
