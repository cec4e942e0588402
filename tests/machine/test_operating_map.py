"""The operating map against closed forms and a brute-force search."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.machine import Axis
from oarlock.machine.operating_map import Limits, ellipse, envelope, limits_of, mtpa, rpm


@pytest.fixture
def limits(axis: Axis) -> Limits:
    return limits_of(axis)


def test_most_torque_per_ampere_matches_its_closed_form(limits: Limits) -> None:
    i_d, i_q = mtpa(limits, 50)
    a = limits.psi / (2.0 * (limits.Lq - limits.Ld))
    assert i_d == pytest.approx(a - np.sqrt(a * a + i_q**2), abs=1e-9)  # Morimoto et al. 1990
    assert np.hypot(i_d, i_q) == pytest.approx(np.linspace(0.0, limits.i_max, 50))


def test_without_saliency_all_current_is_torque(limits: Limits) -> None:
    i_d, i_q = mtpa(replace(limits, Lq=limits.Ld))
    assert np.all(i_d == 0.0)
    assert i_q[-1] == limits.i_max


def test_the_ellipse_lies_on_the_voltage_limit(limits: Limits) -> None:
    for omega in (50.0, 150.0, 400.0):
        i_d, i_q = ellipse(limits, omega)
        assert limits.voltage(i_d, i_q, np.array(omega)) == pytest.approx(limits.v_max)


@pytest.mark.parametrize("speed", [0.0, 120.0, 160.0, 251.3, 400.0])
def test_the_envelope_is_the_best_of_all_allowed_currents(limits: Limits, speed: float) -> None:
    found = envelope(limits)
    radius, angle = np.meshgrid(np.linspace(0, limits.i_max, 400), np.linspace(0, np.pi, 900))
    i_d, i_q = radius * np.cos(angle), radius * np.sin(angle)
    allowed = limits.voltage(i_d, i_q, np.array(speed)) <= limits.v_max
    best = float(np.max(np.where(allowed, limits.torque(i_d, i_q), -np.inf)))
    torque, at_d, at_q = found.at(speed)
    assert torque == pytest.approx(best, rel=4e-3)
    assert math.hypot(at_d, at_q) <= limits.i_max * 1.001


def test_the_base_speed_is_where_the_bus_begins_to_bind(limits: Limits) -> None:
    found = envelope(limits)
    below = found.torque[found.omega < 0.99 * found.base_speed]
    above = found.torque[found.omega > 1.05 * found.base_speed]
    assert below == pytest.approx(below[0])
    assert np.all(np.diff(above) < 0)
    assert 1300 < rpm(found.base_speed) < 1450


def test_a_generous_bus_never_binds(limits: Limits) -> None:
    found = envelope(replace(limits, v_max=2000.0))
    assert found.base_speed == pytest.approx(limits.omega_max)
    assert found.power[-1] == pytest.approx(found.torque[0] * limits.omega_max, rel=1e-3)


def test_torque_ends_where_the_characteristic_current_lies_outside(limits: Limits) -> None:
    strong = replace(limits, psi=0.4, v_max=100.0)  # psi/Ld = 50 A, beyond the circle
    found = envelope(strong)
    assert found.torque[-1] == 0.0
    assert found.torque[0] > 0.0


def test_torque_voltage_and_corner_by_hand(axis: Axis) -> None:
    # The winch as printed: 0.82 ohm, 8 and 17 mH, 160 mWb, 4 pole pairs, 320 V.
    limits = limits_of(axis)
    i_d, i_q = np.array([-5.0]), np.array([8.0])
    flux_d, flux_q = limits.psi - 5.0 * 8e-3, 8.0 * 17e-3
    cross = 1.5 * 4 * (flux_d * 8.0 - flux_q * -5.0)  # flux times current, across
    assert limits.torque(i_d, i_q)[0] == pytest.approx(cross)
    omega = 4 * 100.0
    v_d, v_q = 0.82 * -5.0 - omega * flux_q, 0.82 * 8.0 + omega * flux_d
    assert limits.voltage(i_d, i_q, np.array([100.0]))[0] == pytest.approx(math.hypot(v_d, v_q))
    assert limits.v_max == pytest.approx(320 / math.sqrt(3))
    assert limits.i_max == pytest.approx(14.1 * math.sqrt(2))
    assert limits.omega_max == pytest.approx(4000 * math.tau / 60)


@pytest.mark.parametrize("saliency", [1.3, 2.1, 0.8])
def test_most_torque_per_ampere_beats_its_neighbours(limits: Limits, saliency: float) -> None:
    machine = replace(limits, Lq=saliency * limits.Ld)
    i_d, i_q = mtpa(machine, 7)
    for d, q in zip(i_d[1:], i_q[1:], strict=True):
        size, angle = math.hypot(d, q), math.atan2(q, d)
        here = machine.torque(np.array(d), np.array(q))
        for off in (-0.02, 0.02):
            other = size * np.array([math.cos(angle + off), math.sin(angle + off)])
            assert machine.torque(other[0], other[1]) < here


def test_close_to_no_saliency_is_none(limits: Limits) -> None:
    slight = mtpa(replace(limits, Lq=limits.Ld * (1 + 3e-4)))[0]
    assert -0.05 < slight[-1] < 0.0
    assert np.all(mtpa(replace(limits, Lq=limits.Ld * (1 + 0.5e-4)))[0] == 0.0)


def test_a_border_of_voltage_holds_to_a_billionth(limits: Limits) -> None:
    found = envelope(limits)
    bound = found.omega > 1.02 * found.base_speed
    v = limits.voltage(found.i_d[bound], found.i_q[bound], found.omega[bound])
    assert np.all(v <= limits.v_max * (1 + 1e-6))
    assert np.all(v >= limits.v_max * (1 - 1e-3))  # all of the bus is used
    assert found.torque == pytest.approx(limits.torque(found.i_d, found.i_q), rel=1e-6)


def test_with_much_field_weakening_the_ellipse_alone_binds(limits: Limits) -> None:
    weak = replace(limits, psi=0.05, omega_max=2000.0)  # psi/Ld lies well inside the circle
    found = envelope(weak)
    fast = found.omega > 0.8 * found.omega[-1]
    size = np.hypot(found.i_d[fast], found.i_q[fast])
    assert np.all(size < 0.98 * weak.i_max)
    for at in np.flatnonzero(fast)[::8]:
        grid_d, grid_q = np.meshgrid(np.linspace(-weak.i_max, 0, 900),
                                     np.linspace(0, weak.i_max, 900))  # fmt: skip
        allowed = (weak.voltage(grid_d, grid_q, np.array(found.omega[at])) <= weak.v_max) & (
            np.hypot(grid_d, grid_q) <= weak.i_max
        )
        best = np.max(np.where(allowed, weak.torque(grid_d, grid_q), -np.inf))
        assert found.torque[at] == pytest.approx(float(best), rel=5e-3)
