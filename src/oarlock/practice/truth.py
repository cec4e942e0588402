"""What the practice drive really is: drawn off the datasheet by a seed, told to nobody."""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate.plant_parameters import PlantParameters

# The sonar winch as its maker meant it; star phase, peak, SI.
_WINCH = PlantParameters(
    R=0.82, Ld=8.0e-3, Lq=17.0e-3, Lq_saturated=11.5e-3, i_saturation=25.0, psi=0.160,
    pole_pairs=4, inertia=2.1e-3, viscous=1.5e-3, coulomb=0.25, brake=45.0,
    dead_voltage=4.6, dead_knee=0.35, bus=320.0, bus_ripple=0.002, full_scale=40.0, adc_bits=12,
    noise=0.039, offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=4096, Ts=62.5e-6,
    Ld_bend=0.12, i_bend=16.0, stiction=1.15, cogging=0.06, cogging_order=24, hand=True,
    load_inertia=4.8e-3, stiffness=2594.0, shaft_damping=0.058,
    sensor="resolver", sensor_pairs=2, sensor_noise=6e-4,
)  # fmt: skip
# The thruster: outer rotor, halls, propeller on the shaft, no brake.
_THRUSTER = PlantParameters(
    R=0.036, Ld=34.0e-6, Lq=41.0e-6, Lq_saturated=33.0e-6, i_saturation=60.0, psi=7.4e-3,
    pole_pairs=7, inertia=1.1e-3, viscous=2.5e-4, coulomb=0.030, brake=0.0,
    dead_voltage=0.45, dead_knee=0.6, bus=48.0, bus_ripple=0.003, full_scale=80.0, adc_bits=12,
    noise=0.078, offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=4096, Ts=50e-6,
    Ld_bend=0.10, i_bend=40.0, stiction=1.2, cogging=0.012, cogging_order=42, hand=True,
    load_square=2.2e-5, sensor="hall",
)  # fmt: skip
AXES = {"winch": _WINCH, "thruster": _THRUSTER}
COPPER = 0.00393  # 1/K
WINDING = 34.0  # °C


def draw(axis: str, seed: int) -> PlantParameters:
    """Return the drive of this seed: cable, tolerances, temperature and sensors of its own."""
    rng, meant = np.random.default_rng(20_000 + seed), AXES[axis]

    def spread(ratio: float, half_width: float) -> float:
        return float(rng.uniform(ratio - half_width, ratio + half_width))

    gains = 1.0 + rng.normal(0.0, 0.006, 3)
    gains += 1.0 - gains.mean()
    made = replace(
        meant,
        # Cold copper below its tolerance, warmed to 34 °C, with cable: +5 % in all.
        R=meant.R * spread(0.995, 0.004) * (1.0 + COPPER * (WINDING - 20.0)),
        Ld=meant.Ld * spread(1.05, 0.01),
        Lq=meant.Lq * spread(0.92, 0.01),
        Lq_saturated=meant.Lq_saturated * spread(0.92, 0.02),
        i_saturation=meant.i_saturation * spread(1.0, 0.12),
        psi=meant.psi * spread(0.97, 0.005),
        dead_voltage=meant.dead_voltage * spread(1.0, 0.06),
        dead_knee=meant.dead_knee * spread(1.0, 0.28),
        offsets=_three(rng.normal(0.0, 0.02, 3)),
        gains=_three(gains),
        theta=float(rng.uniform(0.0, 2.0 * np.pi)),
    )
    made = _with_sensing(made, rng)
    if not made.stiffness:
        return made
    return replace(
        made,
        inertia=made.inertia * spread(1.0, 0.02),
        load_inertia=made.load_inertia * spread(1.0, 0.04),
        stiffness=made.stiffness * spread(1.0, 0.05),
        shaft_damping=made.shaft_damping * spread(1.0, 0.2),
        viscous=made.viscous * spread(1.0, 0.2),
        coulomb=made.coulomb * spread(1.0, 0.15),
    )


def _with_sensing(plant: PlantParameters, rng: np.random.Generator) -> PlantParameters:
    """Return the drive with current offsets and a position sensor of its own."""
    count = 2.0 * plant.full_scale / 2.0**plant.adc_bits
    degree = math.pi / 180.0
    plant = replace(
        plant,
        offsets=_three(rng.normal(0.0, 4.0 * count, 3)),
        sensor_zero=float(rng.uniform(0.0, math.tau)),
        runout=float(rng.uniform(0.0, 0.06 * degree)),
        runout_phase=float(rng.uniform(0.0, math.tau)),
    )
    if plant.sensor == "resolver":
        return replace(
            plant,
            sine_gain=0.8 * float(rng.uniform(0.97, 0.99)),
            sine_offset=float(rng.uniform(-0.008, 0.008)),
            cosine_offset=float(rng.uniform(-0.008, 0.008)),
            skew=float(rng.uniform(-1.2, 1.2)) * degree,
        )
    edges = rng.normal(0.0, 2.0 * degree, 6)
    return replace(
        plant,
        sensor_side=float(rng.choice([-1.0, 1.0])),
        hall_edges=tuple(float(edge) for edge in edges),
        hall_spread=0.4 * degree,
        hysteresis=0.12 * degree,
    )


def _three(values: NDArray[np.float64]) -> tuple[float, float, float]:
    a, b, c = (float(value) for value in values)
    return a, b, c
