"""The simulated shaft, wiring and position sensors, each against what it says it does."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from oarlock.practice.truth import AXES, draw
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import CHANNELS, DriveModel
from oarlock.simulate.observer import observe
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.simulate.sense import _hall_code

TAU = math.tau


@pytest.fixture
def quiet() -> PlantParameters:
    """The winch without noise, offsets, cogging or dead time, its brake off."""
    return replace(
        draw("winch", 0), noise=0.0, offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), adc_bits=24,
        dead_voltage=0.0, bus_ripple=0.0, cogging=0.0, stiction=1.0, brake=0.0, runout=0.0,
        sensor_noise=0.0, theta=0.0, sensor_zero=0.0, hand=False, stiffness=0.0,
    )  # fmt: skip


def played(
    plant: PlantParameters, rows: list[dict[str, float]], *channels: str, **firm: float
) -> dict[str, np.ndarray[Any, np.dtype[np.float32]]]:
    """Play rows of the step table and return the channels by name."""
    model = DriveModel(plant, seed=1)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [60.0, 900.0, 1e6, 100.0]
    model.firm[k.F_PAIRS] = plant.pole_pairs
    model.firm[k.F_SENSOR_PAIRS] = plant.sensor_pairs
    model.firm[[k.KP_D, k.KI_D, k.KP_Q, k.KI_Q]] = [20.0, 2000.0, 20.0, 2000.0]
    for name, value in firm.items():
        model.firm[getattr(k, name)] = value
    table = np.zeros((len(rows), k.ROW_SIZE), dtype=np.float32)
    for made, row in zip(table, rows, strict=True):
        made[k.RECORD] = made[k.RELEASE] = 1.0
        for name, value in row.items():
            made[getattr(k, name)] = value
    model.load(table, tuple(CHANNELS.index(name) for name in channels))
    model.start()
    model.advance(int(table[:, k.SAMPLES].sum()) + 2)
    return {name: model.trace[:, n] for n, name in enumerate(channels)}


def turned(**more: float) -> list[dict[str, float]]:
    """A field that takes the rotor round: one electrical turn in a second, four of them."""
    return [
        {"SAMPLES": 4000, "MODE": k.MODE_FIXED, "REF_D": 8.0},
        {"SAMPLES": 64000, "MODE": k.MODE_FIXED, "REF_D": 8.0, "REF_W": TAU, **more},
    ]


def test_a_turning_field_takes_the_rotor_with_it(quiet: PlantParameters) -> None:
    plant = replace(quiet, sensor="encoder", encoder_counts=2**16)
    found = played(plant, turned(), "theta_e", "theta_m", DECIMATION=8.0)
    lag = 4.0 * found["theta_m"][-2000:] - found["theta_e"][-2000:]
    friction = math.asin(plant.coulomb / (1.5 * 4 * 8.0 * (plant.psi - 7.2e-3 * 8.0)))
    assert float(np.mean(lag)) == pytest.approx(-friction, rel=0.3)


def test_the_frame_is_carried_on(quiet: PlantParameters) -> None:
    rows = [
        {"SAMPLES": 100, "MODE": k.MODE_FIXED, "ANGLE": 1.0, "REF_W": 50.0, "REF_D": 1.0},
        {"SAMPLES": 100, "MODE": k.MODE_CARRIED, "REF_W": 20.0, "REF_D": 1.0},
        {"SAMPLES": 100, "MODE": k.MODE_CARRIED, "REF_W": 0.0, "REF_D": 1.0},
    ]
    angle = played(quiet, rows, "theta_e")["theta_e"].astype(float)
    steps = np.diff(angle) / quiet.Ts
    assert steps[:99] == pytest.approx(np.full(99, 50.0), abs=0.1)
    assert steps[100:199] == pytest.approx(np.full(99, 20.0), abs=0.1)
    assert steps[201:] == pytest.approx(np.zeros(98), abs=0.1)
    assert np.max(np.abs(np.diff(angle))) < 60.0 * quiet.Ts  # no jump between rows


def test_the_brake_opens_for_the_rows_that_say_so(quiet: PlantParameters) -> None:
    plant = replace(quiet, brake=45.0, sensor="encoder", encoder_counts=2**16)
    rows = [
        {"SAMPLES": 4000, "MODE": k.MODE_FIXED, "ANGLE": 1.0, "REF_D": 8.0, "RELEASE": 0.0},
        {"SAMPLES": 4000, "MODE": k.MODE_FIXED, "ANGLE": 1.0, "REF_D": 8.0},
    ]
    theta = played(plant, rows, "theta_m")["theta_m"]
    assert np.ptp(theta[:4000]) == 0.0
    assert np.ptp(theta[4000:]) > 0.1
    stuck = played(replace(plant, brake_stuck=True), rows, "theta_m")["theta_m"]
    assert np.ptp(stuck) == 0.0


def test_with_the_gates_off_a_turning_machine_carries_no_current(quiet: PlantParameters) -> None:
    model = DriveModel(quiet)
    model._state[k.OMEGA] = 100.0
    model.advance(500)
    assert model.current == 0.0
    assert model._state[k.OMEGA] == pytest.approx(
        100.0 - 500 * quiet.Ts * (quiet.coulomb + quiet.viscous * 100.0) / quiet.inertia, rel=0.01
    )


def test_a_hand_turns_one_turn_and_back_while_the_gates_are_off(quiet: PlantParameters) -> None:
    plant = replace(quiet, hand=True, sensor="encoder", encoder_counts=4096)
    rows: list[dict[str, float]] = [{"SAMPLES": 40000, "MODE": k.MODE_OFF}]
    found = played(plant, rows, "counts", "t", DECIMATION=4.0)
    assert np.ptp(found["counts"]) == pytest.approx(4096.0, abs=3.0)
    assert abs(found["counts"][-1] - found["counts"][0]) <= 1.0
    held = played(replace(plant, brake=45.0), [{**rows[0], "RELEASE": 0.0}], "counts",
                  DECIMATION=4.0)  # fmt: skip
    assert np.ptp(held["counts"]) == 0.0


def test_a_load_a_ratchet_and_a_propeller(quiet: PlantParameters) -> None:
    for fault, forward in (({"load": 2.0}, False), ({"load": -2.0}, True)):
        model = DriveModel(replace(quiet, **fault))  # type: ignore[arg-type]
        model.load(
            np.array([[1000, k.MODE_OFF] + [0.0] * 8 + [1, 0, 1] + [0.0] * 5], dtype=np.float32),
            (0,),
        )
        model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = 1e6
        model.start()
        model.advance(800)
        assert bool(model._state[k.OMEGA] > 0.0) is forward
    one_way = DriveModel(replace(quiet, coulomb_back=50.0))
    one_way._state[k.OMEGA] = -5.0
    one_way.advance(200)
    assert one_way._state[k.OMEGA] == 0.0
    water = DriveModel(replace(quiet, load_square=0.01, coulomb=0.0, viscous=0.0))
    water._state[k.OMEGA] = 50.0
    water.advance(1000)
    seconds = 1000 * quiet.Ts
    assert water._state[k.OMEGA] == pytest.approx(
        1.0 / (1.0 / 50.0 + 0.01 / quiet.inertia * seconds), rel=0.01
    )


def test_d_saturates_with_the_magnet_and_not_against_it(quiet: PlantParameters) -> None:
    assert quiet.incremental_Ld(8.0) < quiet.Ld < quiet.incremental_Ld(-8.0)
    peaks = []
    for side in (0.0, math.pi):
        rows: list[dict[str, float]] = [
            {"SAMPLES": 8, "MODE": k.MODE_VOLTAGE, "REF_D": 180.0, "ANGLE": side},
            {"SAMPLES": 4, "MODE": k.MODE_VOLTAGE, "ANGLE": side},
        ]
        peaks.append(float(np.max(np.abs(played(quiet, rows, "ia")["ia"]))))
    assert peaks[0] > 1.01 * peaks[1]


@pytest.mark.parametrize("sense", [(0, 1, 2), (1, 0, 2), (2, 0, 1)])
def test_each_sensor_sits_on_the_output_it_was_put_on(
    quiet: PlantParameters, sense: tuple[int, int, int]
) -> None:
    rows: list[dict[str, float]] = [{"SAMPLES": 10, "MODE": k.MODE_VOLTAGE, "REF_D": 100.0}]
    plain = played(quiet, rows, "ia", "ib", "ic")
    moved = played(replace(quiet, sense=sense), rows, "ia", "ib", "ic")
    for n, name in enumerate(("ia", "ib", "ic")):
        other = ("ia", "ib", "ic")[sense[n]]
        assert np.allclose(moved[name], plain[other])


def test_exchanged_leads_turn_the_field_backward(quiet: PlantParameters) -> None:
    plant = replace(quiet, wires=(0, 2, 1), sensor="encoder", encoder_counts=2**16)
    theta = played(plant, turned(), "theta_m", DECIMATION=8.0)["theta_m"]
    assert theta[-1] - theta[len(theta) // 2] < -1.0


def test_an_open_phase_carries_nothing(quiet: PlantParameters) -> None:
    rows: list[dict[str, float]] = [
        {"SAMPLES": 20, "MODE": k.MODE_VOLTAGE, "REF_D": 80.0, "ANGLE": 1.0}
    ]
    found = played(replace(quiet, open_phase=1), rows, "ia", "ib", "ic")
    assert np.max(np.abs(found["ib"])) < 0.01
    assert np.max(np.abs(found["ia"])) > 1.0
    assert np.allclose(found["ia"], -found["ic"], atol=0.01)


def test_two_sensors_make_the_third_and_offsets_are_taken_off(quiet: PlantParameters) -> None:
    plant = replace(quiet, offsets=(0.5, -0.3, 9.0))
    rows: list[dict[str, float]] = [{"SAMPLES": 10, "MODE": k.MODE_VOLTAGE, "REF_D": 100.0}]
    true = played(quiet, rows, "ia", "ib", "ic")
    found = played(plant, rows, "ia", "ib", "ic", F_OFFSET_A=0.5, F_OFFSET_B=-0.3, F_UNSENSED=3.0)
    for name in ("ia", "ib", "ic"):
        assert np.allclose(found[name], true[name], atol=1e-3)


def test_a_resolver_is_put_right_by_its_correction(quiet: PlantParameters) -> None:
    plant = replace(quiet, sine_gain=0.7, cosine_gain=0.8, sine_offset=0.02, cosine_offset=-0.01,
                    skew=0.05)  # fmt: skip
    right = {"F_RATIO": 0.875, "F_SINE": 0.02, "F_COSINE": -0.01, "F_SKEW": 0.05}
    wrong = played(plant, turned(), "theta_m", DECIMATION=8.0)["theta_m"].astype(float)
    mended = played(plant, turned(), "theta_m", DECIMATION=8.0, **right)["theta_m"].astype(float)
    true = played(replace(quiet, sensor="encoder", encoder_counts=2**18), turned(), "theta_m",
                  DECIMATION=8.0)["theta_m"].astype(float)  # fmt: skip
    assert np.max(np.abs(wrong - true - np.mean(wrong - true))) > math.radians(1.0)
    assert np.max(np.abs(mended - true - np.mean(mended - true))) < math.radians(0.15)


def test_a_resolver_is_read_to_half_a_step_either_way(quiet: PlantParameters) -> None:
    """Converters of twelve bits: both lines lie on a circle, but for what rounding moves them."""
    plant = replace(quiet, sine_gain=0.9, cosine_gain=0.9, sine_offset=0.0, cosine_offset=0.0,
                    skew=0.0)  # fmt: skip
    found = played(plant, turned(), "sine", "cosine", DECIMATION=8.0)
    radius = np.hypot(found["sine"].astype(float), found["cosine"].astype(float))
    assert np.ptp(found["sine"]) > 1.7
    assert np.max(np.abs(radius - 0.9)) < math.sqrt(2.0) * 0.5 / 2048.0 + 1e-6
    assert np.allclose(2048.0 * found["sine"], np.round(2048.0 * found["sine"]), atol=1e-3)


def test_an_encoder_loses_what_each_turn_lacks(quiet: PlantParameters) -> None:
    plant = replace(quiet, sensor="encoder", encoder_counts=4096, missing=7, sensor_zero=1.0)
    found = played(plant, [*turned(), *turned()[1:]], "counts", "index", DECIMATION=16.0)
    marks = np.unique(found["index"])
    assert np.ptp(found["counts"]) < 2 * 4096
    assert 4089.0 in np.diff(marks)


def test_the_firmware_goes_on_between_hall_edges() -> None:
    plant = replace(draw("thruster", 0), noise=0.0, hysteresis=0.0, hall_edges=(0.0,) * 6,
                    hall_spread=0.0, sensor_side=1.0, sensor_zero=0.0, theta=0.0, cogging=0.0,
                    runout=0.0)  # fmt: skip
    starts = {5: 5 * TAU / 6, 1: 0.0, 3: TAU / 6, 2: 2 * TAU / 6, 6: 3 * TAU / 6, 4: 4 * TAU / 6}
    codes = [_hall_code.py_func(plant.packed(), angle, 0.0)  # type: ignore[attr-defined]
             for angle in np.arange(6) * TAU / 6 + 0.1]  # fmt: skip
    table = {code: n * TAU / 6 for n, code in enumerate(codes)}
    assert set(table) == set(starts)
    firm = {f"F_HALL_{code}": start for code, start in table.items()}
    assert len(firm) == 6
    model = DriveModel(plant)
    model.firm[k.F_PAIRS] = 7
    for code, start in table.items():
        model.firm[k.F_HALL + code] = start
    model._state[k.OMEGA] = 20.0
    errors = []
    for _ in range(4000):
        model.advance(1)
        model._state[k.OMEGA] = 20.0
        errors.append(7.0 * (model.angle - model._state[k.THETA]))
    late = np.array(errors[2000:])
    late -= np.round(late.mean() / TAU) * TAU
    assert np.max(np.abs(late)) < math.radians(4.0)
    assert model.speed == pytest.approx(20.0, rel=0.05)


def test_the_first_edge_of_halls_after_a_start_says_nothing_of_the_speed() -> None:
    """Just before an edge it is not known how long the shaft has stood, or where."""
    plant = replace(draw("thruster", 0), noise=0.0, hysteresis=0.0, hall_edges=(0.0,) * 6,
                    hall_spread=0.0, sensor_side=1.0, sensor_zero=0.0, cogging=0.0, runout=0.0,
                    theta=(TAU / 6.0 - 0.004) / 7.0)  # fmt: skip
    model = DriveModel(plant)
    model.firm[k.F_PAIRS] = 7
    for n in range(6):
        code = _hall_code.py_func(plant.packed(), n * TAU / 6 + 0.1, 0.0)  # type: ignore[attr-defined]
        model.firm[k.F_HALL + code] = n * TAU / 6
    model._settle_angle()
    seen = []
    for _ in range(round(0.02 / plant.Ts)):
        model._state[k.OMEGA] = 20.0
        model.advance(1)
        seen.append(model._state[k.HALL_SPEED] / 7.0)
    assert max(seen) == pytest.approx(20.0, rel=0.02)  # by the second edge it knows
    assert seen[5] == seen[len(seen) // 3] == 0.0
    model.begin_with(20.0, 0.0)  # unless it has turned for long
    model.advance(2)
    assert model._state[k.HALL_SPEED] / 7.0 == pytest.approx(20.0)


@pytest.mark.parametrize("name", sorted(AXES))
def test_no_two_drives_are_the_same(name: str) -> None:
    one, other = draw(name, 0), draw(name, 1)
    assert one == draw(name, 0)
    for field in ("R", "psi", "offsets", "sensor_zero", "theta"):
        assert getattr(one, field) != getattr(other, field)


def test_two_masses_swing_at_their_resonance_and_against_nothing_else(
    quiet: PlantParameters,
) -> None:
    plant = replace(
        quiet, inertia=2e-3, load_inertia=5e-3, stiffness=2500.0, shaft_damping=0.0,
        coulomb=0.0, viscous=0.0,
    )  # fmt: skip
    model = DriveModel(plant)
    model._state[k.TWIST] = 0.01
    speeds = []
    for _ in range(8000):
        model.advance(1)
        speeds.append(model._state[k.OMEGA])
    rising = np.flatnonzero((np.array(speeds[:-1]) < 0.0) & (np.array(speeds[1:]) >= 0.0))
    period = np.diff(rising).mean() * plant.Ts
    assert math.tau / period == pytest.approx(plant.resonance, rel=2e-3)
    momentum = 2e-3 * model._state[k.OMEGA] + 5e-3 * model._state[k.OMEGA_LOAD]
    assert abs(momentum) < 1e-9
    assert np.ptp(speeds[-400:]) == pytest.approx(np.ptp(speeds[:400]), rel=0.01)  # undamped


def test_friction_is_higher_near_standstill_where_it_is_said_so(quiet: PlantParameters) -> None:
    lost = {}
    for share in (0.0, 0.8):
        plant = replace(quiet, stiffness=0.0, stribeck=share, stribeck_speed=2.0)
        for fast in (0.5, 60.0):
            model = DriveModel(plant)
            model._state[k.OMEGA] = fast
            model.advance(1)
            lost[share, fast] = fast - model._state[k.OMEGA]
    assert lost[0.8, 0.5] > 1.5 * lost[0.0, 0.5]
    assert lost[0.8, 60.0] == pytest.approx(lost[0.0, 60.0], rel=1e-6)


@pytest.mark.parametrize("sensor", ["encoder", "resolver"])
def test_a_sensor_stands_where_it_is_from_the_first_sample_on(
    quiet: PlantParameters, sensor: str
) -> None:
    """A shaft that stands somewhere when the drive is switched on has not moved there."""
    plant = replace(quiet, sensor=sensor, theta=1.3, sensor_zero=0.4, sensor_side=-1.0,
                    sine_offset=0.0)  # fmt: skip
    seen = played(plant, [{"SAMPLES": 40.0, "MODE": float(k.MODE_OFF)}], "theta_m")["theta_m"]
    assert np.ptp(seen) < 1e-3


def test_an_encoder_counts_from_where_it_is_switched_on(quiet: PlantParameters) -> None:
    """Side and zero change nothing of how far it turned."""
    for theta, zero in ((0.0, 0.0), (2.0, 0.7), (-1.0, 2.5)):
        plant = replace(quiet, sensor="encoder", theta=theta, sensor_zero=zero)
        model = DriveModel(plant)
        model._state[k.OMEGA] = 3.0
        model.advance(1)
        before, began = model.angle, float(model._state[k.THETA])
        model.advance(800)
        turned = float(model._state[k.THETA]) - began
        assert model.angle - before == pytest.approx(turned, abs=2.5 * TAU / plant.encoder_counts)


def test_without_a_sensor_the_angle_is_the_observers(quiet: PlantParameters) -> None:
    plant = replace(quiet, sensor="none")
    model = DriveModel(plant)
    model.firm[k.F_PAIRS] = plant.pole_pairs
    model._state[k.SEEN_THETA] = 2.4
    model.advance(1)
    assert model.angle == pytest.approx(float(model._state[k.SEEN_THETA]) / plant.pole_pairs)
    assert model.angle != 0.0


def test_the_observer_comes_to_the_rotor_as_its_gain_says() -> None:
    """Of a flux that turns evenly: the angle's error falls as two poles at the gain let it."""
    gain, speed, flux, start, Ts = 300.0, 200.0, 0.1, 0.3, 1e-5
    firm, state = np.zeros(k.FIRM_SIZE), np.zeros(k.STATE_SIZE)
    firm[[k.F_OBSERVER, k.F_PSI, k.F_R, k.F_LD, k.F_LQ]] = [gain, flux, 0.5, 2e-3, 3e-3]
    state[[k.SEEN_THETA, k.SEEN_SPEED, k.FLUX_A]] = [-start, speed, flux]
    for n in range(1000):
        t = (n + 0.5) * Ts
        state[k.LATE_ALPHA] = -speed * flux * math.sin(speed * t)
        state[k.LATE_BETA] = speed * flux * math.cos(speed * t)
        observe(firm, state, Ts)
        if n in (100, 300, 999):
            t = (n + 1) * Ts
            error = speed * t - float(state[k.SEEN_THETA])
            # s² + 2g s + g²: at first the error falls, the speed it is followed with lags behind
            assert error == pytest.approx(start * (1.0 - gain * t) * math.exp(-gain * t), abs=0.004)
    assert math.hypot(state[k.FLUX_A], state[k.FLUX_B]) == pytest.approx(flux, rel=0.01)


def test_currents_take_nothing_of_the_flux_that_is_followed() -> None:
    """The voltage holds R i and L di/dt too; a rotor that stands shows no turning."""
    firm, state = np.zeros(k.FIRM_SIZE), np.zeros(k.STATE_SIZE)
    firm[[k.F_OBSERVER, k.F_PSI, k.F_R, k.F_LD, k.F_LQ]] = [300.0, 0.1, 0.5, 2e-3, 3e-3]
    state[[k.FLUX_A, k.FLUX_B]] = [0.1, 3e-3 * 4.0]  # the magnet along α, 4 A along β
    state[[k.M_BETA, k.LATE_BETA]] = [4.0, 0.5 * 4.0]
    for _ in range(500):
        observe(firm, state, 1e-4)
    assert float(state[k.SEEN_THETA]) == pytest.approx(0.0, abs=1e-9)
    assert state[[k.FLUX_A, k.FLUX_B]] == pytest.approx([0.1, 0.012], abs=1e-9)


@pytest.mark.parametrize(("theta", "zero"), [(6.0, 0.5), (12.3, -0.4), (3.0, 1.0)])
def test_no_index_has_passed_when_the_drive_is_switched_on(
    quiet: PlantParameters, theta: float, zero: float
) -> None:
    """It is met where a turn begins, not at the first look."""
    plant = replace(quiet, sensor="encoder", theta=theta, sensor_zero=zero)
    model = DriveModel(plant)
    model.advance(3)
    assert model._state[k.INDEX_AT] == 0.0
    model._state[k.OMEGA] = 60.0
    begun = math.floor((theta - zero) / TAU)
    for _ in range(4000):
        model.advance(1)
        model._state[k.OMEGA] = 60.0
        if math.floor((float(model._state[k.THETA]) - zero) / TAU) > begun:
            break
    model.advance(2)
    assert model._state[k.INDEX_AT] == (begun + 1) * plant.encoder_counts
