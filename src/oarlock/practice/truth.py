"""What the practice drive really is: drawn off the datasheet by a seed, told to nobody."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate.drive_model import PlantParameters

# The sonar winch as its maker meant it; star phase, peak, SI.
_WINCH = PlantParameters(
    R=0.82, Ld=8.0e-3, Lq=17.0e-3, Lq_saturated=11.5e-3, i_saturation=25.0, psi=0.160,
    pole_pairs=4, inertia=6.9e-3, viscous=1.5e-3, coulomb=0.25, brake=45.0,
    dead_voltage=4.6, dead_knee=0.35, bus=320.0, bus_ripple=0.002, full_scale=40.0, adc_bits=12,
    noise=0.039, offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=4096, Ts=62.5e-6,
)  # fmt: skip
AXES = {"winch": _WINCH}
COPPER = 0.00393  # 1/K
WINDING = 34.0  # °C


def draw(axis: str, seed: int) -> PlantParameters:
    """Return the drive of this seed: cable, tolerances, temperature and sensors of its own."""
    rng, meant = np.random.default_rng(20_000 + seed), AXES[axis]

    def spread(ratio: float, half_width: float) -> float:
        return float(rng.uniform(ratio - half_width, ratio + half_width))

    gains = 1.0 + rng.normal(0.0, 0.006, 3)
    gains += 1.0 - gains.mean()
    return replace(
        meant,
        # Cold copper below its tolerance, warmed to 34 °C, with cable: +5 % in all.
        R=meant.R * spread(0.995, 0.004) * (1.0 + COPPER * (WINDING - 20.0)),
        Ld=meant.Ld * spread(1.05, 0.01),
        Lq=meant.Lq * spread(0.92, 0.01),
        Lq_saturated=meant.Lq_saturated * spread(0.92, 0.02),
        i_saturation=spread(25.0, 3.0),
        psi=meant.psi * spread(0.97, 0.005),
        dead_voltage=spread(4.6, 0.3),
        dead_knee=spread(0.35, 0.1),
        offsets=_three(rng.normal(0.0, 0.02, 3)),
        gains=_three(gains),
        theta=float(rng.uniform(0.0, 2.0 * np.pi)),
    )


def _three(values: NDArray[np.float64]) -> tuple[float, float, float]:
    a, b, c = (float(value) for value in values)
    return a, b, c
