"""Eight drives side by side are the eight drives, to the last bit; or they go on alone."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

from oarlock.lanes.vectors import LANES
from oarlock.practice.truth import draw
from oarlock.simulate import layout as k
from oarlock.simulate import side_by_side, tally
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.side_by_side import Lanes, LaneTally, can_go_together
from tests.simulate.test_kernels import row

GAINS = {
    "KP_D": 20.0, "KI_D": 3000.0, "KP_Q": 25.0, "KI_Q": 3000.0, "KP_W": 0.4, "KI_W": 3.0,
    "KP_X": 20.0, "X_SPEED": 1.0, "F_LD": 8e-3, "F_LQ": 15e-3, "F_PSI": 0.15, "DECOUPLE": 1.0,
}  # fmt: skip
SPEED = [row(300, MODE=k.MODE_SPEED, REF_W=9.0, ACCELERATION=900.0),
         row(900, MODE=k.MODE_SPEED, REF_W=-14.0, ACCELERATION=900.0, JERK_TIME=0.002)]  # fmt: skip
MOVES = [row(700, MODE=k.MODE_POSITION, REF_W=20.0, ACCELERATION=3000.0, DISTANCE=0.6),
         row(300, MODE=k.MODE_PATH, REF_W=-2.0, DISTANCE=-0.05),
         row(200, MODE=k.MODE_OFF)]  # fmt: skip
FORCED = [row(200, MODE=k.MODE_FIXED, REF_D=3.0, ANGLE=1.0),
          row(300, MODE=k.MODE_CARRIED, REF_D=4.0, REF_W=8.0),
          row(300, MODE=k.MODE_VOLTAGE, REF_D=6.0, REF_W=12.0),
          row(400, REF_Q=5.0, WAVE=k.WAVE_CHIRP, TARGET=k.ON_IQ, AMPLITUDE=2.0, FREQUENCY=50.0,
              END_FREQUENCY=900.0)]  # fmt: skip
BEYOND = [row(1200, MODE=k.MODE_SPEED, REF_W=900.0)]
WIDTH = 7  # samples in a bin
CHANNELS = (11, 21, 12, 20, 4, 5, 6, 7, 13, 24, 25)  # those of a rehearsal, in its order
Made = Callable[[PlantParameters], PlantParameters]


def as_it_is(plant: PlantParameters) -> PlantParameters:
    return plant


def linked(plant: PlantParameters) -> PlantParameters:
    return replace(plant, link=2e-4, feed=0.4, chop_from=335.0, chop_ohm=12.0)


def rough(plant: PlantParameters) -> PlantParameters:
    """Everything that a machine can have."""
    return replace(plant, stribeck=0.6, stribeck_speed=2.0, across=2e-5, iron=5e-4, heating=1e-3,
                   cooling=0.01, flux_heat=1e-3, output_late=0.1, backlash=0.004)  # fmt: skip


def models(
    rows: list[list[float]], made: Made = as_it_is, axis: str = "winch",
    firm: Mapping[str, float] | None = None,
) -> list[DriveModel]:  # fmt: skip
    found = []
    for seed in range(LANES):
        plant = made(_with_its_own(draw(axis, 3), draw(axis, seed)))
        model = DriveModel(plant, seed=5)
        model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [36.0, 900.0, 1e6, 100.0]
        model.firm[k.RING] = 1.0
        model.firm[[k.F_PAIRS, k.F_SENSOR_PAIRS]] = plant.pole_pairs, plant.sensor_pairs
        model.firm[k.F_ZERO] = plant.pole_pairs * plant.sensor_zero
        for name, value in {**GAINS, **(firm or {})}.items():
            model.firm[getattr(k, name)] = np.float32(value)
        model.load(np.array(rows, dtype=np.float32), CHANNELS)
        model.start()
        found.append(model)
    return found


def _with_its_own(plant: PlantParameters, own: PlantParameters) -> PlantParameters:
    return replace(
        plant, R=own.R, Ld=own.Ld, Lq=own.Lq, Lq_saturated=own.Lq_saturated, psi=own.psi,
        i_saturation=own.i_saturation, inertia=own.inertia, load_inertia=own.load_inertia,
        dead_voltage=own.dead_voltage, dead_knee=own.dead_knee, coulomb=own.coulomb,
        viscous=own.viscous, theta=own.theta,
    )  # fmt: skip


def compare(together: Sequence[DriveModel], alone: Sequence[DriveModel], portions: Sequence[int]
            ) -> Lanes:  # fmt: skip
    """Play both; what the lanes hold is what the drives hold."""
    assert can_go_together(together)
    lanes = Lanes(together)
    kept = LaneTally(WIDTH, sum(portions) // WIDTH, together)
    for portion in portions:
        since = lanes.recorded
        assert lanes.advance(portion)
        kept.take(lanes, since)
    for n, model in enumerate(alone):
        tally_is_that_of(kept, n, model, portions)
    lanes.put_back()
    for one, other in zip(together, alone, strict=True):
        assert np.array_equal(one.meta, other.meta)
        for a, b in zip(one.inside, other.inside, strict=True):
            assert np.array_equal(a, b)
    assert len({one.inside[0][k.I_Q] for one in alone}) == LANES or not alone[0].current
    return lanes


def tally_is_that_of(
    kept: LaneTally, lane: int, model: DriveModel, portions: Sequence[int]
) -> None:  # fmt: skip
    """Play a drive by itself, and compare what is kept of it."""
    counts, sums = np.zeros(tally.COUNTS, dtype=np.int64), np.zeros(tally.SUMS)
    begun, bins = np.zeros((3, tally.COLUMNS)), np.zeros((3, tally.COLUMNS, sum(portions)))
    none = np.zeros((0, k.REACH_SIZE), dtype=np.float32)
    for portion in portions:
        since = model.recorded
        model.advance(portion)
        rows = model.window(since, model.recorded - since)
        tally.gather(rows, 0, len(rows), none, model.began_at, model.resistance, WIDTH, counts,
                     sums, begun, bins)  # fmt: skip
    whole = counts[tally.BINS]
    assert np.array_equal(counts, kept.counts)
    assert np.array_equal(sums, kept.sums[:, lane])
    assert np.array_equal(begun, kept.begun[..., lane])
    assert np.array_equal(bins[..., :whole], kept.kept[lane, ..., :whole])


def test_both_loops_are_compiled_before_they_are_wanted(monkeypatch: pytest.MonkeyPatch) -> None:
    called = []
    loops = SimpleNamespace(advance=lambda *_: called.append("advance"),
                            gather=lambda *_: called.append("gather"))  # fmt: skip
    monkeypatch.setattr(side_by_side, "_loops", lambda: loops)
    side_by_side.warm_up()
    assert called == ["advance", "gather"]


def test_what_was_never_compiled_is_told_apart(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    side_by_side.warm_up()
    assert side_by_side.is_compiled()
    monkeypatch.setattr(side_by_side, "kernel_folder", lambda: tmp_path)
    assert not side_by_side.is_compiled()
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "oarlock_side_by_side.advance-7.py.nbc").touch()
    assert not side_by_side.is_compiled()  # half of it


@pytest.mark.parametrize("rows", [SPEED, MOVES, FORCED, BEYOND], ids=lambda rows: str(len(rows)))
@pytest.mark.parametrize("made", [as_it_is, linked, rough])
def test_the_bits_are_those_of_each_alone(rows: list[list[float]], made: Made) -> None:
    whole = round(sum(one[k.SAMPLES] for one in rows)) - 20
    compare(models(rows, made), models(rows, made), (1, 250, 3, whole - 254))


@pytest.mark.parametrize(
    "firm",
    [
        {"W_EVERY": 4.0, "W_SLOPE": 8.0, "W_HOLD": 1.0},
        {"C_CIRCLE": 1.0, "W_LIMIT": 6.0, "W_WEIGHT": 0.6, "W_SHARE": 0.05},
        {"C_RULE": 2.0, "W_FRICTION": 0.3, "O_STEP": 0.02, "O_SPEED": 0.06, "O_LOAD": 0.14},
        {"WATCH": 1.0, "F_OFFSET_A": 0.05, "F_UNSENSED": 2.0, "W_LAG": 0.0},
        {"DECIMATION": 3.0, "AVERAGE": 1.0},
    ],
)
def test_so_are_those_of_other_settings(firm: dict[str, float]) -> None:
    compare(models(SPEED, firm=firm), models(SPEED, firm=firm), (600, 500))


def test_halls_too_and_gains_that_differ() -> None:
    def made() -> list[DriveModel]:
        found = models(SPEED, axis="thruster", firm={
            "F_LD": 3e-5, "F_LQ": 4e-5, "F_PSI": 7e-3, "KP_D": 0.05, "KI_D": 40.0, "KP_Q": 0.06,
            "KI_Q": 40.0, "KP_W": 0.2, "KI_W": 1.0,
        })  # fmt: skip
        for n, model in enumerate(found):
            model.firm[k.F_KIND] = k.SENSOR_HALL
            model.firm[k.F_HALL + 1 : k.F_HALL + 7] = [0.0, 2.1, 1.05, 4.2, 5.2, 3.1]
            model.firm[k.KP_W] = np.float32(0.2 + 0.02 * n)
        return found

    compare(made(), made(), (400, 700))


def test_one_that_trips_stops_none_of_the_others() -> None:
    alone, together = models(BEYOND), models(BEYOND)
    for both in (alone, together):
        both[5].firm[k.MAX_SPEED] = 60.0
    lanes = Lanes(together)
    assert lanes.advance(200)
    held = lanes._state.copy()
    assert not lanes.advance(1000)
    assert np.array_equal(lanes._state, held)  # nothing has changed
    lanes.put_back()
    for model in together:
        model.advance(1000)
    for model in alone:
        model.advance(1200)
    assert [one.trip for one in together] == [one.trip for one in alone]
    assert alone[5].trip == k.TRIP_LIMIT_SPEED
    assert sum(one.trip != 0 for one in alone) == 1
    for one, other in zip(together, alone, strict=True):
        assert np.array_equal(one.inside[0], other.inside[0])


def test_a_setting_that_leads_one_elsewhere_sends_all_alone() -> None:
    found = models(SPEED)
    found[2].firm[k.DECOUPLE] = 0.0
    lanes = Lanes(found)
    before = lanes._state.copy()
    assert not lanes.advance(50)
    assert np.array_equal(lanes._state, before)
    sensorless = models([row(300, MODE=k.MODE_SENSORLESS, REF_W=9.0)], firm={"F_OBSERVER": 200.0})
    assert not Lanes(sensorless).advance(50)


def test_what_acts_from_outside_acts_in_its_lane() -> None:
    alone, together = models(SPEED), models(SPEED)
    lanes = Lanes(together)
    assert lanes.advance(300)
    for both in (alone, together):
        if both is alone:
            for model in alone:
                model.advance(300)
        both[3].load_by(0.8)
        both[6].slip_by(0.02)
    assert lanes.advance(500)
    lanes.put_back()
    for one, other in zip(together, alone, strict=True):
        other.advance(500)
        assert np.array_equal(one.inside[0], other.inside[0])


def test_more_than_the_recorder_holds_is_refused() -> None:
    with pytest.raises(ValueError, match="holds 2000"):
        Lanes(models(SPEED)).advance(4001)


def test_only_the_same_plan_at_the_same_place_goes_together() -> None:
    assert can_go_together(models(SPEED))
    assert not can_go_together(models(SPEED)[:7])
    mixed = [*models(SPEED)[:7], models(MOVES)[0]]
    assert not can_go_together(mixed)
    later = models(SPEED)
    later[1].advance(1)
    assert not can_go_together(later)
    switching = models(SPEED, lambda p: replace(p, modulation=Modulation.SPACE_VECTOR))
    assert not can_go_together(switching)
