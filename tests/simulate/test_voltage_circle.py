"""How the firmware shares out what the bus gives: d first, or both axes in proportion."""

import math

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from tests.simulate.test_cascade import GAINS, TS, columns, drive, rigid

Array = NDArray[np.float64]
FAST = 260.0  # rad/s: the magnet alone takes most of the bus


def voltages(model: DriveModel) -> tuple[Array, Array]:
    v_d, v_q = (one.astype(np.float64) for one in columns(model)[:2])
    return v_d, v_q


def bus(model: DriveModel) -> float:
    return float(model.plant.bus / math.sqrt(3.0))


def held(circle: float) -> DriveModel:
    """A shaft held fast is asked for far more along both axes than the bus can give at once."""
    row = {"SAMPLES": 12.0, "MODE": float(k.MODE_ROTOR), "REF_D": -15.0, "REF_Q": 18.0}
    return drive(rigid(brake=1e3, brake_stuck=True), [row], "vd vq id iq", MAX_CURRENT=90.0,
                 TRIP_CURRENT=90.0, KP_D=40.0, KP_Q=60.0, C_CIRCLE=circle)  # fmt: skip


def test_in_proportion_the_vector_keeps_its_direction_with_d_first_it_does_not() -> None:
    ideal = ((60.0 + TS * GAINS["KI_Q"]) * 18.0, (40.0 + TS * GAINS["KI_D"]) * -15.0)
    v_d, v_q = voltages(held(1.0))
    first = int(np.argmax(np.hypot(v_d, v_q) > 1.0))
    assert v_q[first] / v_d[first] == pytest.approx(ideal[0] / ideal[1], rel=1e-5)
    assert math.hypot(v_d[first], v_q[first]) == pytest.approx(bus(held(0.0)), rel=1e-5)
    v_d, v_q = voltages(held(0.0))
    assert v_d[first] == pytest.approx(-bus(held(0.0)), rel=1e-5)
    assert abs(v_q[first]) < 1e-3 * bus(held(0.0))


def beyond(circle: float) -> tuple[DriveModel, Array, Array, Array]:
    """A fast shaft that cannot be driven harder is asked for more for a while, then for nothing."""
    rows = [{"SAMPLES": 3200.0, "MODE": float(k.MODE_ROTOR), "REF_Q": 15.0},
            {"SAMPLES": 1600.0, "MODE": float(k.MODE_ROTOR)}]  # fmt: skip
    model = drive(rigid(inertia=50.0), rows, "vd vq id iq", begins=FAST,
                  C_CIRCLE=circle)  # fmt: skip
    assert model.trip == 0
    v_d, v_q = voltages(model)
    i_d, i_q = (one.astype(np.float64) for one in columns(model)[2:])
    return model, np.hypot(v_d, v_q), i_d, i_q


@pytest.mark.parametrize(("circle", "left"), [(0.0, 2.0), (1.0, 0.6)])
def test_nothing_is_asked_beyond_the_circle_and_no_sum_winds_up(circle: float, left: float) -> None:
    """With d first what decoupling takes of the circle is not seen by the controllers' limits."""
    model, size, i_d, i_q = beyond(circle)
    assert np.max(size) <= bus(model) * (1.0 + 1e-6)
    assert np.mean(size[400:3200] > 0.999 * bus(model)) > 0.9  # there is no more to be had
    assert np.mean(i_q[2000:3200]) < 14.0
    rest = np.hypot(i_d, i_q)[3200:]
    assert np.max(rest[int(0.02 / TS) :]) < left  # back soon: little was stored
    assert np.max(np.abs(model._state[[k.SUM_D, k.SUM_Q]])) < bus(model)


def test_within_the_circle_both_are_one() -> None:
    row = {"SAMPLES": 400.0, "MODE": float(k.MODE_ROTOR), "REF_D": -1.0, "REF_Q": 2.0}
    still = rigid(brake=1e3, brake_stuck=True)
    plain, shared = (drive(still, [row], "vd vq id iq", C_CIRCLE=circle).trace
                     for circle in (0.0, 1.0))  # fmt: skip
    assert np.array_equal(plain, shared)


def test_a_voltage_that_is_asked_for_touches_no_sum() -> None:
    """Open loop beyond the circle: shortened, and the controllers' sums stay."""
    row = {"SAMPLES": 4.0, "MODE": float(k.MODE_VOLTAGE), "REF_D": 900.0}
    model = drive(rigid(brake=1e3, brake_stuck=True), [row], "vd vq", MAX_CURRENT=90.0,
                  TRIP_CURRENT=90.0, C_CIRCLE=1.0)  # fmt: skip
    v_d, _ = voltages(model)
    assert np.max(v_d) == pytest.approx(bus(model), rel=1e-6)
    assert model._state[k.SUM_D] == model._state[k.SUM_Q] == 0.0
