"""`make bench-coverage`: what the stated ± covers, on machines that do more than is assumed.

Random machines whose axes saturate one another, whose iron takes power, whose winding warms while
it is measured and whose bridge is late: none of which the estimators know. Errors are counted in
the uncertainty that is stated: of an honest one, the root of their mean square is about 1, and
about 95 of 100 lie within two of it.
"""

import math
import sys
from collections import Counter, defaultdict
from dataclasses import replace

import numpy as np
from tests.model_link import Hasty, ModelLink

from benchmarks.machines import random_axis, sensed
from oarlock.errors import InputError
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.machine import Axis
from oarlock.records import Finding
from oarlock.records.quantity import KEYS
from oarlock.session.perform import perform
from oarlock.simulate.layout import COPPER_HEAT
from oarlock.simulate.plant_parameters import PlantParameters

LEAST = 92.0  # per cent of the errors within ±2u
SMALLEST = 0.4  # of the errors counted in u, root mean square: below, u is larger than it need be


def machine(seed: int) -> tuple[Axis, PlantParameters]:
    """Return an axis as printed, and a plant with what no estimator assumes."""
    rng = np.random.default_rng(4000 + seed)
    axis, plant = random_axis(rng)
    m, top = axis.machine, axis.machine.max_speed.value
    rated, torque = m.rated_current.value, m.torque_constant * m.rated_current.value
    induced = 1.5 * (plant.pole_pairs * plant.psi) ** 2 * top
    motor = float(rng.uniform(0.3, 0.6)) * plant.inertia
    load = plant.inertia - motor
    anti = math.tau * float(rng.uniform(60.0, 150.0))
    stiffness = anti**2 * load
    reduced = motor * load / plant.inertia
    damping = 2.0 * float(rng.uniform(0.01, 0.03)) * math.sqrt(stiffness * reduced)
    scale = sum(plant.gains) / 3.0  # amperes as the drive has them: nothing else can be told
    a, b, c = (gain / scale for gain in plant.gains)
    return axis, replace(
        plant, gains=(a, b, c),
        across=float(rng.uniform(0.0, 0.02)) * plant.Lq / rated,
        iron=float(rng.uniform(0.002, 0.03)) * torque / induced,
        # Up to 12 K in a minute at the rated current.
        heating=float(rng.uniform(2.0, 12.0)) / (60.0 * 1.5 * plant.R * rated**2),
        cooling=1.0 / 300.0,
        flux_heat=2e-4,  # the magnet warms much less than the winding
        output_late=float(rng.uniform(0.0, 0.15)),
        stribeck=0.1, stribeck_speed=0.01 * top,
        inertia=motor, load_inertia=load, stiffness=stiffness, shaft_damping=damping,
    )  # fmt: skip


def truth(plant: PlantParameters, rated: float, heat: float) -> dict[str, float]:
    """Return what is really there by path, the winding `heat` K warmer than at the start.

    The drag of the iron is friction to whoever turns the shaft.
    """
    drag = 1.5 * (plant.pole_pairs * plant.psi) ** 2 * plant.iron
    return {
        "machine.R": plant.R * (1.0 + COPPER_HEAT * heat),
        "machine.Ld": plant.incremental_Ld(0.3 * rated),
        "machine.Lq": plant.Lq,
        "machine.psi": plant.psi * (1.0 - plant.flux_heat * heat),
        "machine.inertia": plant.total_inertia,
        "mechanics.viscous": plant.viscous + drag,
        "mechanics.coulomb": plant.coulomb,
        "mechanics.anti_resonance": plant.anti_resonance,
        "mechanics.resonance": plant.resonance,
        "mechanics.shaft_damping": plant.shaft_damping,
        "inverter.delay": (1.5 + plant.output_late) * plant.Ts,
    }


def identified(
    seed: int, errors: dict[str, list[tuple[float, float]]], refused: Counter[str]
) -> None:
    """Identify one machine as the window does; add (error over truth, u over truth) by path."""
    printed, plant = machine(seed)
    axis = sensed(printed, replace(plant, brake=1e3))
    link = ModelLink(replace(plant, brake=1e3 * plant.coulomb), seed=seed)
    rated = printed.machine.rated_current.value
    for quantity in KEYS:
        before = link.model.heat
        try:
            reading = perform(experiment_for(quantity, held=True), axis, link,
                              lambda _f, _d: None, Hasty()).reading  # fmt: skip
        except InputError as error:
            refused[f"{quantity}: {error.cause}"[:90]] += 1
            continue
        if not isinstance(reading, Finding) or not reading.holds:
            why = reading.failed[0].sentence if isinstance(reading, Finding) else "no reading"
            refused[f"{quantity}: {why}"[:90]] += 1
            continue
        true = truth(plant, rated, 0.5 * (before + link.model.heat))
        for path, found in reading.estimates.items():
            if path in true:
                of = true[path]
                errors[path].append(((found.value - of) / of, (found.std or 0.0) / of))
            axis = axis.adopting(path, found)


def main(machines: int = 60) -> int:
    """Print what ±2u covers of each quantity; return 1 where it is too little or too much."""
    errors: dict[str, list[tuple[float, float]]] = defaultdict(list)
    refused: Counter[str] = Counter()
    for seed in range(machines):
        identified(seed, errors, refused)
    print(f"{'':28}{'n':>5}{'bias %':>9}{'rms %':>9}{'u %':>9}{'in u, rms':>11}{'in ±2u':>8}")
    missed = 0
    for path, rows in errors.items():
        error, u = (100.0 * np.array(column) for column in zip(*rows, strict=True))
        inside = 100.0 * float(np.mean(np.abs(error) <= 2.0 * u))
        size = float(np.sqrt(np.mean((error / u) ** 2)))
        good = inside >= LEAST and size >= SMALLEST
        missed += not good
        root = np.sqrt(np.mean(error**2))
        print(f"{path:28}{len(rows):5d}{np.mean(error):9.3f}{root:9.3f}{np.median(u):9.3f}"
              f"{size:11.2f}{inside:7.0f} %{'' if good else '  MISSED'}")  # fmt: skip
    for why, many in refused.most_common(12):
        print(f"      {many} × {why}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 60))
