"""`make bench-sensing`: what sensing finds on random machines against its bars, as one table.

Each figure is the worst of all drives unless it says otherwise; a drive that is refused with a
reason counts as refused, never as right.
"""

import math
import sys
from collections import Counter
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from tests.experiments.sensing.test_found import true_starts
from tests.model_link import Hasty, ModelLink

from benchmarks.machines import random_axis, sensed
from oarlock.drive.runner import play
from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.experiments.reading import read
from oarlock.experiments.sensing.halls import hall_table
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.machine.sensor import ILLEGAL
from oarlock.records import Finding, Record
from oarlock.simulate.plant_parameters import PlantParameters


def read_finding(record: Record, axis: Axis) -> Finding:
    found = read(record, axis)
    assert isinstance(found, Finding)
    return found


@dataclass
class Figure:
    """Errors over many drives, with the uncertainty that each stated."""

    name: str
    bar: float
    unit: str
    errors: list[float] = field(default_factory=list)
    within: list[bool] = field(default_factory=list)
    refused: Counter[str] = field(default_factory=Counter)

    def add(self, error: float, std: float | None) -> None:
        self.errors.append(abs(error))
        if std is not None:
            self.within.append(abs(error) <= 2.0 * std)

    @property
    def holds(self) -> bool:
        covered = np.mean(self.within) >= 0.9 if self.within else True
        return bool(self.errors) and max(self.errors) <= self.bar and bool(covered)

    def line(self) -> str:
        worst = max(self.errors, default=math.nan)
        covered = f"{100 * np.mean(self.within):.0f} %" if self.within else "–"
        refused = sum(self.refused.values())
        verdict = "" if self.holds else "  MISSED"
        text = f"{self.name:46}{len(self.errors):5d}{worst:10.3f}{self.bar:8g} {self.unit:5}"
        return f"{text}{covered:>7}{refused:9d}{verdict}"


class Drive:
    """One random axis with its drive."""

    def __init__(self, seed: int, **options: Any) -> None:
        faults = options.pop("faults", {})
        self.axis, plant = random_axis(np.random.default_rng(seed), **options)
        self.plant: PlantParameters = replace(plant, **faults)
        self.link = ModelLink(self.plant, seed=seed)

    def record(self, experiment: Any, axis: Axis | None = None) -> Record:
        axis = axis or self.axis
        settings = experiment.settings(axis)
        return play(experiment.plan(axis), axis, self.link, settings=settings, cancel=Hasty())

    def find(self, experiment: Any, figure: Figure | None = None) -> Finding | None:
        try:
            finding = read_finding(self.record(experiment), self.axis)
        except InputError as error:
            if figure is not None:
                figure.refused[error.cause] += 1
            return None
        if finding.holds:
            for path, estimate in finding.estimates.items():
                parameter = replace(self.axis.parameter(path), adopted=estimate)
                self.axis = self.axis.with_parameter(path, parameter)
            return finding
        if figure is not None:
            figure.refused[finding.failed[0].sentence] += 1
        return None


def currents(drives: int) -> list[Figure]:
    offset = Figure("offset of a current sensor", 0.1, "LSB")
    gain = Figure("gain mismatch", 0.2, "%")
    for seed in range(drives):
        drive = Drive(seed)
        rest = drive.find(CurrentsAtRest(), offset)
        if rest is None:
            continue
        count = drive.axis.inverter.current_count
        for phase, true in zip("abc", drive.plant.offsets, strict=True):
            found = rest.estimates[f"inverter.offset_{phase}"]
            offset.add((found.value - true) / count, (found.std or 0.0) / count)
        pulses = drive.find(StandingPulses(), gain)
        if pulses is None:
            continue
        mean = float(np.mean(drive.plant.gains))
        for phase, true in zip("ab", drive.plant.gains, strict=False):
            found = pulses.estimates[f"inverter.gain_{phase}"]
            gain.add(100 * (found.value - true / mean), 100 * (found.std or 0.0))
    return [offset, gain]


def zeros(drives: int) -> list[Figure]:
    """Zero by the forced turn: encoder whose counts are fine, resolver with its errors."""
    figures = []
    for sensor, bar in (("encoder", 0.1), ("resolver", 0.5)):
        figure = Figure(f"zero, forced turn, {sensor}", bar, "°")
        for seed in range(drives):
            drive = Drive(1000 + seed, sensor=sensor, faults={"encoder_counts": 2**17}
                          if sensor == "encoder" else {})  # fmt: skip
            if sensor == "encoder":
                counts = replace(drive.axis.sensor.counts.printed, value=2.0**17)
                drive.axis = drive.axis.with_parameter(
                    "sensor.counts", replace(drive.axis.sensor.counts, printed=counts)
                )
            for experiment in (CurrentsAtRest(), TurnByHand(), StandingPulses()):
                drive.find(experiment, figure)
            turn = drive.find(ForcedTurn(), figure)
            if turn is not None:
                zero = turn.estimates["sensor.zero"]
                error = wrap(zero.value - drive.plant.zero)
                figure.add(math.degrees(error), math.degrees(zero.std or 0.0))
        figures.append(figure)
    return figures


def searches(drives: int) -> list[Figure]:
    figure = Figure("zero, bounded search, 30 % load", 2.0, "°")
    travel = Figure("  how far the shaft went", 15.0, "°")
    wrong = Figure("  direction wrong", 0.0, "")
    for seed in range(drives):
        drive = Drive(2000 + seed)
        m = drive.axis.machine
        load = 0.3 * m.torque_constant * m.rated_current.value * (1.0 if seed % 2 else -1.0)
        drive.plant = replace(drive.plant, load=load, brake=20.0 * abs(load), sensor_side=1.0)
        drive.link = ModelLink(drive.plant, seed=seed)
        drive.find(CurrentsAtRest())
        record = BoundedSearch().perform(drive.axis, drive.link, Hasty())
        finding = read_finding(record, drive.axis)
        far = float(np.max(np.abs(record["theta_m_after"] - record["theta_m"][0])))
        travel.add(math.degrees(far), None)
        if not finding.holds:
            figure.refused[finding.failed[0].sentence] += 1
            continue
        zero = finding.estimates["sensor.zero"]
        wrong.add(float(finding.estimates["sensor.side"].value != drive.plant.sensor_side), None)
        error = wrap(zero.value - drive.plant.zero)
        figure.add(math.degrees(error), math.degrees(zero.std or 0.0))
    return [figure, travel, wrong]


def injections(drives: int) -> list[Figure]:
    figure = Figure("zero, injection at standstill, Lq/Ld ≥ 1.5", 3.0, "°")
    polarity = Figure("  polarity wrong", 0.0, "")
    for seed in range(drives):
        drive = Drive(3000 + seed, least_saliency=1.5)
        drive.axis = sensed(drive.axis, drive.plant)
        pulses = read_finding(drive.record(StandingPulses()), drive.axis)
        if "sensor.zero" not in pulses.extra:
            figure.refused[pulses.remark] += 1
            continue
        zero = pulses.extra["sensor.zero"]
        error = wrap(zero.value - drive.plant.zero)
        flipped = abs(error) > 0.5 * math.pi
        polarity.add(float(flipped), None)
        figure.add(math.degrees(wrap(error + math.pi) if flipped else error),
                   math.degrees(zero.std or 0.0))  # fmt: skip
    return [figure, polarity]


def halls(drives: int) -> list[Figure]:
    forced = Figure("hall edges, forced", 2.0, "°")
    fine = Figure("hall edges, against an encoder", 0.3, "°")
    for seed in range(drives):
        drive = Drive(4000 + seed, sensor="hall")
        for experiment in (CurrentsAtRest(), TurnByHand(), StandingPulses()):
            drive.find(experiment, forced)
        turn = drive.find(ForcedTurn(), forced)
        truth = true_starts(drive.plant)
        if turn is not None:
            for state, true in enumerate(truth):
                found = turn.estimates[f"sensor.hall_{state}"]
                if true > ILLEGAL:
                    forced.add(math.degrees(wrap(found.value - true)),
                               math.degrees(found.std or 0.0))  # fmt: skip
        both = Drive(4000 + seed, sensor="hall", faults={"sensor": "encoder", "hysteresis": 0.0,
                                                         "encoder_counts": 2**17})  # fmt: skip
        axis = sensed(both.axis, both.plant)
        record = both.record(ForcedTurn(), axis)
        angle = both.plant.pole_pairs * record["theta_m"] - axis.sensor.zero.value
        way = np.where(np.gradient(np.unwrap(record["theta_e"])) >= 0.0, 1.0, -1.0)
        table = hall_table(record["hall"], angle, way)
        if table is None:
            fine.refused["no table"] += 1
            continue
        truth = true_starts(both.plant)
        for state, true in enumerate(truth):
            if true > ILLEGAL:
                fine.add(math.degrees(wrap(table.starts[state] - true)), None)
    return [forced, fine]


def thousand(drives: int) -> list[Figure]:
    wrong = Figure("pole pairs or direction wrong", 0.0, "")
    for seed in range(drives):
        drive = Drive(10_000 + seed)
        rng = np.random.default_rng(seed)
        entered = drive.plant.pole_pairs
        if rng.uniform() < 0.3:  # some datasheets were misread
            entered = int(rng.choice([2 * entered, max(entered // 2, 1), entered + 1]))
        old = drive.axis.machine.pole_pairs
        printed = replace(old, printed=replace(old.printed, value=float(entered)))
        drive.axis = drive.axis.with_parameter("machine.pole_pairs", printed)
        drive.find(CurrentsAtRest())
        turn = drive.find(ForcedTurn(), wrong)
        if turn is None:
            continue
        right = entered == drive.plant.pole_pairs
        right &= turn.estimates["sensor.side"].value == drive.plant.sensor_side
        wrong.add(float(not right), None)
    return [wrong]


def main(drives: int = 30, many: int = 1000) -> int:
    """Measure everything; return 1 where a bar was missed."""
    print(f"{'':46}{'n':>5}{'worst':>10}{'bar':>8} {'':5}{'in ±2u':>7}{'refused':>9}")
    missed = 0
    for measure, count in (
        (currents, drives), (zeros, drives), (searches, drives), (injections, drives),
        (halls, drives), (thousand, many),
    ):  # fmt: skip
        for figure in measure(count):
            missed += not figure.holds
            print(figure.line(), flush=True)
            for reason, times in figure.refused.most_common(4):
                print(f"      {times} × {reason}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(*(int(word) for word in sys.argv[1:3])))
