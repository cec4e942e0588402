"""`make bench-own`: motors that nobody described, from an empty project to identified.

Three numbers are entered (rated and peak current, top speed); pole pairs, R, L, flux, inertia,
the kind of sensor and its zero are unknown, the drive tells what it tells. Beside it the same
drives with their datasheet typed in: what fails there is not for want of a description. A step
that is refused with its reason counts as not passed, never as right.
"""

import sys
from collections import Counter
from dataclasses import dataclass, field, replace

import numpy as np
from tests.model_link import ModelLink, Passing

from benchmarks.machines import random_axis
from oarlock.drive.standstill import await_standstill
from oarlock.errors import OarlockError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.unknown import missing
from oarlock.records import Finding
from oarlock.session.adopting import with_finding
from oarlock.session.entries import entered
from oarlock.session.new_project import hollow
from oarlock.session.perform import perform
from oarlock.session.told import told_by, with_told
from oarlock.simulate.plant_parameters import PlantParameters

SENSORS = ("encoder", "resolver", "hall")
IDENTIFIED = ("resistance", "inductance_d", "inductance_q", "flux", "inertia")
# Of what is truly there: R, Ld, Lq, psi, inertia, as `make bench-identify` allows at most.
_MOST = (0.02, 0.05, 0.04, 0.02, 0.05)


@dataclass
class Tally:
    """What came of many motors."""

    motors: int = 0
    sensed: int = 0
    pairs: int = 0  # counted right
    passed: int = 0
    wrong: int = 0  # passed, and a value is off
    refused: Counter[str] = field(default_factory=Counter)
    worst: "np.ndarray[tuple[int], np.dtype[np.float64]]" = field(
        default_factory=lambda: np.zeros(len(_MOST))
    )


def begun(printed: Axis, link: ModelLink) -> tuple[Axis, int]:
    """Return an axis with three numbers and the drive's facts, and the entries it took."""
    m, axis, entries = printed.machine, hollow("own"), 0
    for path, text in (
        ("machine.rated_current", f"{m.rated_current.value:.4g} A peak"),
        ("machine.peak_current", f"{m.peak_current.value:.4g} A peak"),
        ("machine.max_speed", f"{m.max_speed.value:.4g} rad/s"),
    ):
        axis, entries = entered(axis, path, text)[1], entries + 1
    axis = with_told(axis, told_by(link))[0]
    assert not missing(axis)
    return axis, entries


def identified(axis: Axis, plant: PlantParameters, link: ModelLink, tally: Tally) -> None:
    """Play everything from the sensors to the inertia, as the window would in that order."""
    breakaway, passing = 0.0, Passing(link)

    def done(experiment: Experiment) -> bool:
        nonlocal axis, breakaway
        await_standstill(axis, link, passing)
        try:
            played = perform(experiment, axis, link, lambda _f, _d: None, passing)
        except OarlockError as error:
            tally.refused[f"{experiment.name}: {error.cause}"[:70]] += 1
            return False
        found = played.reading
        if not isinstance(found, Finding) or found.failed:
            why = found.failed[0].code if isinstance(found, Finding) else played.run.ended
            tally.refused[f"{experiment.name}: {why}"[:70]] += 1
            return False
        if "breakaway" in found.extra:
            breakaway = found.extra["breakaway"].value
        kept = with_finding(axis, found, replace(played.run, id=1))
        axis = parse_axis(format_axis(kept), place="saved and opened again")
        return True

    tally.motors += 1
    if not all(done(e) for e in (CurrentsAtRest(), TurnByHand(), StandingPulses(), ForcedTurn())):
        return
    if not done(FourPushes(friction=breakaway)):
        return
    tally.sensed += 1
    tally.pairs += int(axis.machine.pole_pairs.value == plant.pole_pairs)
    if not all(done(experiment_for(key, held=False)) for key in IDENTIFIED):
        return
    m = axis.machine
    assert m.inertia is not None
    ratios = (m.R.value / plant.R, m.Ld.value / plant.Ld, m.Lq.value / plant.Lq,
              m.psi.value / plant.psi, m.inertia.value / plant.inertia)  # fmt: skip
    off = np.abs(np.array(ratios) - 1.0)
    tally.passed += 1
    tally.wrong += int(bool(np.any(off > _MOST)))
    tally.worst = np.maximum(tally.worst, off)


def main(motors: int = 20) -> None:
    own, known = Tally(), Tally()
    entries = 0
    for seed in range(motors):
        sensor = SENSORS[seed % 3]
        printed, plant = random_axis(np.random.default_rng(700 + seed), sensor=sensor)
        link = ModelLink(plant, seed=seed)
        axis, entries = begun(printed, link)
        identified(axis, plant, link, own)
        identified(printed, plant, ModelLink(plant, seed=seed), known)
    out = sys.stdout.write
    out(f"{'':34}{'nothing known':>16}{'with datasheet':>16}\n")
    for name, key in (("motors", "motors"), ("sensing passed", "sensed"),
                      ("pole pairs right", "pairs"), ("identification passed", "passed"),
                      ("of them with a value off", "wrong")):  # fmt: skip
        out(f"{name:34}{getattr(own, key):16d}{getattr(known, key):16d}\n")
    for n, name in enumerate(("R", "Ld", "Lq", "flux", "inertia")):
        said = "".join(f"{100 * tally.worst[n]:14.2f} %" for tally in (own, known))
        out(f"{'worst error, ' + name:34}{said}\n")
    out(f"entries typed: {entries} (12 allowed)\n")
    for title, tally in (("nothing known", own), ("with datasheet", known)):
        for why, many in tally.refused.most_common():
            out(f"{title}: {many} refused, {why}\n")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
