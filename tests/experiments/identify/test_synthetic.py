"""Estimators against records that closed forms and an ODE solver made: no simulator of ours."""

import functools
import math
from typing import Any

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from oarlock.errors import InputError
from oarlock.experiments.identify.flux import estimate_flux
from oarlock.experiments.identify.inductance import _sines
from oarlock.experiments.identify.mechanics_reading import _breakaway, estimate_mechanics
from oarlock.experiments.identify.resonance import _evidence, estimate_resonance
from oarlock.experiments.identify.two_mass import Points, fitted_masses
from oarlock.machine import Axis
from oarlock.quantities import Estimate, Origin
from oarlock.records import Finding, Record


def made(experiment: str, settings: dict[str, Any], **columns: Any) -> Record:
    return Record(
        experiment=experiment,
        sample_time=62.5e-6,
        columns={name: np.asarray(c, dtype=float) for name, c in columns.items()},
        units=dict.fromkeys(columns, ""),
        settings=settings,
    )


def adopting(axis: Axis, **values: float) -> Axis:
    for name, value in values.items():
        path = name.replace("__", ".")
        unit = axis.parameter(path).printed.unit
        axis = axis.adopting(path, Estimate(value=value, std=0.0, unit=unit,
                                            origin=Origin.MEASURED))  # fmt: skip
    return axis


# Flux: algebra, with a dead time that is a ramp with a hard corner, phase by phase


def lost(i_d: float, i_q: float, volts: float, knee: float) -> tuple[float, float]:
    """Return the mean dq voltage of a hard-cornered dead time over a turn."""
    angle = np.linspace(0.0, math.tau, 720, endpoint=False)
    c, s = np.cos(angle), np.sin(angle)
    alpha, beta = i_d * c - i_q * s, i_d * s + i_q * c
    phases = [alpha, -0.5 * alpha + 0.75**0.5 * beta, -0.5 * alpha - 0.75**0.5 * beta]
    a, b, g = (volts * np.clip(p / knee, -1.0, 1.0) for p in phases)
    va, vb = (2 * a - b - g) / 3, (b - g) / math.sqrt(3)
    return float(np.mean(va * c + vb * s)), float(np.mean(vb * c - va * s))


def spin(*, psi: float, zero: float = 0.0, late: float = 0.0, seed: int = 0) -> Record:
    """Return steady holds of a machine with R 0.86, Ld 8.2 mH, Lq 15.5 mH, four pole pairs."""
    rng = np.random.default_rng(seed)
    R, Ld, Lq, p = 0.86, 8.2e-3, 15.5e-3, 4
    rows: dict[str, list[float]] = {n: [] for n in ("t", "theta_m", "id", "iq", "vd", "vq",
                                                    "id_ref")}  # fmt: skip
    speeds, t, theta = [80.0, 160.0], 0.0, 0.0
    for way in (1.0, -1.0):
        for speed in speeds:
            for i_d in (4.0, -4.0, 1.8, -1.8):
                w = way * speed
                i_q = way * (0.3 + 0.0015 * speed)
                # The controlled frame is off by `zero`: currents there, flux in the true frame.
                turn = complex(math.cos(zero), math.sin(zero))
                true = complex(i_d, i_q) * turn
                flux = complex(psi + Ld * true.real, Lq * true.imag) / turn
                dead = complex(*lost(i_d, i_q, 4.6, 0.4))
                v = R * complex(i_d, i_q) + 1j * w * p * flux + dead
                v *= complex(math.cos(w * p * late), math.sin(w * p * late))
                for _ in range(200):
                    t += 1e-3
                    theta += w * 1e-3
                    for name, value, noise in (
                        ("t", t, 0.0), ("theta_m", theta, 4e-4), ("id", i_d, 0.01),
                        ("iq", i_q, 0.01), ("vd", v.real, 0.2), ("vq", v.imag, 0.2),
                        ("id_ref", i_d, 0.0),
                    ):  # fmt: skip
                        rows[name].append(value + noise * rng.normal())
                t += 0.15
    return made("flux", {"speeds": speeds, "holds": 4}, **rows)


@pytest.fixture
def known(axis: Axis) -> Axis:
    return adopting(axis, machine__R=0.86, machine__Ld=8.2e-3, machine__Lq=15.5e-3,
                    inverter__dead_voltage=4.6)  # fmt: skip


def test_a_current_whose_direction_swings_within_its_holds_leaves_the_flux_right(
    known: Axis,
) -> None:
    """A speed controller that hunts: dead time follows the current's direction at each moment."""
    still = spin(psi=0.155, seed=1)
    columns = {name: column.copy() for name, column in still.columns.items()}
    swing = 4.0 * np.sin(math.tau * 25.0 * still["t"])
    w = 4.0 * np.gradient(still["theta_m"], still["t"])
    w = np.where(np.abs(w) < 2e3, w, 0.0)
    w = np.sign(w) * np.where(np.abs(w) > 480.0, 640.0, 320.0)
    for n in range(swing.size):
        before = np.array(lost(still["id"][n], still["iq"][n], 4.6, 0.4))
        after = np.array(lost(still["id"][n], still["iq"][n] + swing[n], 4.6, 0.4))
        columns["iq"][n] += swing[n]
        columns["vd"][n] += after[0] - before[0] - w[n] * 15.5e-3 * swing[n]
        columns["vq"][n] += after[1] - before[1] + 0.86 * swing[n]
    finding = estimate_flux(made("flux", dict(still.settings), **columns), known)
    found = finding.estimates["machine.psi"]
    assert found.value == pytest.approx(0.155, rel=0.004)
    assert abs(found.value - 0.155) < 2.0 * (found.std or 0.0)


def test_flux_by_algebra(known: Axis) -> None:
    for seed in range(4):
        finding = estimate_flux(spin(psi=0.155, seed=seed), known)
        assert finding.holds, finding.failed
        found = finding.estimates["machine.psi"]
        assert abs(found.value / 0.155 - 1.0) < 0.003
        assert abs(found.value - 0.155) < 2.0 * (found.std or 0.0)
        assert finding.extra["Ld while turning"].value == pytest.approx(8.2e-3, rel=0.02)


def test_the_zero_and_a_late_voltage_are_told_apart(known: Axis) -> None:
    off = estimate_flux(spin(psi=0.155, zero=math.radians(1.0)), known)
    # The controlled axis leads by 1°: the zero must grow by as much.
    assert off.extra["zero off by"].value == pytest.approx(math.radians(1.0), abs=2e-3)
    assert "sensor.zero" in off.estimates
    late = estimate_flux(spin(psi=0.155, late=20e-6), known)
    assert abs(late.extra["zero off by"].value) < math.radians(0.1)
    assert abs(late.extra["voltage late by"].value) == pytest.approx(20e-6, rel=0.15)


def test_a_zero_far_off_fails(known: Axis) -> None:
    finding = estimate_flux(spin(psi=0.155, zero=math.radians(8.0)), known)
    assert "zero" in {c.code for c in finding.failed}
    assert "sensor.zero" not in finding.estimates


# Inertia: an ODE with friction by Dahl, solved by DOP853


@functools.cache
def trapezoids(J: float, B: float, Tc: float, TL: float, *, top: float = 120.0) -> Record:
    """Return a run under a torque that a slow speed controller asks for."""
    profile_t = np.array([0, 0.4, 0.7, 0.9, 1.2, 1.4, 1.7, 1.9,
                          2.3, 2.6, 2.8, 3.1, 3.3, 3.6, 3.8, 4.0])  # fmt: skip
    profile_w = top * np.array([0, 1, 1, 0.6, 0.6, 0.25, 0.25, 0,
                                -1, -1, -0.6, -0.6, -0.25, -0.25, 0, 0])  # fmt: skip
    sigma = 40.0 * Tc / 0.02  # N·m/rad, of the bristle

    def torque(t: float, w: float) -> float:
        return 40.0 * J * (float(np.interp(t, profile_t, profile_w)) - w) + TL

    def slope(t: float, x: Any) -> list[float]:
        _, w, bristle = x
        rate = sigma * w * (1.0 - bristle / Tc * np.sign(w)) if w else 0.0
        return [w, (torque(t, w) - B * w - bristle - TL) / J, rate]

    t = np.arange(0.0, 4.0, 5e-4)
    done = solve_ivp(slope, (0.0, 4.0), [0.0, 0.0, 0.0], t_eval=t, method="LSODA",
                     rtol=1e-7, atol=1e-9, max_step=2e-3)  # fmt: skip
    rng = np.random.default_rng(5)
    theta = done.y[0] + rng.normal(0.0, 3e-4, t.size)
    Te = np.array([torque(a, w) for a, w in zip(t, done.y[1], strict=True)])
    return made(
        "inertia", {"speed": top}, t=t, theta_m=theta, torque=Te + rng.normal(0, 0.02, t.size)
    )


@pytest.mark.parametrize(("B", "Tc", "TL"), [(1.5e-3, 0.25, 0.0), (4e-3, 0.1, 0.12)])
def test_inertia_by_an_independent_solver(axis: Axis, B: float, Tc: float, TL: float) -> None:
    finding = estimate_mechanics(trapezoids(6.9e-3, B, Tc, TL), axis)
    e = finding.estimates
    for path, true, share in (
        ("machine.inertia", 6.9e-3, 0.007), ("mechanics.viscous", B, 0.06),
        ("mechanics.coulomb", Tc, 0.02),
    ):  # fmt: skip
        assert abs(e[path].value / true - 1.0) < share, path
        assert abs(e[path].value - true) <= 2.5 * (e[path].std or 0.0), path
    assert e["mechanics.load_torque"].value == pytest.approx(TL, abs=0.004)
    assert "mechanics.breakaway" not in e  # no creeping was asked for


# Resonance: the transfer function itself, with noise and a sensor that is late


def swept(J: float, anti: float, resonance: float, zeta: float, *, noise: float = 2e-5,
          late: float = 0.0) -> Record:  # fmt: skip
    rng = np.random.default_rng(7)
    coarse = np.geomspace(8.0, 400.0, 28)
    peak, dip = resonance / math.tau, anti / math.tau
    fine = [*(dip * (1 + np.array([-0.06, -0.03, 0, 0.03, 0.06]))),
            *(peak * (1 + np.linspace(-0.025, 0.025, 9)))]  # fmt: skip
    frequencies = [*coarse, *fine]
    rows: dict[str, list[Any]] = {"t": [], "theta_m": [], "iq": []}
    start = 0.0
    for f in frequencies:
        w = math.tau * f
        s = 1j * w
        d = 2.0 * zeta / resonance
        gain = (s**2 / anti**2 + d * s + 1) / (J * s * (s**2 / resonance**2 + d * s + 1))
        gain *= np.exp(-s * late)
        t = np.arange(0.0, math.ceil(0.15 * f) / f, 2.5e-4)
        amplitude = 2.5
        torque = 6.0 * 0.16 * amplitude  # Kt of the printed winch
        angle = np.real(gain / s * torque * np.exp(s * t)) + 23.0 * t
        rows["t"].append(start + t)
        rows["theta_m"].append(angle + rng.normal(0, noise, t.size))
        rows["iq"].append(amplitude * np.cos(w * t) + rng.normal(0, 0.01, t.size))
        start += t[-1] + 0.1
    settings = {"frequencies": [float(f) for f in frequencies], "coarse": 28}
    return made("resonance", settings, **{k: np.concatenate(v) for k, v in rows.items()})


def near(finding: Finding, path: str, true: float, share: float) -> None:
    found = finding.estimates[path]
    assert abs(found.value / true - 1.0) < share, path
    assert abs(found.value - true) <= 2.5 * (found.std or 0.0), path


@pytest.mark.parametrize("late", [0.0, 60e-6])
def test_two_masses_by_their_transfer_function(axis: Axis, late: float) -> None:
    psi = axis.machine.psi.value / 0.16  # of the printed winch
    anti, resonance = math.tau * 117.0, math.tau * 211.0
    finding = estimate_resonance(swept(6.9e-3 * psi, anti, resonance, 0.016, late=late), axis)
    assert finding.holds, finding.failed
    near(finding, "mechanics.anti_resonance", anti, 0.01)
    near(finding, "mechanics.resonance", resonance, 0.001)
    assert finding.extra["damping ratio"].value == pytest.approx(0.016, rel=0.1)


def test_too_weak_a_sweep_says_so(axis: Axis) -> None:
    finding = estimate_resonance(
        swept(6.9e-3, math.tau * 117.0, math.tau * 211.0, 0.016, noise=0.5), axis
    )
    assert not finding.estimates
    assert "raise the amplitude" in finding.failed[0].sentence


def test_a_creep_tells_the_torque_at_which_the_shaft_first_moved() -> None:
    """The torque rises by 1 N·m/s; at 0.5 N·m the shaft begins to turn, by 2° a second."""
    t = np.arange(0.0, 1.2, 5e-4)
    torque = np.minimum(t, 1.0)
    theta = np.radians(2.0) * np.maximum(t - 0.5, 0.0)
    record = made("inertia", {"creeps": [0.0], "creep": 1.0}, t=t, theta_m=theta, iq=torque)
    assert _breakaway(record, t, theta, torque) == pytest.approx(0.55, abs=0.02)


def test_a_shaft_that_does_not_twist_is_drawn_as_a_line_that_falls(axis: Axis) -> None:
    """20 dB in a decade, through its points."""
    J, f = 0.02, np.geomspace(5.0, 300.0, 24)
    gain: Any = 1.0 / (1j * math.tau * f * J)
    points = Points(f, gain, np.full(f.size, 1e-3))
    drawn = _evidence(points, None)
    assert np.max(np.abs(drawn.residual)) < 1e-9
    falls = (drawn.fit_y[-1] - drawn.fit_y[0]) / math.log10(drawn.fit_x[-1] / drawn.fit_x[0])
    assert falls == pytest.approx(-20.0)
    assert drawn.fit_y[0] == pytest.approx(-20.0 * math.log10(math.tau * 5.0 * J))


def test_two_masses_whose_angle_comes_late(axis: Axis) -> None:
    """From a torque on one mass to its speed, by the sum of both; the angle 0.2 ms later."""
    J, load, K, d, late = 2e-3, 3e-3, 400.0, 0.02, 2e-4
    f = np.geomspace(5.0, 400.0, 60)
    s = 2j * math.pi * f
    spring = K + d * s
    gain: Any = (load * s**2 + spring) / (s * (J * load * s**2 + (J + load) * spring))
    found = fitted_masses(Points(f, gain * np.exp(-s * late), np.full(f.size, 1e-3)), axis)
    assert found.J / (J + load) == pytest.approx(1.0, rel=1e-4)
    assert found.anti == pytest.approx(math.sqrt(K / load), rel=1e-4)
    assert found.resonance == pytest.approx(math.sqrt(K * (1.0 / J + 1.0 / load)), rel=1e-4)
    assert found.d == pytest.approx(d / K, rel=1e-3)
    assert found.late == pytest.approx(late, rel=1e-3)


@pytest.mark.parametrize("wrong", [{"axis_name": "x"}, {"axis_name": 3}, {"segments": []}])
def test_sines_that_name_no_axis_or_no_segments_are_refused(
    axis: Axis, wrong: dict[str, Any]
) -> None:
    settings = {"axis_name": "d", "segments": [{"rows": 4.0, "frequency": 100.0}], **wrong}
    record = made("inductance_d", settings, t=np.arange(4) * 1e-4, id=np.ones(4), vd=np.ones(4))
    with pytest.raises(InputError, match="no segments are named"):
        _sines(record, axis)
