"""The switching bridge against edges worked out here, an independent solver, and plain diodes."""

import math
import os
import subprocess
import sys
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.integrate import solve_ivp

from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.switching import _poles

Array = NDArray[np.float64]
TS, BUS = 50e-6, 310.0
FAST = 2.0 * math.pi * 500.0  # rad/s, electrical


def plant(**changes: Any) -> PlantParameters:
    """A machine with 20 A and 500 Hz in reach, its speed held by its inertia."""
    made = PlantParameters(
        R=0.4, Ld=1.2e-3, Lq=1.9e-3, Lq_saturated=1.9e-3, i_saturation=1e3, psi=0.03,
        pole_pairs=4, inertia=1e6, viscous=0.0, coulomb=0.0, brake=0.0, dead_voltage=0.0,
        dead_knee=0.1, bus=BUS, bus_ripple=0.0, full_scale=60.0, adc_bits=30, noise=0.0,
        offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=2**30, Ts=TS,
        modulation=Modulation.SPACE_VECTOR,
    )  # fmt: skip
    if "modulation" in changes:
        changes["modulation"] = Modulation(changes["modulation"])
    return replace(made, **changes)


def drive(made: PlantParameters, *, speed: float = 0.0, channels: tuple[int, ...] = (4, 5),
          **row: float) -> DriveModel:  # fmt: skip
    """Return a drive that has just begun to play one row, its shaft turning already."""
    model = DriveModel(made, seed=1)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [50.0, 1e4, 1e6, 100.0]
    model.firm[[k.F_PAIRS, k.KP_D, k.KP_Q, k.KI_D, k.KI_Q]] = [4.0, 3.0, 4.0, 1000.0, 1000.0]
    model.firm[[k.DECOUPLE, k.F_LD, k.F_LQ, k.F_PSI]] = [1.0, made.Ld, made.Lq, made.psi]
    table = np.zeros((1, k.ROW_SIZE), dtype=np.float32)
    table[0, [k.SAMPLES, k.RECORD, k.RELEASE]] = 1e6, 1.0, 1.0
    for name, value in row.items():
        table[0, getattr(k, name)] = value
    model.load(table, channels)
    model._state[k.OMEGA] = speed / 4.0
    model.start()
    model._state[k.SPEED_M] = speed / 4.0
    return model


def duties(volts: tuple[float, float], kind: str) -> list[float]:
    """Return the share of the period for which each leg is up."""
    alpha, beta = volts
    phases = [alpha * math.cos(n * math.tau / 3.0) + beta * math.sin(n * math.tau / 3.0)
              for n in range(3)]  # fmt: skip
    most = max(phases, key=abs)
    shift = {"sine": 0.0, "space vector": -(max(phases) + min(phases)) / 2.0,
             "discontinuous": math.copysign(BUS / 2.0, most) - most}[kind]  # fmt: skip
    return [0.5 + (v + shift) / BUS for v in phases]


def stretches(volts: tuple[float, float], kind: str) -> list[tuple[float, float, complex]]:
    """Return (begin, end, vector of the voltage) over one period, centred in it."""
    on = duties(volts, kind)
    marks = sorted({0.0, TS, *(0.5 * TS * (1 + side * d) for d in on for side in (-1, 1))})
    found = []
    for a, b in pairwise(marks):
        middle = 0.5 * (a + b)
        up = [abs(middle - 0.5 * TS) < 0.5 * TS * d for d in on]
        vector = sum(2.0 / 3.0 * BUS * high * np.exp(1j * n * math.tau / 3.0)
                     for n, high in enumerate(up))  # fmt: skip
        found.append((a, b, complex(vector)))
    return found


@pytest.mark.parametrize("kind", ["space vector", "sine", "discontinuous"])
def test_it_follows_an_independent_solver_from_edge_to_edge(kind: str) -> None:
    """20 A at 500 Hz electrical, no dead time: DOP853 at 1e-11 over edges found here."""
    made = plant(modulation=kind)
    reference = 12.0 if kind == "sine" else 20.0  # sine has 15.5 % less voltage
    model = drive(made, speed=FAST, REF_Q=reference)
    model.advance(200)
    start = model._state[k.THETA] * 4.0
    i, worst, most = model._state[[k.I_D, k.I_Q]], 0.0, 0.0
    for n in range(40):
        volts = (float(model._state[k.V_ALPHA]), float(model._state[k.V_BETA]))
        begun = start + n * FAST * TS
        for a, b, vector in stretches(volts, kind):

            def slope(t: float, x: Array, vector: complex = vector, begun: float = begun) -> Array:
                v = vector * np.exp(-1j * (begun + FAST * t))
                return np.array([
                    (v.real - made.R * x[0] + FAST * made.Lq * x[1]) / made.Ld,
                    (v.imag - made.R * x[1] - FAST * (made.Ld * x[0] + made.psi)) / made.Lq,
                ])  # fmt: skip

            i = solve_ivp(slope, (a, b), i, method="DOP853", rtol=1e-11, atol=1e-12).y[:, -1]
        model.advance(1)
        worst = max(worst, abs(i[1] - model._state[k.I_Q]), abs(i[0] - model._state[k.I_D]))
        most = max(most, abs(i[1]))
    assert most > 0.95 * reference
    assert worst < 1e-5


def gates(made: PlantParameters, volts: tuple[float, float], t: Array) -> tuple[Array, Array]:
    """Return what each leg is told at each time, and whether it still waits; (3, n) each."""
    on, within = duties(volts, "space vector"), np.abs(t % TS - 0.5 * TS)
    told = np.array([within < 0.5 * TS * d for d in on])
    changed = np.full(told.shape, -1e9)
    for n in range(3):
        for j in np.flatnonzero(np.diff(told[n], prepend=told[n][0])):
            changed[n, j:] = t[j]
    return told, t[np.newaxis] - changed < made.dead_time


def diodes(made: PlantParameters, volts: tuple[float, float], periods: int) -> tuple[Array, Array]:
    """Return (t, phase currents (n, 3)) of a standing, round machine: gates and diodes by hand.

    Each leg is stepped on a grid of 2 ns: told, waiting for its dead time, its current in a diode.
    """
    step = 2e-9
    t: Array = np.linspace(0.5 * step, periods * TS - 0.5 * step, round(periods * TS / step))
    told, free = gates(made, volts, t)
    i, kept = np.zeros(3), np.zeros((t.size, 3))
    for j in range(t.size):
        waits = [n for n in range(3) if free[n, j]]
        loose = [n for n in waits if abs(i[n]) <= 1e-12]
        if len(loose) > 1:  # no way for any current: nothing turns here
            continue
        pole = [BUS if told[n, j] else 0.0 for n in range(3)]
        for n in waits:
            pole[n] = 0.0 if i[n] > 0.0 else BUS
        for n in loose:  # without current it lies where the others put it
            pole[n] = sum(pole[m] for m in range(3) if m != n) / 2.0
        new = i + step / made.Ld * (np.array(pole) - sum(pole) / 3.0 - made.R * i)
        for n in waits:
            if i[n] * new[n] < 0.0 or n in loose:
                one, two = (m for m in range(3) if m != n)
                half = (new[one] - new[two]) / 2.0
                new[n], new[one], new[two] = 0.0, half, -half
        i = kept[j] = new
    return np.asarray(t + 0.5 * step, dtype=np.float64), kept


@pytest.mark.parametrize("volts", [(24.0, 5.0), (3.0, -17.0), (9.0, 0.0)])
def test_dead_time_and_diodes_are_those_of_a_bridge_stepped_by_hand(
    volts: tuple[float, float],
) -> None:
    """A small voltage, so that currents come to zero within the dead time and stay there."""
    made = plant(Lq=1.2e-3, Lq_saturated=1.2e-3, psi=0.0, dead_time=1.5e-6)
    model = drive(made, MODE=k.MODE_VOLTAGE, REF_D=0.0)
    model.advance(1)
    model._state[[k.I_D, k.I_Q, k.SUM_D, k.SUM_Q]] = 0.0
    model._state[k.LEG_UP : k.FALLING + 1] = 0.0
    model.firm[[k.KP_D, k.KP_Q, k.KI_D, k.KI_Q]] = 0.0
    model.mark_edges(600)
    begun = model.clock
    for _ in range(3):
        model._state[[k.V_ALPHA, k.V_BETA]] = volts
        model.advance(1)
    t, kept = diodes(made, volts, 3)
    edges = model.edges
    assert 24 < edges.shape[0] < 100
    for n in range(3):
        by_hand = np.interp(edges[:, 0] - begun, t, kept[:, n])
        assert np.max(np.abs(by_hand - edges[:, 1 + n])) < 4e-3
    lost_all = volts == (9.0, 0.0)  # less than the dead time takes
    assert (np.abs(kept).max() < 1e-9) if lost_all else (np.abs(kept).max() > 0.3)
    rests = np.any(np.abs(edges[6:, 1:4]) < 1e-9, axis=1)
    assert np.count_nonzero(rests) > 1  # it stayed without current


def test_the_dead_time_costs_what_it_should() -> None:
    """At 8 A along phase a, all three legs lose Vdc td f against their currents."""
    model = drive(plant(dead_time=1e-6), channels=(6,), REF_D=8.0, MODE=k.MODE_FIXED)
    model.advance(8000)
    lost = BUS * 1e-6 / TS
    assert float(model.trace[-100:].mean()) == pytest.approx(0.4 * 8.0 + 4.0 / 3.0 * lost, rel=2e-3)


def test_its_mean_is_what_the_averaged_bridge_does() -> None:
    """Between samples it ripples; at the samples both are the same within a small part of that."""
    both = [drive(plant(modulation=kind), speed=FAST / 4.0, REF_Q=10.0)
            for kind in ("averaged", "space vector")]  # fmt: skip
    for model in both:
        model.advance(1000)
    averaged, switched = (model.trace[200:].astype(np.float64) for model in both)
    swing = both[1].reach(200, 800)
    ripple = float((swing[:, k.Q_MOST] - swing[:, k.Q_LEAST]).max())
    assert ripple > 0.2
    assert np.max(np.abs(averaged - switched)) < 0.12 * ripple


def test_the_ripple_is_told_as_its_stretches_have_it() -> None:
    model = drive(plant(dead_time=1e-6), speed=FAST / 4.0, REF_Q=10.0)
    model.advance(300)
    model.mark_edges(60)
    begun, first = model.clock, model._state[[k.I_D, k.I_Q]]
    theta = model._state[k.THETA] * 4.0
    model.advance(1)
    edges = model.edges
    currents = np.vstack([np.zeros(3), edges[:, 1:4]])
    currents[0] = [first[0] * math.cos(theta - n * math.tau / 3)
                   - first[1] * math.sin(theta - n * math.tau / 3) for n in range(3)]  # fmt: skip
    at = np.concatenate([[0.0], edges[:, 0] - begun])
    fine = np.linspace(0.0, TS, 20001)
    seen = np.array([np.interp(fine, at, currents[:, n]) for n in range(3)])
    line = currents[0][:, None] + (currents[-1] - currents[0])[:, None] * fine / TS
    beside = 2.0 / 3.0 * np.sum((seen - line) ** 2, axis=0)  # of the vector
    told = model.reach(model.recorded - 1, 1)[0]
    assert told[k.RIPPLE] == pytest.approx(np.trapezoid(beside, fine) / TS, rel=1e-4)
    sizes = np.hypot(*_turned(currents, theta + FAST / 4.0 * at))
    assert told[k.SIZE_MOST] == pytest.approx(sizes[1:].max(), rel=1e-6)


def _turned(currents: Array, theta: Array) -> tuple[Array, Array]:
    vector = 2.0 / 3.0 * sum(currents[:, n] * np.exp(1j * n * math.tau / 3) for n in range(3))
    rotor = vector * np.exp(-1j * theta)
    return rotor.real, rotor.imag


def test_a_leg_of_discontinuous_modulation_rests_a_third_of_the_time() -> None:
    changes = {}
    for kind in ("space vector", "discontinuous"):
        model = drive(plant(modulation=kind), speed=FAST, REF_Q=12.0)
        model.advance(100)
        model.mark_edges(5000)
        model.advance(400)  # ten turns of the field
        poles = model.edges[:, 4:]
        changes[kind] = int(np.count_nonzero(np.diff(poles, axis=0)))
    assert changes["space vector"] == pytest.approx(2400, abs=8)
    # Four in each of 400 periods, and one more leg where another one begins to rest.
    assert changes["discontinuous"] == pytest.approx(1600 + 60, abs=8)


def test_the_carrier_may_be_slower_or_faster_than_the_control() -> None:
    """Control at both of the carrier's ends, at one, every second one: the ripple goes with it."""
    found = {}
    for halves in (1, 2, 4):
        model = drive(plant(halves=halves), speed=FAST / 4.0, REF_Q=10.0)
        model.advance(1000)
        assert float(model.trace[-200:, 1].mean()) == pytest.approx(10.0, abs=0.05)
        swing = model.reach(500, 400)
        found[halves] = float(np.mean(swing[:, k.Q_MOST] - swing[:, k.Q_LEAST]))
    assert found[1] == pytest.approx(2.0 * found[2], rel=0.03)
    assert found[4] == pytest.approx(0.5 * found[2], rel=0.03)


def test_time_may_pass_in_any_portions_and_be_gone_back_in() -> None:
    made = plant(dead_time=1e-6, noise=0.01)
    whole, parts = (drive(made, speed=FAST / 4.0, REF_Q=6.0) for _ in range(2))
    whole.advance(700)
    for portion in (1, 99, 250):
        parts.advance(portion)
    kept = parts.remembered()
    parts.advance(120)
    parts.go_back(kept)
    parts.advance(350)
    assert np.array_equal(whole.trace, parts.trace)
    assert np.array_equal(whole.reach(0, 700), parts.reach(0, 700))


UNCOMPILED = """
import sys
import numpy as np
from tests.simulate.test_switching import FAST, drive, plant
model = drive(plant(dead_time=1e-6), speed=FAST / 4.0, REF_Q=6.0)
with np.errstate(over="ignore"):
    model.advance(40)
np.save(sys.argv[1], np.column_stack([model.trace, model.reach(0, model.recorded)]))
"""


def test_compiled_and_plain_source_agree_to_the_last_bits(tmp_path: Path) -> None:
    fast = drive(plant(dead_time=1e-6), speed=FAST / 4.0, REF_Q=6.0)
    fast.advance(40)
    command = [sys.executable, "-c", UNCOMPILED, str(tmp_path / "slow.npy")]
    subprocess.run(command, env={**os.environ, "NUMBA_DISABLE_JIT": "1"}, check=True,
                   cwd=Path(__file__).parents[2])  # fmt: skip
    slow = np.load(tmp_path / "slow.npy")
    ours = np.column_stack([fast.trace, fast.reach(0, fast.recorded)])
    assert np.allclose(ours, slow, rtol=0, atol=1e-5)
    assert ours.std() > 0.1


@settings(max_examples=40)
@given(
    inductance=st.floats(math.log(5e-6), math.log(50e-3)).map(math.exp),
    saliency=st.floats(0.5, 3.0),
    tau=st.floats(1e-3, 0.03),
    turning=st.floats(-0.4, 0.4),
    share=st.floats(0.02, 0.8),
    dead=st.sampled_from([0.0, 0.005, 0.04]),
    kind=st.sampled_from(["space vector", "sine", "discontinuous"]),
    halves=st.sampled_from([1, 2, 3, 4]),
)
def test_any_machine_under_any_bridge(
    inductance: float, saliency: float, tau: float, turning: float, share: float, dead: float,
    kind: str, halves: int,
) -> None:  # fmt: skip
    """A held voltage: finite, within the rails, no current lost; without dead time as averaged."""
    w, R = turning / TS, inductance / tau
    Lq = saliency * inductance
    most = 0.5 * BUS / math.hypot(R, w * Lq)
    made = plant(R=R, Ld=inductance, Lq=Lq, Lq_saturated=Lq, psi=0.1 * BUS / max(abs(w), 100.0),
                 full_scale=1e3 * most, modulation=kind, halves=halves,
                 dead_time=dead * TS / halves)  # fmt: skip
    both = [drive(made, speed=w), drive(replace(made, modulation=Modulation.AVERAGED), speed=w)]
    volts = share * BUS / (2.0 if kind == "sine" else math.sqrt(3.0))
    both[0].mark_edges(64 * 30)
    for model in both:
        model.firm[[k.KP_D, k.KP_Q, k.KI_D, k.KI_Q, k.DECOUPLE]] = 0.0
        model.firm[[k.MAX_CURRENT, k.MAX_SPEED, k.TRIP_CURRENT]] = 1e12
        model._state[[k.I_D, k.I_Q]] = 0.0
        for n in range(30):
            at = w * (n + 0.5) * TS
            model._state[[k.V_ALPHA, k.V_BETA]] = volts * math.cos(at), volts * math.sin(at)
            model.advance(1)
    edges = both[0].edges
    assert np.all(np.isfinite(edges))
    assert np.all(np.diff(edges[:, 0]) > 0.0)
    assert edges[-1, 0] == pytest.approx(both[0].clock, abs=1e-12)  # no time is lost
    size = float(np.abs(edges[:, 1:4]).max())
    assert np.max(np.abs(edges[:, 1:4].sum(axis=1))) < 1e-9 * max(size, 1.0)
    assert edges[:, 4:].min() >= 0.0
    assert edges[:, 4:].max() <= BUS
    if dead == 0.0:
        apart = np.array(both[0].phase_currents) - np.array(both[1].phase_currents)
        swing = BUS * TS / halves / min(inductance, Lq)
        assert np.max(np.abs(apart)) < 0.15 * swing * (2 if halves % 2 else 1)


def test_two_legs_without_current_lie_where_the_magnet_puts_them() -> None:
    """Leg a is up, b and c wait: each is at the bus, and the difference of what is induced."""
    w, theta, numbers = 2000.0, -1.4, plant().packed()
    state, bridge = np.zeros(k.STATE_SIZE), np.zeros(k.BRIDGE_SIZE)
    state[[k.V_BUS, k.LEG_UP, k.LEG_DEAD + 1, k.LEG_DEAD + 2]] = BUS, 1.0, 1e-6, 1e-6
    held = _poles(numbers, state, bridge, 0.4, 0.03, w, math.cos(theta), math.sin(theta))
    induced = [-w * 0.03 * math.sin(theta - n * math.tau / 3.0) for n in range(3)]
    assert held == 0b110
    for n in range(3):
        assert bridge[k.POLE + n] == pytest.approx(BUS + induced[n] - induced[0], abs=1e-4)
