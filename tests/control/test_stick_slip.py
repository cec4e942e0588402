"""Sticking and slipping about a target: bounded as a drive whose shaft sticks shows it."""

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.control.position import PositionLoop
from oarlock.control.position_design import breaking_away, design_position
from oarlock.control.speed_design import usual_speed
from oarlock.machine import Axis
from oarlock.machine.parameter import Parameter
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.views.speed import designed
from oarlock.views.speed_asked import aimed
from tests.simulate.test_cascade import GAINS, rigid
from tests.speed_axis import tuned_winch

J, FAR = 6e-3, 0.3


@pytest.fixture(scope="module")
def axis() -> Axis:
    made = tuned_winch(replace(draw("winch", 0), stiffness=0.0, inertia=J, load_inertia=0.0))
    bare = replace(made, loops=made.loops.having(KEY, replace(made.loops[KEY], filters=())))
    return bare.with_loop_gains(KEY, designed(bare, aimed("even"), usual_speed(bare)))


def held(axis: Axis, loop: PositionLoop, coulomb: float, stiction: float) -> NDArray[np.float64]:
    """Return how far (rad) the shaft is off each ms, long after a move of 0.3 rad."""
    plant = rigid(coulomb=coulomb, stiction=stiction)
    model = DriveModel(plant, seed=1)
    constant = 1.5 * plant.pole_pairs * plant.psi
    g = loop.speed.gains
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [20.0, 400.0, 1e3, 100.0]
    firm = {
        **GAINS, "F_PAIRS": plant.pole_pairs, "F_LD": plant.Ld, "F_LQ": plant.Lq,
        "F_PSI": plant.psi, "TORQUE_TO_CURRENT": 1.0 / constant, "DECOUPLE": 1.0, "KP_W": g.Kp,
        "KI_W": g.Ki, "W_LAG": 0.0, "W_EVERY": axis.inverter.divider,
        "W_SLOPE": axis.inverter.slope, "KP_X": loop.gains.Kp, "X_SPEED": 1.0,
        "W_ACCELERATION": J / constant,
    }  # fmt: skip
    for name, value in firm.items():
        model.firm[getattr(k, name)] = np.float32(value)
    table = np.zeros((2, k.ROW_SIZE), dtype=np.float32)
    move = [k.SAMPLES, k.MODE, k.DISTANCE, k.REF_W, k.ACCELERATION, k.JERK_TIME, k.RELEASE]
    table[0, move] = [16000, k.MODE_POSITION, FAR, 3.0, 60.0, 0.01, 1.0]
    table[1, move] = [16000 * 8, k.MODE_POSITION, 0.0, 0.0, 0.0, 0.0, 1.0]
    model.load(table, (0,))
    model.start()
    off = []
    for _ in range(1000 * 8):
        model.advance(16)
        off.append(float(model._state[k.THETA]) - FAR)
    return np.array(off[3000:])


@pytest.mark.parametrize(("coulomb", "stiction"), [(0.26, 1.15), (0.6, 1.6), (1.0, 2.0)])
def test_a_shaft_that_sticks_slips_to_and_fro_within_the_bound(
    axis: Axis, coulomb: float, stiction: float
) -> None:
    loop, constant = design_position(axis), axis.machine.torque_constant
    bound = loop.slip((stiction - 1.0) * coulomb / constant)
    off = held(axis, loop, coulomb, stiction)
    assert np.count_nonzero(np.diff(np.sign(off))) >= 6  # it hunts
    worst = float(np.max(np.abs(off)))
    assert 0.5 * bound < worst <= bound


def test_a_shaft_that_breaks_away_as_it_turns_or_has_no_integral_does_not_slip(axis: Axis) -> None:
    loop = design_position(axis)
    assert float(np.ptp(held(axis, loop, 0.6, 1.0))) < 1e-5
    assert loop.slip(0.0) == 0.0
    gains = axis.loops[KEY].gains
    assert isinstance(gains, SpeedGains)
    alone = design_position(axis.with_loop_gains(KEY, replace(gains, Ki=0.0)))
    assert alone.slip(0.5) == 0.0
    assert float(np.ptp(held(axis, alone, 0.6, 1.6))) < 1e-5


def test_what_is_identified_decides_with_its_doubt(axis: Axis) -> None:
    assert breaking_away(axis) == 0.0
    for path, value in (("mechanics.coulomb", 0.5), ("mechanics.breakaway", 0.7)):
        found = Estimate(value=value, std=0.05, unit="N m", origin=Origin.MEASURED)
        axis = axis.with_parameter(path, Parameter(printed=found, adopted=found))
    more = 0.7 + 2.0 * 0.05 - 0.5
    assert breaking_away(axis) == pytest.approx(more / axis.machine.torque_constant)
    assert math.isfinite(design_position(axis).slip(breaking_away(axis)))
