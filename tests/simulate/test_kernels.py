"""The compiled drive against an independent solver, its own plain source, and its trips."""

import math
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.integrate import solve_ivp

from oarlock.control.single import run_current
from oarlock.drive.contract.trips import TRIPS
from oarlock.practice.truth import draw
from oarlock.simulate import layout as k
from oarlock.simulate.current_controllers import current_pi
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import PlantParameters

TS = 62.5e-6


@pytest.fixture
def ideal(truth: PlantParameters) -> PlantParameters:
    """The winch without noise, offsets, quantisers or dead time, its rotor at angle zero."""
    return replace(
        truth,
        stiffness=0.0,
        inertia=6.9e-3,
        noise=0.0,
        offsets=(0.0, 0.0, 0.0),
        gains=(1.0, 1.0, 1.0),
        dead_voltage=0.0,
        bus_ripple=0.0,
        adc_bits=30,
        theta=0.0,
        encoder_counts=2**30,
        sensor="encoder",
        sensor_zero=0.0,
        runout=0.0,
        Ld_bend=0.0,
        cogging=0.0,
        stiction=1.0,
    )


def row(samples: float, **values: float) -> list[float]:
    made = [0.0] * k.ROW_SIZE
    made[k.SAMPLES], made[k.RECORD] = samples, 1.0
    made[k.RELEASE] = 1.0
    for name, value in values.items():
        made[getattr(k, name)] = value
    return made


def drive(plant: PlantParameters, rows: list[list[float]], **firm: float) -> DriveModel:
    model = DriveModel(plant, seed=3)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [30.0, 400.0, 1e6, 100.0]
    model.firm[k.F_PAIRS] = plant.pole_pairs
    for name, value in firm.items():
        model.firm[getattr(k, name)] = value
    model.load(np.array(rows, dtype=np.float32), tuple(range(1, 9)))
    model.start()
    return model


def test_the_plant_follows_an_independent_solver(ideal: PlantParameters) -> None:
    """A voltage step on a turning machine: RK4 in the kernel against DOP853."""
    plant = replace(ideal, brake=0.0, coulomb=0.0, Lq_saturated=ideal.Lq, inertia=1e6)
    rows = [row(400, WAVE=k.WAVE_STEP, TARGET=k.ON_VQ, AMPLITUDE=20.0)]
    model = drive(plant, rows)
    model._state[k.OMEGA] = model._state[k.SPEED_M] = 40.0
    w = 40.0 * plant.pole_pairs
    measured = []
    for _ in range(400):
        model.advance(1)
        measured.append((model._state[k.I_D], model._state[k.I_Q]))

    def held_angle(t: float) -> float:
        """The voltage computed in period n is applied in n + 1, with 1.5 samples of lead."""
        n = math.floor(t / TS + 1e-9) - 1
        return w * (n * TS + 1.5 * TS)

    def slope(t: float, i: np.ndarray[Any, Any]) -> list[float]:
        if t < TS:
            vd = vq = 0.0
        else:
            turned = held_angle(t) - w * t
            vd, vq = -20.0 * math.sin(turned), 20.0 * math.cos(turned)
        return [
            (vd - plant.R * i[0] + w * plant.Lq * i[1]) / plant.Ld,
            (vq - plant.R * i[1] - w * (plant.Ld * i[0] + plant.psi)) / plant.Lq,
        ]

    state = np.zeros(2)
    worst = 0.0
    for n in range(400):
        span = (n * TS, (n + 1) * TS)
        state = solve_ivp(
            lambda t, i, n=n: slope(min(max(t, n * TS), (n + 1) * TS - 1e-12), i),
            span,
            state,
            method="DOP853",
            rtol=1e-10,
            atol=1e-12,
        ).y[:, -1]
        worst = max(worst, float(np.max(np.abs(state - measured[n]))))
    assert np.max(np.abs(measured)) > 1.0
    assert worst < 2e-3


def test_the_shaft_is_pushed_by_the_current_while_it_rises(ideal: PlantParameters) -> None:
    """A voltage step on a heavy rotor: the speed is the integral of the torque, in closed form."""
    plant = replace(ideal, brake=0.0, coulomb=0.0, cogging=0.0, viscous=0.0, inertia=1e3,
                    Lq_saturated=ideal.Lq)  # fmt: skip
    model = drive(plant, [row(60, WAVE=k.WAVE_STEP, TARGET=k.ON_VQ, AMPLITUDE=20.0)])
    tau = plant.Lq / plant.R
    for n in range(60):
        model.advance(1)
        t = n * TS  # one sample after the command it is applied
        push = 1.5 * plant.pole_pairs * plant.psi * 20.0 / plant.R
        speed = push / plant.inertia * (t - tau * (1.0 - math.exp(-t / tau)))
        if n > 10:  # the torque of one end alone would be off by 1 / n
            assert model._state[k.OMEGA] == pytest.approx(speed, rel=0.004 if n < 30 else 0.001)


UNCOMPILED = """
import sys
import numpy as np
from dataclasses import replace
from oarlock.practice.truth import draw
from tests.simulate.test_kernels import drive, ROWS, GAINS
model = drive(draw("winch", 1), ROWS, **GAINS)
with np.errstate(over="ignore"):
    model.advance(300)
np.save(sys.argv[1], model.trace)
"""
ROWS = [
    row(30, REF_D=3.0, MODE=k.MODE_FIXED, ANGLE=1.0),
    row(30, REF_D=3.0, REF_Q=2.0),
    row(40, MODE=k.MODE_SPEED, REF_W=4.0, ACCELERATION=500.0),
    row(40, MODE=k.MODE_SPEED, REF_W=6.0, ACCELERATION=500.0, JERK_TIME=0.001),
    row(40, MODE=k.MODE_POSITION, REF_W=9.0, ACCELERATION=3000.0, DISTANCE=0.01),
    row(40, MODE=k.MODE_PATH, REF_W=-2.0, DISTANCE=0.02),
    row(80, REF_D=-8.0, REF_Q=25.0),  # beyond the bus
]
GAINS = {
    "KP_D": 20.0, "KI_D": 500.0, "KP_Q": 30.0, "KI_Q": 500.0, "KP_W": 0.3, "KI_W": 3.0,
    "KP_X": 20.0, "X_SPEED": 1.0, "W_EVERY": 4.0, "W_SLOPE": 8.0,
}  # fmt: skip


def test_compiled_and_plain_source_agree_to_the_last_bits(tmp_path: Path) -> None:
    fast = drive(draw("winch", 1), ROWS, **GAINS)
    fast.advance(300)
    environment = {**os.environ, "NUMBA_DISABLE_JIT": "1"}
    command = [sys.executable, "-c", UNCOMPILED, str(tmp_path / "slow.npy")]
    subprocess.run(command, env=environment, check=True, cwd=Path(__file__).parents[2])
    slow = np.load(tmp_path / "slow.npy")
    assert fast.recorded == slow.shape[0] == 300
    assert np.array_equal(fast.trace, slow)
    volts = np.hypot(fast.trace[220:, 5], fast.trace[220:, 6])
    assert volts.max() > 0.999 * 320.0 / math.sqrt(3.0)
    assert fast.trace.std() > 0.1


def test_time_may_pass_in_any_portions(truth: PlantParameters) -> None:
    rows = [row(500, REF_D=4.0, WAVE=k.WAVE_NOISE, TARGET=k.ON_VD, AMPLITUDE=20.0)]
    gains = {"KP_D": 20.0, "KI_D": 500.0, "KP_Q": 30.0, "KI_Q": 500.0}
    whole, parts = drive(truth, rows, **gains), drive(truth, rows, **gains)
    whole.advance(520)
    for portion in (1, 7, 100, 250, 162):
        parts.advance(portion)
    assert np.array_equal(whole.trace, parts.trace)
    assert whole.state == 2


def test_the_dead_time_costs_what_it_should(ideal: PlantParameters) -> None:
    """At 8 A along phase a, all three phases lose V: R i + 4/3 V along the current."""
    plant = replace(ideal, dead_voltage=4.6, dead_knee=0.2)
    rows = [row(16000, REF_D=8.0, MODE=k.MODE_FIXED)]
    model = drive(plant, rows, KP_D=20.0, KI_D=4000.0, KP_Q=20.0, KI_Q=4000.0)
    model.advance(15000)
    vd = float(model.trace[-100:, 5].mean())
    assert vd == pytest.approx(plant.R * 8.0 + 4.0 / 3.0 * 4.6, rel=1e-3)


def test_saturation_lowers_the_incremental_inductance(truth: PlantParameters) -> None:
    slopes = [truth.incremental_Lq(i) for i in (0.0, 5.0, 10.0, 20.0)]
    assert slopes[0] == truth.Lq
    assert slopes == sorted(slopes, reverse=True)
    assert 0.75 < slopes[-1] / slopes[0] < 0.95


def test_the_brake_holds_and_a_free_shaft_turns(ideal: PlantParameters) -> None:
    rows = [row(8000, REF_Q=6.0)]
    gains = {"KP_D": 20.0, "KI_D": 500.0, "KP_Q": 40.0, "KI_Q": 500.0}
    rows[0][k.RELEASE] = 0.0
    held = drive(ideal, rows, **gains)
    held.advance(4000)
    assert held.speed == 0.0
    gains |= {"DECOUPLE": 1.0, "F_LD": ideal.Ld, "F_LQ": ideal.Lq, "F_PSI": ideal.psi}
    free = drive(replace(ideal, brake=0.0), rows, **gains)
    free.advance(4000)
    torque = 1.5 * 4 * ideal.psi * 6.0
    assert free.speed == pytest.approx((torque - ideal.coulomb) / ideal.inertia * 0.25, rel=0.05)


def test_torque_and_speed_references_reach_their_aim(ideal: PlantParameters) -> None:
    plant = replace(ideal, brake=0.0)
    gains = {"KP_D": 20.0, "KI_D": 500.0, "KP_Q": 40.0, "KI_Q": 500.0}
    gains |= {"DECOUPLE": 1.0, "F_LD": ideal.Ld, "F_LQ": ideal.Lq, "F_PSI": ideal.psi}
    per_ampere = 1.5 * 4 * plant.psi
    rows = [row(1600, WAVE=k.WAVE_STEP, TARGET=k.ON_TORQUE, AMPLITUDE=3.0)]
    pushed = drive(plant, rows, TORQUE_TO_CURRENT=1.0 / per_ampere, **gains)
    pushed.advance(1500)
    assert pushed._state[k.I_Q] == pytest.approx(3.0 / per_ampere, rel=0.02)
    rows = [row(16000, MODE=k.MODE_SPEED, REF_W=20.0)]
    turned = drive(plant, rows, KP_W=0.8, KI_W=4.0, **gains)
    turned.advance(15900)
    assert turned.speed == pytest.approx(20.0, rel=0.02)


@pytest.mark.parametrize(
    ("firm", "changes", "trip"),
    [
        ({"TRIP_CURRENT": 3.0}, {}, "over-current"),
        ({"TRIP_VOLTAGE": 400.0}, {}, "under-voltage"),
        ({"MAX_CURRENT": 2.0}, {}, "current above"),
        ({"MAX_SPEED": 1.0}, {"brake": 0.0}, "speed above"),
        ({"MAX_TRAVEL": 0.01}, {"brake": 0.0}, "travel above"),
        ({"MAX_TIME": 0.1}, {}, "time above"),
        ({"TRIP_VOLTAGE": 200.0}, {"sag_at": 0.2, "sag_to": 90.0}, "under-voltage"),
    ],
)
def test_each_limit_switches_off(
    ideal: PlantParameters, firm: dict[str, float], changes: dict[str, float], trip: str
) -> None:
    gains = {"KP_D": 20.0, "KI_D": 500.0, "KP_Q": 40.0, "KI_Q": 500.0}
    plant = replace(ideal, **changes)  # type: ignore[arg-type]
    model = drive(plant, [row(16000, REF_Q=8.0)], **{**gains, **firm})
    model.advance(16000)
    assert TRIPS[model.trip].words.startswith(trip)
    assert not model.is_running
    assert model.current < 1e-6


def test_a_full_recorder_ends_the_run(ideal: PlantParameters) -> None:
    model = drive(ideal, [row(40000)], KP_D=1.0, KI_D=1.0, KP_Q=1.0, KI_Q=1.0)
    model.advance(40000)
    assert TRIPS[model.trip].words == "recorder full"
    assert model.recorded == model.trace.shape[0]


def test_the_recorder_averages_or_samples(truth: PlantParameters) -> None:
    gains = {"KP_D": 20.0, "KI_D": 500.0, "KP_Q": 40.0, "KI_Q": 500.0}
    rows = [row(800, REF_D=5.0)]
    every = drive(truth, rows, **gains)
    mean = drive(truth, rows, DECIMATION=8.0, AVERAGE=1.0, **gains)
    sample = drive(truth, rows, DECIMATION=8.0, **gains)
    for model in (every, mean, sample):
        model.advance(810)
    assert mean.trace == pytest.approx(every.trace.reshape(100, 8, -1).mean(axis=1), abs=1e-4)
    assert np.array_equal(sample.trace, every.trace[::8])


def test_a_de_energised_machine_loses_its_current(ideal: PlantParameters) -> None:
    model = drive(ideal, [row(16000, REF_Q=8.0)], KP_D=20, KI_D=500, KP_Q=40, KI_Q=500)
    model.advance(2000)
    assert model.current > 7.0
    model.stop()
    model.advance(int(0.010 / TS))
    assert model.current == 0.0
    assert model.state == 0


@pytest.mark.parametrize(
    "table", [np.zeros((0, 18)), np.zeros((3, 13)), np.full((2, 18), np.nan), np.zeros((600, 18))]
)
def test_tables_without_sense_are_refused(truth: PlantParameters, table: Any) -> None:
    with pytest.raises(ValueError, match="step table"):
        DriveModel(truth).load(table.astype(np.float32), (0,))


def test_nothing_starts_without_a_table(truth: PlantParameters) -> None:
    model = DriveModel(truth)
    with pytest.raises(ValueError, match="no step table"):
        model.start()
    with pytest.raises(ValueError, match="channels"):
        model.load(np.ones((1, 18), dtype=np.float32), (99,))


@pytest.mark.parametrize("rule", [k.RULE_BACKWARD, k.RULE_FORWARD, k.RULE_TRAPEZOIDAL])
def test_a_current_controller_is_the_written_arithmetic_at_both_limits(rule: int) -> None:
    rng = np.random.default_rng(8)
    # Long enough to one side that it is limited; then the weight holds it there though the error
    # points back.
    asked = np.repeat(np.tile([0.0, -40.0, 0.0, 40.0], 5), 200).astype(np.float32)
    error = np.repeat(np.tile([2.0, -0.2, -2.0, 0.2], 5), 200) + rng.normal(0.0, 0.05, asked.size)
    seen = (asked - error).astype(np.float32)
    firm: NDArray[np.float64] = np.zeros(k.FIRM_SIZE)
    Ts, limit = np.float32(62.5e-6), np.float32(9.0)
    firm[[k.KP_Q, k.KI_Q, k.C_WEIGHT]] = [0.5, 2500.0, float(np.float32(0.8))]
    firm[k.C_RULE] = float(rule)
    total, out = np.float32(0.0), []
    for wanted, y in zip(asked, seen, strict=True):
        u, total = current_pi(
            firm, float(wanted), float(y), k.KP_Q, k.KI_Q, float(total), limit, Ts
        )
        out.append((u, total))
    newest = {k.RULE_BACKWARD: 1.0, k.RULE_FORWARD: 0.0, k.RULE_TRAPEZOIDAL: 0.5}[rule]
    model = run_current(0.5, 2500.0, float(Ts), 9.0, asked, seen, weight=0.8, newest=newest)
    assert np.array_equal(np.array(out, dtype=np.float32).T, np.stack(model))
    for side in (-9.0, 9.0):
        held = model[0] == side
        inward = (asked - seen) * side < 0.0
        assert np.count_nonzero(held & inward) > 20  # limited while the error points back


def test_a_plants_numbers_end_where_those_that_a_run_gives_begin() -> None:
    plant = replace(draw("winch", 0), bus_compensation=True, takes_back=True).packed()
    assert plant.shape == (k.PLANT_SIZE,)
    assert plant[k.PULL_ROWS - 1] == plant[k.TAKES_BACK] == 1.0
    assert plant[k.BUS_MADE_UP] == 1.0
    assert plant[k.HALVES] == draw("winch", 0).halves
    assert not np.any(plant[k.PULL_ROWS :])
