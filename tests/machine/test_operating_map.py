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
