"""`make bench-loops`: speed and position loops against what they say of themselves, as tables.

First: machines drawn at random are identified, tuned and tested on a simulated drive with friction,
cogging, saturation, dead time and noise; what was predicted is held against what was measured.
Second: the area of the speed's dip after a step of load against the least that a long search finds
with two filters of the torque, on the true plant, under the same margins and with the resonance up
to a tenth off. Third: what one position of a dragged handle costs.
"""

import math
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import differential_evolution
from tests.model_link import Hasty, ModelLink

from benchmarks.machines import random_axis, sensed, the_axis
from oarlock.control.compiled import warm
from oarlock.control.current import CurrentLoop, Plant, design_current, pi_for
from oarlock.control.position_design import design_position
from oarlock.control.shaft import Shaft
from oarlock.control.speed_design import Turning, plant_of, usual_speed
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.control.speed_survey import Wanted
from oarlock.control.speed_ways import proposed_notches, slower, stiffest_with
from oarlock.drive.runner import play
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_ramp import SpeedRamp, usual_ramp
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load
from oarlock.experiments.loops.speed_test import usual_step as step_of
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.records import Finding, Reading
from oarlock.records.quantity import KEYS
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views import position as position_view
from oarlock.views import speed as speed_view
from oarlock.views.screen import MoveSettings, SpeedSettings
from oarlock.views.speed_asked import aimed, dragged, new_notch, with_filters
from oarlock.views.speed_ways import question

Array = NDArray[np.float64]
# figure → (how far prediction and measurement may lie apart, unit)
_ROUNDS = 5  # of drags: the machine is shared, what comes between only adds
BARS = {
    "crossover": (5.0, "%"), "margin": (3.0, "°"), "rise": (10.0, "%"),
    "overshoot": (2.0, "points"),
    "dip": (10.0, "%"), "lag of a ramp": (10.0, "%"), "following error": (15.0, "% + 0.1°"),
}  # fmt: skip


def played(experiment: Experiment, axis: Axis, plant: PlantParameters, seed: int) -> Reading:
    """Return what is read off an experiment on a simulated drive."""
    link = ModelLink(plant, seed=seed)
    settings = experiment.settings(axis)
    staged = getattr(experiment, "perform", None)
    if staged:
        record = staged(axis, link, Hasty(), lambda _f, _d: None)
        record = replace(record, settings={**settings, **record.settings})
    else:
        record = play(experiment.plan(axis), axis, link, settings=settings, cancel=Hasty())
    if record.ended != "done":
        raise InputError(record.ended, place=experiment.name)
    return read(record, axis)


def identified(
    axis: Axis, plant: PlantParameters, seed: int, *, strict: bool = False
) -> Axis:  # fmt: skip
    """Return the axis with all that Identify finds adopted; `strict`: the resonance has to hold."""
    for key in KEYS:
        finding = played(experiment_for(key, held=plant.brake > 0.0), axis, plant, seed)
        if strict and key == "resonance" and isinstance(finding, Finding) and not finding.holds:
            raise InputError(finding.said, place=key)
        if isinstance(finding, Finding) and finding.holds:
            for path, estimate in finding.estimates.items():
                axis = axis.adopting(path, estimate)
    return axis


def drawn(number: int) -> tuple[Axis, PlantParameters]:
    """Return a random axis, its shaft rigid or, every other one, twisting."""
    rng = np.random.default_rng(500 + number)
    axis, plant = random_axis(rng)
    plant = replace(plant, encoder_counts=16384, stribeck=0.1, stribeck_speed=2.0)
    axis = sensed(axis, plant)
    if number % 2:
        ratio, anti = float(rng.uniform(0.7, 4.0)), float(np.exp(rng.uniform(4.0, 5.3)))
        whole = plant.inertia
        motor = whole / (1.0 + ratio)
        load = whole - motor
        stiffness = (math.tau * anti) ** 2 * load
        resonance = math.sqrt(stiffness * (1.0 / motor + 1.0 / load))
        damping = 0.03 * resonance * motor * load / whole
        plant = replace(plant, inertia=motor, load_inertia=load, stiffness=stiffness,
                        shaft_damping=damping)  # fmt: skip
    return axis, plant


def tuned(axis: Axis) -> Axis:
    """Return the axis with all three loops designed as the program proposes them."""
    axis = axis.with_gains(design_current(axis).gains)
    asked = question(axis, SpeedSettings())
    if asked is not None:
        bare = plant_of(axis, turning=Turning(speed=asked.speed), filters=())
        way = proposed_notches(bare, Wanted(margin=asked.margin))
        axis = with_filters(axis, way.filters if way else (new_notch(axis),))
    axis = axis.with_loop_gains(KEY, speed_view.designed(axis, aimed("even"), usual_speed(axis)))
    return axis.with_loop_gains("position", design_position(axis).gains)


def compared(axis: Axis, plant: PlantParameters, seed: int) -> dict[str, float]:
    """Return how far each figure lies from its prediction, in the units of `BARS`."""
    speed = usual_speed(axis)
    torque, found = usual_load(axis), {}
    step = played(SpeedStep(speed=speed, amplitude=step_of(axis, speed)), axis, plant, seed)
    load = played(LoadStep(speed=speed, torque=torque), axis, plant, seed)
    sweep = played(SpeedSweep(speed=speed, torque=torque), axis, plant, seed)
    move = usual_move(axis)
    test = PositionMove(distance=move.distance, speed=move.speed, jerk_time=move.jerk_time,
                        acceleration=move.acceleration)  # fmt: skip
    moved = played(test, axis, plant, seed)
    ramp = usual_ramp(axis, speed)
    ramped = played(SpeedRamp(speed=speed, amplitude=ramp.change, jerk_time=ramp.jerk_time,
                              acceleration=ramp.acceleration), axis, plant, seed)  # fmt: skip
    assert isinstance(step, SpeedResult)
    assert isinstance(load, SpeedResult)
    assert isinstance(sweep, SweepResult)
    assert isinstance(moved, MoveResult)
    assert isinstance(ramped, RampResult)
    found["lag of a ramp"] = 100.0 * (ramped.measured.behind / ramped.expected.behind - 1.0)
    if step.step and step.step_predicted:
        found["rise"] = 100.0 * (step.step.rise / step.step_predicted.rise - 1.0)
        found["overshoot"] = 100.0 * (step.step.overshoot - step.step_predicted.overshoot)
    if load.load and load.load_predicted:
        found["dip"] = 100.0 * (load.load.dip / load.load_predicted.dip - 1.0)
    if sweep.found is not None:
        found["crossover"] = 100.0 * (sweep.found.crossover / sweep.expected.omega - 1.0)
        found["margin"] = math.degrees(sweep.found.phase_margin - sweep.expected.phase_margin)
    off = moved.measured.following - moved.expected.following
    spare = math.copysign(max(abs(off) - math.radians(0.1), 0.0), off)
    found["following error"] = 100.0 * spare / moved.expected.following
    return found


def predictions(axes: int) -> bool:
    """Print predicted against measured over random axes and the winch; return whether all held."""
    errors: dict[str, list[float]] = {name: [] for name in BARS}
    refused = []
    trials: list[tuple[str, Axis, PlantParameters]] = [("winch", the_axis(), draw("winch", 0))]
    trials += [(f"random {n}", *drawn(n)) for n in range(axes)]
    for n, (name, axis, plant) in enumerate(trials):
        try:
            for key, off in compared(tuned(identified(axis, plant, n)), plant, n).items():
                errors[key].append(off)
        except InputError as error:
            refused.append(f"{name}: {error}")
    print(f"{'figure':18}{'axes':>6}{'within':>9}{'of bar':>14}{'median':>9}{'worst':>9}")
    held = True
    for name, (bar, unit) in BARS.items():
        gathered = np.array(errors[name])
        if not gathered.size:
            continue
        share = float(np.mean(np.abs(gathered) <= bar))
        good = share >= 0.9
        held &= good
        print(f"{name:18}{gathered.size:6d}{100 * share:8.0f}%{bar:8g} {unit:8}"
              f"{np.median(np.abs(gathered)):7.2f}{gathered[np.argmax(np.abs(gathered))]:9.2f}"
              f"{'' if good else '  MISSED'}")  # fmt: skip
    for line in refused:
        print(f"  refused: {line}")
    return held


@dataclass(frozen=True)
class Case:
    """A plant whose shaft twists, drawn at random."""

    plant: SpeedPlant
    hertz: float
    ratio: float


def case(number: int) -> Case:
    """Return a plant with its resonance at 20 to 600 Hz and a ratio of inertias of 1 to 30."""
    rng = np.random.default_rng(900 + number)
    Ts = 62.5e-6
    hertz = float(np.exp(rng.uniform(math.log(20.0), math.log(600.0))))
    ratio = float(np.exp(rng.uniform(0.0, math.log(30.0))))
    whole = 7e-3
    motor = whole / (1.0 + ratio)
    load = whole - motor
    reduced = motor * load / whole
    stiffness = (math.tau * hertz) ** 2 * reduced
    damping = 2.0 * float(rng.uniform(0.01, 0.03)) * math.tau * hertz * reduced
    winding = Plant(R=0.9, L=15e-3, Ts=Ts)
    return Case(
        SpeedPlant(
            shaft=Shaft(motor=motor, load=load, stiffness=stiffness, damping=damping,
                        viscous=1e-3),
            current=CurrentLoop(winding, pi_for(winding, math.tau * 850.0)),
            torque_constant=0.96, back_emf=0.64, measuring=Measuring(divider=10, slope=20),
        ),
        hertz, ratio,
    )  # fmt: skip


def best_area(plant: SpeedPlant, wanted: Wanted, evaluations: int, seed: int) -> float:
    """Return the least area (rad for 1 A) that a long search with two filters finds."""
    at = plant.shaft.resonance

    def filters(x: Array) -> tuple[Filter, ...]:
        return tuple(
            Filter(path="torque", kind=FilterKind.NOTCH, frequency=math.exp(a) * at,
                   width=math.exp(b), depth=math.exp(c))
            for a, b, c in x.reshape(2, 3)
        )  # fmt: skip

    def area(x: Array) -> float:
        loop = stiffest_with(plant, filters(x), wanted)
        if loop is None:
            return 1e6
        return loop.dip_area

    bounds = [(-0.5, 1.2), (-1.5, 2.0), (-4.0, -0.05)] * 2
    found = differential_evolution(area, bounds, maxiter=max(evaluations // 60, 1), popsize=10,
                                   seed=seed, polish=False, tol=1e-6)  # fmt: skip
    return float(found.fun)


def areas(cases: int, evaluations: int) -> bool:
    """Print the area under load against the best that a long search finds; return whether held."""
    wanted = Wanted(margin=math.radians(45.0))
    ratios, times, worst = [], [], ("", 0.0)
    for n in range(cases):
        one = case(n)
        begun = time.perf_counter()
        found = proposed_notches(one.plant, wanted)
        plain = slower(one.plant, wanted)
        times.append(time.perf_counter() - begun)
        ours = min((w.load.IAE for w in (found, plain) if w is not None), default=math.inf)
        best = min(best_area(one.plant, wanted, evaluations, n), ours)
        ratios.append(ours / best)
        if ratios[-1] > worst[1]:
            worst = (f"{one.hertz:.0f} Hz, ratio {one.ratio:.1f}", ratios[-1])
    rows = (("area over the best, median", statistics.median(ratios), 1.10, "×"),
            (f"area over the best, worst ({worst[0]})", worst[1], 1.6, "×"),
            ("time to propose, median", statistics.median(times), 0.5, "s"))  # fmt: skip
    return _rows(rows)


def _rows(rows: tuple[tuple[str, float, float, str], ...]) -> bool:
    for name, value, bar, unit in rows:
        missed = "" if value <= bar else "  MISSED"
        print(f"{name:58}{value:9.3g}   ≤ {bar:g} {unit}{missed}")
    return all(value <= bar for _, value, bar, _ in rows)


def drags(positions: int) -> bool:
    """Print what one position of a dragged handle costs, analysis alone."""
    axis = the_axis()
    J = axis.machine.inertia
    assert J is not None
    axis = axis.with_gains(design_current(axis).gains)
    settings, speed = SpeedSettings(), usual_speed(axis)
    shown = speed_view.picture(axis, settings)
    axis = axis.with_loop_gains(KEY, shown.gains)

    def to(hertz: float) -> None:
        target = dragged(axis, hertz, shown)
        loops = axis.loops.with_target(KEY, target)
        moved = replace(axis, loops=loops.with_gains(KEY, speed_view.designed(axis, target, speed)))
        speed_view.picture(moved, settings)

    beside = axis.with_loop_gains("position", design_position(axis).gains)
    outer = position_view.picture(beside, MoveSettings())

    def outer_to(hertz: float) -> None:
        target = position_view.dragged(beside, hertz, outer)
        loops = beside.loops.with_target("position", target)
        gains = position_view.designed(beside, target)
        position_view.picture(replace(beside, loops=loops.with_gains("position", gains)),
                              MoveSettings())  # fmt: skip

    return _rows((
        ("speed loop, analysis of one drag position", _median_ms(to, 8.0, 40.0, positions), 0.5,
         "ms"),
        ("position loop, analysis of one drag position", _median_ms(outer_to, 2.0, 12.0, positions),
         0.5, "ms"),
    ))  # fmt: skip


def _median_ms(move: Callable[[float], None], low: float, high: float, positions: int) -> float:
    """Return the median over positions, of the round that was the least disturbed."""
    rounds = []
    for n in range(_ROUNDS):
        times = []
        for hertz in np.linspace(low, high * (1.0 - 1e-3 * n), positions).tolist():
            begun = time.perf_counter()
            move(hertz)
            times.append(time.perf_counter() - begun)
        rounds.append(statistics.median(times))
    return 1e3 * min(rounds)


def main(axes: int = 20, cases: int = 40, evaluations: int = 1500) -> int:
    """Run all three; return 0 where every bar holds."""
    warm()
    print("Predicted against measured, identified first")
    held = predictions(axes)
    print("\nArea of the dip under a step of load, resonance up to a tenth off")
    held &= areas(cases, evaluations)
    print("\nDragging")
    held &= drags(200)
    return 0 if held else 1


if __name__ == "__main__":
    sys.exit(main(*(int(word) for word in sys.argv[1:])))
