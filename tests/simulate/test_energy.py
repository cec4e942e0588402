"""What flows into a winding is lost in it, stored in it, or turns the shaft; nothing else."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.practice.truth import draw
from oarlock.simulate import plant as kernel
from oarlock.simulate.plant_parameters import PlantParameters

_H, _STEPS = 5e-6, 400
_STEP = kernel.step.py_func  # type: ignore[attr-defined]


def _machine(seed: int) -> tuple[PlantParameters, float, float]:
    """Return a random machine of 5 uH to 50 mH, its speed (rad/s, electrical) and current (A)."""
    rng = np.random.default_rng(seed)
    L = 5e-6 * 10.0 ** rng.uniform(0.0, 4.0)
    saliency, slow = rng.uniform(1.0, 2.5), 10.0 ** rng.uniform(-3.3, -1.5)  # s
    amperes = 0.04 / math.sqrt(L)  # about as large machines are that have so much inductance
    psi = L * amperes * rng.uniform(1.0, 6.0)
    plant = replace(
        draw("winch", 0), R=L / slow, Ld=L, Lq=saliency * L, Lq_saturated=saliency * L,
        Ld_bend=0.0, across=0.0, iron=0.0, psi=psi, dead_voltage=0.0,
    )  # fmt: skip
    return plant, float(rng.uniform(-3e3, 3e3)), float(amperes)


@pytest.mark.parametrize("seed", range(20))
def test_energy_balances_to_a_millionth(seed: int) -> None:
    """Voltages and losses by Simpson's rule over each step, which the middle of it needs too."""
    plant, w, amperes = _machine(seed)
    packed, rng = plant.packed(), np.random.default_rng(1000 + seed)
    i_d, i_q, angle = 0.3 * amperes, amperes, float(rng.uniform(0.0, math.tau))
    emf = abs(w) * plant.psi + plant.R * amperes
    stored = _stored(plant, i_d, i_q)
    into = lost = turned = passed = 0.0
    for n in range(_STEPS):
        if n % 25 == 0:  # another voltage, held in the stator, as an inverter's
            va, vb = (emf * rng.uniform(-1.0, 1.0, 2)).tolist()
        at = [(i_d, i_q, angle)]
        for h in (0.5 * _H, _H):
            c, s = math.cos(angle), math.sin(angle)
            d, q, *_ = _STEP(packed, plant.R, plant.psi, i_d, i_q, w, c, s, va, vb, h)
            at.append((d, q, angle + w * h))
        for weight, (d, q, theta) in zip((1.0, 4.0, 1.0), at, strict=True):
            share = 1.5 * weight * _H / 6.0
            vd = va * math.cos(theta) + vb * math.sin(theta)
            vq = vb * math.cos(theta) - va * math.sin(theta)
            into += share * (vd * d + vq * q)
            passed += share * abs(vd * d + vq * q)
            lost += share * plant.R * (d * d + q * q)
            turned += share * w * (plant.psi * q + (plant.Ld - plant.Lq) * d * q)
        i_d, i_q, angle = at[-1]
    left = into - lost - turned - (_stored(plant, i_d, i_q) - stored)
    assert abs(left) < 1e-6 * passed


def _stored(plant: PlantParameters, i_d: float, i_q: float) -> float:
    return 0.75 * (plant.Ld * i_d**2 + plant.Lq * i_q**2)
