"""The drive's cascade, filters, waves, moves and sums, each against a law of its own."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.interpolate import CubicHermiteSpline

from oarlock.control.load_observer import LoadObserver
from oarlock.control.single import Options, run_lagged, run_observed, run_section, run_weighted
from oarlock.drive.contract.numbers import CHANNELS
from oarlock.practice.truth import draw
from oarlock.records import Sums
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import PlantParameters

TS = 62.5e-6
GAINS = {"KP_D": 12.0, "KI_D": 900.0, "KP_Q": 22.0, "KI_Q": 900.0}
NOTCH = (0.9, -1.6, 0.85, -1.7, 0.8)
LOW = (0.05, 0.05, 0.0, -0.9, 0.0)


def rigid(**changes: object) -> PlantParameters:
    """A rigid shaft that nothing rubs or disturbs, behind a fine encoder."""
    plain = replace(
        draw("winch", 1), stiffness=0.0, inertia=6e-3, viscous=0.0, coulomb=0.0, cogging=0.0,
        noise=0.0, offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), dead_voltage=0.0,
        bus_ripple=0.0, adc_bits=24, theta=0.0, encoder_counts=2**24, sensor="encoder",
        sensor_zero=0.0, sensor_side=1.0, runout=0.0, Ld_bend=0.0, stiction=1.0, stribeck=0.0,
        brake=0.0, load=0.0, missing=0, hysteresis=0.0,
    )  # fmt: skip
    return replace(plain, **changes)  # type: ignore[arg-type]


def drive(
    plant: PlantParameters, rows: list[dict[str, float]], channels: str, *,
    sections: dict[int, tuple[float, ...]] | None = None,
    lines: list[tuple[float, float, float]] | None = None, begins: float = 0.0, **firm: float,
) -> DriveModel:  # fmt: skip
    model = DriveModel(plant, seed=2)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [20.0, 400.0, 1e3, 100.0]
    constant = 1.5 * plant.pole_pairs * plant.psi
    firm = {**GAINS, "F_PAIRS": plant.pole_pairs, "F_LD": plant.Ld, "F_LQ": plant.Lq,
            "F_PSI": plant.psi, "TORQUE_TO_CURRENT": 1.0 / constant, "DECOUPLE": 1.0,
            **firm}  # fmt: skip
    for name, value in firm.items():
        model.firm[getattr(k, name)] = np.float32(value)
    for n, section in (sections or {}).items():
        at = k.F_SECTIONS + k.SECTION_SIZE * n
        model.firm[at : at + 6] = np.array([1.0, *section], dtype=np.float32)
    table = np.zeros((len(rows), k.ROW_SIZE), dtype=np.float32)
    for made, row in zip(table, rows, strict=True):
        made[[k.RECORD, k.RELEASE]] = 1.0
        for name, value in row.items():
            made[getattr(k, name)] = value
    if lines is not None:
        model.load_lines(np.array(lines))
    model.load(table, tuple(CHANNELS.index(c) for c in channels.split()))
    model.start()
    model.begin_with(begins, 0.0)
    model.advance(int(table[:, k.SAMPLES].sum()) + 1)
    return model


def columns(model: DriveModel) -> list[NDArray[np.float32]]:
    return list(model.trace.T)


@pytest.mark.parametrize("follows", [False, True])
@pytest.mark.parametrize("weight", [1.0, 0.4])
def test_the_speed_controller_and_its_filters_are_the_written_arithmetic_to_the_last_bit(
    weight: float, follows: bool
) -> None:
    model = drive(
        rigid(), [{"SAMPLES": 3000, "MODE": k.MODE_SPEED, "REF_W": 15.0},
                  {"SAMPLES": 3000, "MODE": k.MODE_SPEED, "REF_W": -8.0}],
        "speed speed_ref iq_ref", sections={0: NOTCH, 2: LOW, 4: LOW},
        KP_W=0.6, KI_W=30.0, W_WEIGHT=weight, W_LIMIT=4.0, W_HOLD=float(follows), W_LAG=0.0005,
    )  # fmt: skip
    speed, asked, iq = columns(model)
    assert model.state == 2
    none = np.zeros_like(asked)
    push, _ = run_weighted(0.6, 30.0, TS, 4.0, asked, none, none, run_section(LOW, speed),
                           weight=weight, follows=follows)  # fmt: skip
    late = np.concatenate([np.zeros(1, dtype=np.float32), push[:-1]])  # counts next sample
    assert np.array_equal(iq, run_section(LOW, run_section(NOTCH, late)))
    assert np.mean(np.abs(push) == 4.0) > 0.01  # it was limited for a while
    assert np.mean(np.abs(push) < 4.0) > 0.5


def test_lag_friction_and_load_observer_are_the_written_arithmetic_to_the_last_bit() -> None:
    model = drive(
        rigid(), [{"SAMPLES": 3000, "MODE": k.MODE_SPEED, "REF_W": 15.0},
                  {"SAMPLES": 3000, "MODE": k.MODE_SPEED, "REF_W": -8.0}],
        "speed speed_ref iq_ref", KP_W=0.6, KI_W=30.0, W_LIMIT=1.5, W_LAG=0.0,
        W_SHARE=0.002, W_FRICTION=0.31, O_STEP=0.015, O_SPEED=0.3, O_LOAD=1.9,
    )  # fmt: skip
    speed, asked, iq = columns(model)
    none = np.zeros_like(asked)
    options = Options(share=0.002, friction=0.31,
                      observer=LoadObserver(step=0.015, speed=0.3, load=1.9))  # fmt: skip
    push, _, load = run_observed(0.6, 30.0, TS, 1.5, asked, none, none, speed, options=options)
    assert np.array_equal(iq[1:], push[:-1])
    assert np.mean(np.abs(push) == 1.5) > 0.01
    assert np.max(np.abs(load)) > 0.1
    plain, _ = run_weighted(0.6, 30.0, TS, 1.5, run_lagged(0.002, asked), none, none, speed)
    assert np.max(np.abs(plain - push)) > 0.3


def test_the_load_observer_finds_the_load_and_starts_anew_where_the_loop_closes() -> None:
    plant = rigid()
    constant = 1.5 * plant.pole_pairs * plant.psi
    J = plant.inertia / constant
    pole = math.exp(-400.0 * TS)
    rows = [{"SAMPLES": 3000, "MODE": k.MODE_ROTOR, "REF_Q": 2.0},
            {"SAMPLES": 6000, "MODE": k.MODE_SPEED, "REF_W": 25.0},
            {"SAMPLES": 8000, "MODE": k.MODE_SPEED, "REF_W": 25.0, "WAVE": k.WAVE_STEP,
             "TARGET": k.ON_LOAD, "AMPLITUDE": -1.2 * constant}]  # fmt: skip
    firm: dict[str, Any] = {
        "KP_W": 0.3, "KI_W": 0.0, "W_LAG": 0.0, "O_STEP": TS / J, "O_SPEED": 1.0 - pole**2,
        "O_LOAD": (1.0 - pole) ** 2 * J / TS,
    }  # fmt: skip
    model = drive(plant, rows, "speed iq_ref", **firm)
    speed, iq = columns(model)
    alone = 0.3 * (25.0 - float(speed[3000]))  # the speed that is there is no load
    assert float(iq[3002]) == pytest.approx(alone, abs=0.1)
    before, after = float(speed[8900:9000].mean()), float(speed[-100:].mean())
    assert before == pytest.approx(25.0, abs=0.05)  # without an integral
    assert after == pytest.approx(25.0, abs=0.05)
    bare = {**firm, "O_STEP": 0.0, "O_SPEED": 0.0, "O_LOAD": 0.0}
    fallen = columns(drive(plant, rows, "speed iq_ref", **bare))[0]
    assert float(fallen[-100:].mean()) < 25.0 - 0.8 * 1.2 / 0.3  # a P alone gives way


def test_friction_ahead_takes_the_side_of_the_profile_and_none_at_its_end() -> None:
    rows = [{"SAMPLES": 8000, "MODE": k.MODE_POSITION, "DISTANCE": 2.0, "REF_W": 20.0,
             "ACCELERATION": 400.0}]  # fmt: skip
    shaft = rigid(coulomb=0.15)
    firm: dict[str, Any] = {"KP_W": 0.8, "KI_W": 8.0, "W_LAG": 0.0, "KP_X": 20.0, "X_SPEED": 1.0,
            "W_ACCELERATION": shaft.inertia / (1.5 * shaft.pole_pairs * shaft.psi)}  # fmt: skip
    plain = drive(shaft, rows, "iq_ref theta_m position_ref", **firm)
    known = drive(shaft, rows, "iq_ref theta_m position_ref",
                  W_FRICTION=0.15 / (1.5 * shaft.pole_pairs * shaft.psi), **firm)  # fmt: skip
    off = [float(np.max(np.abs(x - ref))) for _, x, ref in (columns(plain), columns(known))]
    assert off[1] < 0.6 * off[0]
    assert abs(float(columns(known)[0][-1])) < 0.5 * abs(float(columns(known)[0][500]))


def test_a_divider_makes_it_slower_and_nothing_else() -> None:
    model = drive(rigid(), [{"SAMPLES": 4000, "MODE": k.MODE_SPEED, "REF_W": 3.0}],
                  "speed iq_ref", KP_W=0.5, KI_W=5.0, W_EVERY=10.0, W_LAG=0.0)  # fmt: skip
    speed, iq = columns(model)
    changed = np.flatnonzero(np.diff(iq))
    assert np.all(np.diff(changed) % 10 == 0)
    seen = speed[changed]  # the sample before the change made it
    none = np.zeros_like(seen)
    push, _ = run_weighted(0.5, 5.0, 10 * TS, 18.0, np.full_like(seen, 3.0), none, none, seen)
    assert np.array_equal(iq[changed + 1], push)
    assert speed[-1] == pytest.approx(3.0, rel=0.02)


def test_a_path_is_a_cubic_through_its_rows_and_goes_on_from_a_move() -> None:
    begins = {"SAMPLES": 800, "MODE": k.MODE_POSITION, "DISTANCE": 0.2, "REF_W": 20.0,
              "ACCELERATION": 400.0}  # fmt: skip
    ways = [(400, 0.5, 9.0), (640, -0.1, -30.0), (480, -0.3, 0.0)]
    rows: list[dict[str, float]] = [begins]
    rows += [{"SAMPLES": n, "MODE": k.MODE_PATH, "DISTANCE": far, "REF_W": w} for n, far, w in ways]
    rows.append({"SAMPLES": 300, "MODE": k.MODE_POSITION})
    shaft = rigid()
    model = drive(shaft, rows, "position_ref speed_ref theta_m", KP_W=0.8, KI_W=8.0, W_LAG=0.0,
                  KP_X=30.0, X_SPEED=1.0,
                  W_ACCELERATION=shaft.inertia / (1.5 * shaft.pole_pairs * shaft.psi))  # fmt: skip
    asked, speed, seen = (c.astype(np.float64) for c in columns(model))
    at = np.cumsum([0, *(n for n, _, _ in ways)]) * TS
    through = CubicHermiteSpline(at, np.cumsum([0.2, *(far for _, far, _ in ways)]),
                                 [0.0, *(w for _, _, w in ways)])  # fmt: skip
    t = np.arange(1520) * TS
    assert asked[800:2320] == pytest.approx(through(t), abs=1e-6)
    assert speed[800:2320] == pytest.approx(through(t, 1), abs=1e-4)
    assert asked[2320:] == pytest.approx(0.3, abs=1e-6)  # and there it stays
    assert speed[2320:].tolist() == [0.0] * 300
    assert np.max(np.abs(seen - asked)) < 0.1  # a rad without the speed ahead


def test_a_path_after_a_move_begins_at_rest_even_where_the_move_was_cut_short() -> None:
    rows = [{"SAMPLES": 400, "MODE": k.MODE_POSITION, "DISTANCE": 5.0, "REF_W": 20.0,
             "ACCELERATION": 400.0},
            {"SAMPLES": 400, "MODE": k.MODE_PATH, "DISTANCE": 0.1, "REF_W": 0.0}]  # fmt: skip
    asked, speed = columns(drive(rigid(), rows, "position_ref speed_ref", KP_W=0.8, KI_W=8.0,
                                 W_LAG=0.0, KP_X=30.0, X_SPEED=1.0))  # fmt: skip
    assert speed[399] > 5.0
    assert speed[400] == 0.0
    assert asked[-1] - asked[399] == pytest.approx(0.1, abs=1e-3)  # from where it was


def test_a_path_goes_on_at_the_speed_that_was_asked_for() -> None:
    rows = [{"SAMPLES": 1600, "MODE": k.MODE_SPEED, "REF_W": 5.0},
            {"SAMPLES": 400, "MODE": k.MODE_PATH, "DISTANCE": 0.1, "REF_W": 0.0}]  # fmt: skip
    asked, speed = columns(drive(rigid(), rows, "position_ref speed_ref", KP_W=0.8, KI_W=8.0,
                                 W_LAG=0.0, KP_X=30.0, X_SPEED=1.0))  # fmt: skip
    assert speed[1600] == pytest.approx(5.0)
    assert asked[-1] - asked[1600] == pytest.approx(0.1, abs=1e-4)


def trapezoid(far: float, top: float, steep: float, t: NDArray[np.float64]) -> NDArray[np.float64]:
    """Speed of a move by its own law: what can still be stopped, at most the top."""
    x = w = 0.0
    dt = t[1] - t[0]
    out = np.empty_like(t)
    for n in range(t.size):
        out[n] = w
        braking = w * w / (2.0 * steep)
        w = max(w - steep * dt, 0.0) if far - x <= braking else min(w + steep * dt, top)
        x += w * dt
    return out


@pytest.mark.parametrize(
    ("far", "top", "steep", "jerk"),
    [(3.0, 10.0, 200.0, 0.0), (-0.4, 30.0, 150.0, 0.0), (2.0, 12.0, 300.0, 0.02)],
)
def test_a_move_keeps_its_speed_and_acceleration(
    far: float, top: float, steep: float, jerk: float
) -> None:
    model = drive(
        rigid(), [{"SAMPLES": 12000, "MODE": k.MODE_POSITION, "DISTANCE": far, "REF_W": top,
                   "ACCELERATION": steep, "JERK_TIME": jerk}],
        "position_ref speed_ref theta_m", KP_W=0.4, KI_W=4.0, KP_X=30.0, X_SPEED=1.0,
        W_ACCELERATION=6e-3 / (1.5 * rigid().pole_pairs * rigid().psi), W_LAG=0.0002,
    )  # fmt: skip
    x, w, seen = (c.astype(np.float64) for c in columns(model))
    t = np.arange(x.size, dtype=np.float64) * TS
    expected: NDArray[np.float64] = math.copysign(1.0, far) * trapezoid(abs(far), top, steep, t)
    if jerk:
        span = round(jerk / TS)
        expected = np.convolve(expected, np.ones(span) / span)[: t.size]
    assert w == pytest.approx(expected, abs=0.02 * top)
    assert x[-1] == pytest.approx(far, rel=1e-6)
    assert np.gradient(x, TS)[10:-10] == pytest.approx(w[10:-10], abs=0.01 * top)
    steepest = float(np.abs(np.gradient(w, TS)).max())
    assert steepest <= steep * 1.05
    if jerk:  # the acceleration takes the jerk time to build up
        assert float(np.abs(np.diff(w, 2)).max()) / TS**2 <= 1.2 * steep / jerk
    moved = seen - seen[0]
    assert moved[-1] == pytest.approx(far, abs=2e-3)
    assert float(np.abs(moved - x).max()) < 0.03 * abs(far)


def test_a_move_begins_where_the_last_one_ended_and_a_limit_holds_its_speed() -> None:
    go = {"SAMPLES": 8000, "MODE": k.MODE_POSITION, "REF_W": 10.0, "ACCELERATION": 200.0}
    model = drive(
        rigid(), [{"SAMPLES": 500, "REF_Q": 0.0}, {**go, "DISTANCE": 1.0},
                  {**go, "DISTANCE": -3.0}],
        "theta_m position_ref", KP_W=0.4, KI_W=4.0, KP_X=20.0, X_SPEED=1.0,
    )  # fmt: skip
    seen, x = columns(model)
    assert x[8400] == pytest.approx(1.0, abs=1e-4)
    assert x[-1] == pytest.approx(-2.0, abs=1e-4)
    assert seen[-1] - seen[0] == pytest.approx(-2.0, abs=0.03)
    # Without a share of the profile's speed the loop's own limit is the top.
    slow = drive(rigid(), [{**go, "DISTANCE": 2.0}], "speed", KP_W=0.4, KI_W=4.0, KP_X=200.0,
                 X_LIMIT=2.0)  # fmt: skip
    assert float(slow.trace.max()) < 3.0


def test_a_speed_is_reached_at_its_acceleration() -> None:
    model = drive(rigid(), [{"SAMPLES": 6400, "MODE": k.MODE_SPEED, "REF_W": 20.0,
                             "ACCELERATION": 100.0}], "speed_ref speed", KP_W=0.5, KI_W=5.0,
                  W_ACCELERATION=0.002)  # fmt: skip
    asked, _ = columns(model)
    t = np.arange(asked.size) * TS
    assert asked == pytest.approx(np.minimum(100.0 * (t + TS), 20.0), abs=1e-3)


def ramped(*rows: dict[str, float]) -> np.ndarray:
    """The speed asked for, of rows of speed with 1/TS samples a second."""
    model = drive(rigid(), [{"MODE": k.MODE_SPEED, **row} for row in rows], "speed_ref",
                  KP_W=0.5, KI_W=5.0)  # fmt: skip
    return columns(model)[0]


@pytest.mark.parametrize("side", [1.0, -1.0])
@pytest.mark.parametrize("jerk", [0.02, 0.1])
def test_with_a_jerk_time_a_speeds_ramp_has_round_corners(jerk: float, side: float) -> None:
    steep = 100.0
    asked = side * ramped(
        {"SAMPLES": 8000, "REF_W": side * 20.0, "ACCELERATION": steep, "JERK_TIME": jerk}
    )
    t = np.arange(asked.size) * TS + TS
    # The mean of a plain ramp over the jerk time: where both corners are apart it is the same.
    fine = np.linspace(0.0, 1.0, 400)
    plain = np.mean(np.clip(steep * (t[:, np.newaxis] - jerk * fine), 0.0, 20.0), axis=1)
    assert asked == pytest.approx(plain, abs=3.0 * steep * TS)
    a = np.diff(asked) / TS
    assert a.max() == pytest.approx(steep, rel=1e-3)
    assert float(np.abs(np.diff(a)).max()) < 2.2 * steep / jerk * TS  # float32 of the record in it
    assert asked.max() <= 20.0 + 1e-6
    assert asked[-1] == 20.0


def test_a_short_change_of_speed_has_no_room_for_the_whole_acceleration() -> None:
    jerk, steep = 0.1, 100.0
    asked = ramped({"SAMPLES": 8000, "REF_W": 2.0, "ACCELERATION": steep, "JERK_TIME": jerk})
    a = np.diff(asked) / TS
    assert a.max() == pytest.approx(math.sqrt(2.0 * steep / jerk), rel=0.02)  # √(j·v)
    done = float(np.flatnonzero(asked >= 2.0)[0]) * TS
    assert done == pytest.approx(2.0 * math.sqrt(2.0 / (steep / jerk)), abs=6 * TS)


def test_a_ramp_that_is_turned_round_takes_its_acceleration_back_first() -> None:
    steep, jerk = 100.0, 0.05
    asked = ramped(
        {"SAMPLES": 1600, "REF_W": 20.0, "ACCELERATION": steep, "JERK_TIME": jerk},
        {"SAMPLES": 8000, "REF_W": -5.0, "ACCELERATION": steep, "JERK_TIME": jerk},
    )
    a = np.diff(asked) / TS
    assert float(np.abs(np.diff(a)).max()) < 2.2 * steep / jerk * TS
    assert asked.max() > asked[1600] + 0.5 * steep * jerk / 2.0  # on for a while
    assert asked.min() >= -5.0 - 1e-6
    assert asked[-1] == -5.0


def test_a_speed_that_is_met_at_full_acceleration_is_passed_and_come_back_to() -> None:
    steep, jerk = 100.0, 0.05
    asked = ramped(
        {"SAMPLES": 1600, "REF_W": 20.0, "ACCELERATION": steep, "JERK_TIME": jerk},
        {"SAMPLES": 8000, "REF_W": 7.6, "ACCELERATION": steep, "JERK_TIME": jerk},
    )
    assert asked[1600] == pytest.approx(7.5, abs=0.05)
    a = np.diff(asked) / TS
    assert float(np.abs(np.diff(a)).max()) < 2.2 * steep / jerk * TS
    assert asked.max() > 9.0
    assert asked[-1] == pytest.approx(7.6, abs=1e-6)


def test_a_chirp_goes_up_by_one_ratio() -> None:
    model = drive(rigid(), [{"SAMPLES": 16000, "WAVE": k.WAVE_CHIRP, "TARGET": k.ON_IQ,
                             "AMPLITUDE": 2.0, "FREQUENCY": 20.0, "END_FREQUENCY": 320.0}],
                  "iq_ref")  # fmt: skip
    (wave,) = columns(model)
    rises = np.flatnonzero((wave[1:] >= 0.0) & (wave[:-1] < 0.0)) * TS
    middle, hertz = 0.5 * (rises[1:] + rises[:-1]), 1.0 / np.diff(rises)
    assert hertz == pytest.approx(20.0 * 16.0**middle, rel=0.06)
    assert float(np.abs(wave).max()) == pytest.approx(2.0, rel=1e-3)


def test_a_multisine_is_the_sum_of_its_lines() -> None:
    lines = [(40.0, 0.5, 0.1), (120.0, 0.25, 2.0), (360.0, 1.0, -1.0)]
    model = drive(rigid(), [{"SAMPLES": 1600, "WAVE": k.WAVE_LINES, "TARGET": k.ON_IQ,
                             "AMPLITUDE": 1.5}], "iq_ref", lines=lines)  # fmt: skip
    t = np.arange(1600) * TS
    expected = 1.5 * sum(a * np.sin(math.tau * f * t + p) for f, a, p in lines)
    assert columns(model)[0] == pytest.approx(expected, abs=1e-5)
    model = drive(rigid(), [{"SAMPLES": 1600, "WAVE": k.WAVE_LINES, "TARGET": k.ON_IQ,
                             "AMPLITUDE": 1.5, "FREQUENCY": 100.0, "END_FREQUENCY": 200.0}],
                  "iq_ref", lines=lines)  # fmt: skip
    alone = 1.5 * 0.25 * np.sin(math.tau * 120.0 * t + 2.0)
    assert columns(model)[0] == pytest.approx(alone, abs=1e-5)
    with pytest.raises(ValueError, match="multisine"):
        model.load_lines(np.zeros((65, 3)))
    with pytest.raises(ValueError, match="not finite"):
        model.load_lines(np.full((1, 3), np.nan))


def test_a_load_acts_behind_the_filters_and_a_torque_before_them() -> None:
    constant = 1.5 * rigid().pole_pairs * rigid().psi
    step = {"SAMPLES": 400, "WAVE": k.WAVE_STEP, "AMPLITUDE": 1.0}
    for target, filtered in ((k.ON_TORQUE, True), (k.ON_LOAD, False)):
        model = drive(rigid(), [{**step, "TARGET": target}], "iq_ref", sections={1: LOW})
        (iq,) = columns(model)
        expected = np.full(400, 1.0 / constant, dtype=np.float32)
        if filtered:
            expected = run_section(LOW, expected)
        assert iq == pytest.approx(expected, rel=1e-5)


def test_sums_over_whole_cycles_are_what_the_full_record_gives() -> None:
    """Against least squares on every sample; increments of the position too."""
    plant = replace(draw("winch", 4), brake=0.0)
    f, cycles = 80.0, 24
    rows = [{"SAMPLES": 2000, "MODE": k.MODE_SPEED, "REF_W": 20.0, "RECORD": 0.0},
            {"SAMPLES": cycles * 200, "MODE": k.MODE_SPEED, "REF_W": 20.0, "WAVE": k.WAVE_SINE,
             "TARGET": k.ON_TORQUE, "AMPLITUDE": 0.5, "FREQUENCY": f, "PHASE": 0.3,
             "SUMS": 1.0}]  # fmt: skip
    names = "iq_ref iq dtheta speed"
    model = drive(plant, rows, names, KP_W=0.2, KI_W=2.0, F_ZERO=plant.zero,
                  F_COUNTS=plant.encoder_counts, F_SIDE=plant.sensor_side)  # fmt: skip
    assert model.state == 2
    sums = Sums(tuple(names.split()), model.totals.astype(np.float32).astype(np.float64))
    assert sums.samples().tolist() == [cycles * 200]
    t = np.arange(cycles * 200) * TS
    phase = math.tau * f * t + 0.3
    basis = np.stack([np.sin(phase), np.cos(phase), np.ones_like(t)], axis=1)
    for name, column in zip(names.split(), columns(model), strict=True):
        sine, cosine, mean = np.linalg.lstsq(basis, column.astype(np.float64), rcond=None)[0]
        size = math.hypot(sine, cosine)
        assert sums.gain(name)[0] == pytest.approx(complex(sine, cosine), abs=2e-4 * size), name
        assert sums.mean(name)[0] == pytest.approx(mean, rel=1e-4), name
        assert sums.spread(name)[0] == pytest.approx(float(np.std(column)), rel=1e-3), name
        least, most = sums.extremes(name)
        assert (least[0], most[0]) == (column.min(), column.max())
    assert sums.limited()[0] == 0.0


def test_sums_tell_how_often_the_bus_was_the_limit() -> None:
    rows = [{"SAMPLES": 1000, "MODE": k.MODE_FIXED, "REF_D": 0.0, "WAVE": k.WAVE_SINE,
             "TARGET": k.ON_VD, "AMPLITUDE": 400.0, "FREQUENCY": 400.0, "SUMS": 1.0},
            {"SAMPLES": 1000, "MODE": k.MODE_FIXED, "SUMS": 1.0}]  # fmt: skip
    model = drive(rigid(), rows, "vd")
    sums = Sums(("vd",), model.totals)
    # 400 sin beyond 320/√3 = 184.8: all but 2·asin(0.462)/π of the time.
    assert sums.limited()[0] == pytest.approx(1.0 - 2.0 * math.asin(184.75 / 400.0) / math.pi,
                                              abs=0.05)  # fmt: skip
    assert sums.limited()[1] == 0.0


def test_the_slope_of_the_angle_is_quieter_than_its_difference() -> None:
    """One count at 4096 a turn: at the same lag of half a window, a quarter of the noise."""
    plant = rigid(encoder_counts=4096)
    turning = {"SAMPLES": 8000, "MODE": k.MODE_SPEED, "REF_W": 7.3}
    noise = {}
    for name, many in (("difference", 0.0), ("slope", 20.0)):
        model = drive(plant, [turning], "speed theta_m", KP_W=0.3, KI_W=2.0, W_EVERY=10.0,
                      W_LAG=0.0, F_COUNTS=4096.0, W_SLOPE=many)  # fmt: skip
        speed, theta = (c[4000:].astype(np.float64) for c in columns(model))
        true = (theta[-1] - theta[0]) / (TS * (theta.size - 1))
        assert float(speed.mean()) == pytest.approx(true, rel=0.01)
        noise[name] = float(np.std(speed))
    assert noise["slope"] < 0.5 * noise["difference"]


def test_a_growing_oscillation_trips_and_the_last_good_set_is_taken_again() -> None:
    plant = rigid()
    calm, wild = 0.4, 12.0
    steps = [{"SAMPLES": 60000, "MODE": k.MODE_SPEED, "REF_W": 5.0, "RECORD": 0.0,
              "WAVE": k.WAVE_SQUARE, "TARGET": k.ON_SPEED, "AMPLITUDE": 0.5,
              "FREQUENCY": 4.0}]  # fmt: skip
    model = drive(plant, steps, "iq_ref", KP_W=calm, KI_W=4.0, WATCH=1.0, W_LAG=0.003)
    assert model.trip == k.TRIP_NONE  # a step of a calm loop is none

    model.start()
    model.advance(8000)
    model.propose(k.KP_W, wild)
    model.commit()
    assert model.firm[k.KP_W] == wild
    before = model.clock
    while model.is_running and model.clock - before < 0.5:
        model.advance(16)
    assert model.trip == k.TRIP_OSCILLATION
    assert model.clock - before < 0.1
    assert model.firm[k.KP_W] == np.float32(calm)
    assert model.shadow[k.KP_W] == np.float32(calm)
    assert model.reverts == 1


def test_what_is_written_while_it_runs_waits_and_is_taken_over_at_one_sample() -> None:
    model = drive(rigid(), [{"SAMPLES": 400, "MODE": k.MODE_SPEED, "REF_W": 5.0}], "iq_ref",
                  KP_W=0.4, KI_W=4.0)  # fmt: skip
    model.start()
    model.advance(100)
    model.propose(k.KP_W, 0.8)
    model.propose(k.KI_W, 1.0)
    assert (model.pending, model.firm[k.KP_W]) == (2, np.float32(0.4))
    model.commit()
    assert (model.pending, model.firm[k.KP_W], model.firm[k.KI_W]) == (0, 0.8, 1.0)
    model.put_back()
    assert (model.firm[k.KP_W], model.firm[k.KI_W]) == (np.float32(0.4), 4.0)
    assert (model.commits, model.reverts) == (1, 1)
    model.stop()
    model.propose(k.KP_W, 0.5)
    assert model.firm[k.KP_W] == 0.5  # nothing runs: at once
