"""What the speed controller sees, against time stepping that shares nothing with it."""

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.integrate import solve_ivp

from oarlock.control.current import CurrentLoop, Plant, pi_for
from oarlock.control.filters import section
from oarlock.control.limited import Room, limited_step
from oarlock.control.shaft import Shaft, shaft_of
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
TS = 62.5e-6
WINDING = Plant(R=0.86, L=15.6e-3, Ts=TS)
CURRENT = CurrentLoop(WINDING, pi_for(WINDING, math.tau * 849.0))
TWISTING = Shaft(motor=2.1e-3, load=4.8e-3, stiffness=2594.0, damping=0.058, viscous=1.5e-3)
RIGID = Shaft(motor=1.1e-3, viscous=2.5e-4)
NOTCH = Filter(path="torque", kind=FilterKind.NOTCH, frequency=math.tau * 205.0, depth=0.05)


def _plant(shaft: Shaft, measuring: Measuring, *filters: Filter) -> SpeedPlant:
    return SpeedPlant(
        shaft=shaft, current=CURRENT, torque_constant=0.96, back_emf=0.64, measuring=measuring,
        torque_filters=tuple(section(one, TS) for one in filters),
    )  # fmt: skip


WIDE = Room(current=1e9, volts=1e9, volts_down=1e9)


def _cut(
    asked: float, span: tuple[float, float], error: float, before: float, after: float
) -> tuple[float, float]:
    """Return a controller's output within its span, and its integral."""
    if span[0] <= asked <= span[1]:
        return asked, after
    return min(max(asked, span[0]), span[1]), before if error * asked > 0.0 else after


def stepped(
    loop: SpeedLoop, samples: int, reference: float, load: float, room: Room = WIDE
) -> Array:
    """Return the measured speed at the controller's samples, integrated and sampled by hand.

    A controller whose output is cut keeps its integral, unless the error moves it back.
    """
    plant, shaft = loop.plant, loop.plant.shaft
    N, measuring = plant.measuring.divider, plant.measuring
    R, L, Kt, Ke = WINDING.R, WINDING.L, plant.torque_constant, plant.back_emf

    def slope(_t: float, x: Array, volts: float) -> list[float]:
        i, w, _angle, twist, far = x
        torque = Kt * i - shaft.viscous * w
        through = shaft.stiffness * twist + shaft.damping * (w - far)
        if not shaft.twists:
            return [(volts - R * i - Ke * w) / L, torque / shaft.inertia, w, 0.0, 0.0]
        return [(volts - R * i - Ke * w) / L, (torque - through) / shaft.motor, w, w - far,
                through / shaft.load]  # fmt: skip

    x, angles, out = np.zeros(5), [0.0] * 600, []
    total = volts = push = held = summed = 0.0
    memory = [np.zeros(2) for _ in plant.torque_filters]
    rows = [one.sections()[0] for one in plant.torque_filters]
    for k in range(samples * N):
        angles.append(float(x[2]))
        used = push
        for row, kept in zip(rows, memory, strict=True):
            b0, b1, b2, _, a1, a2 = row
            y = b0 * used + kept[0]
            kept[0], kept[1] = b1 * used - a1 * y + kept[1], b2 * used - a2 * y
            used = y
        if k % N == 0:
            if measuring.slope >= 3:
                seen = np.polyfit(np.arange(measuring.slope) * TS, angles[-measuring.slope :], 1)[0]
            else:
                seen = (angles[-1] - angles[-1 - N]) / (N * TS)
            out.append(seen)
            g = loop.gains
            before = summed
            summed += g.Ki * N * TS * (reference - seen)
            held = g.Kp * (g.weight * reference - seen) + summed
            span = (-room.current, room.current)
            held, summed = _cut(held, span, reference - seen, before, summed)
        error = used + load - float(x[0])
        before = total
        total += CURRENT.pi.Ki * TS * error
        wanted = CURRENT.pi.Kp * error + total
        span = (-room.volts_down, room.volts)
        wanted, total = _cut(wanted, span, error, before, total)
        x = solve_ivp(slope, (0.0, TS), x, args=(volts,), rtol=1e-9, atol=1e-12).y[:, -1]
        volts, push = wanted, held
    return np.array(out)


@pytest.mark.parametrize(
    ("shaft", "measuring", "filters"),
    [
        (RIGID, Measuring(divider=4), ()),
        (TWISTING, Measuring(divider=5, slope=10), (NOTCH,)),
        (TWISTING, Measuring(divider=3, slope=7), ()),
    ],
)
def test_steps_of_speed_and_load_are_those_of_the_stepped_machine(
    shaft: Shaft, measuring: Measuring, filters: tuple[Filter, ...]
) -> None:
    loop = SpeedLoop(_plant(shaft, measuring, *filters), SpeedGains(Kp=0.5, Ki=12.0, weight=0.6))
    samples = 60
    by_hand = stepped(loop, samples, 1.0, 0.0)
    assert np.max(np.abs(loop.closed.step(samples) - by_hand)) < 2e-6
    by_hand = stepped(loop, samples, 0.0, -1.0)
    assert np.max(np.abs(-loop.loaded.step(samples) - by_hand)) < 2e-6


def test_a_load_observer_and_a_lag_are_in_the_loop_as_they_are_stepped() -> None:
    gains = SpeedGains(Kp=0.5, Ki=12.0, weight=0.6, reference=0.004, observer=250.0, inertia=0.011)
    loop = SpeedLoop(_plant(TWISTING, Measuring(divider=5, slope=10), NOTCH), gains)
    wide = Room(current=1e9, volts=1e9, volts_down=1e9)
    for reference, load, way in ((1.0, 0.0, loop.closed), (0.0, -1.0, loop.loaded)):
        speed, asked = limited_step(loop, wide, 80, reference=reference, load=load)
        sign = 1.0 if reference else -1.0
        assert np.max(np.abs(sign * way.step(80) - speed)) < 1e-8 * np.max(np.abs(speed))
        pushed = loop.effort if reference else loop.answer
        assert np.max(np.abs(sign * pushed.step(80) - asked)) < 1e-7 * np.max(np.abs(asked))
    bare = SpeedLoop(loop.plant, replace(gains, observer=0.0))
    assert float(np.sum(loop.loaded.step(4000))) < 0.2 * float(np.sum(bare.loaded.step(4000)))


def test_the_ratio_is_the_state_matrices_with_four_filters() -> None:
    filters = [replace(NOTCH, frequency=math.tau * f) for f in (205.0, 300.0, 420.0, 900.0)]
    plant = _plant(TWISTING, Measuring(divider=10, slope=20), *filters)
    a, b, c = plant.matrices
    omega = np.geomspace(2.0, 0.999 * math.pi / plant.T, 200)
    for way, column in ((plant.push, 0), (plant.load, 1), (plant.pull, 2)):
        gain, _ = way.response(omega)
        z = np.exp(1j * omega * plant.T)
        exact = np.array([c @ np.linalg.solve(one * np.eye(c.size) - a, b[:, column]) for one in z])
        assert np.max(np.abs(gain / exact - 1.0)) < 1e-6


def test_a_torque_at_the_far_end_is_felt_as_a_load_at_low_frequency() -> None:
    plant = _plant(TWISTING, Measuring(divider=10))
    ratio = plant.pull.at(10.0) / plant.load.at(10.0)
    assert ratio.real == pytest.approx(-1.0 / plant.torque_constant, rel=2e-2)


def test_slower_halls_are_later() -> None:
    quick, late = Measuring(divider=10), Measuring(divider=10, late=2.2e-3)
    omega = math.tau * 20.0
    lost = np.angle(quick.following(TS).at(omega)) - np.angle(late.following(TS).at(omega))
    assert lost == pytest.approx(omega * 2.2e-3, rel=0.02)


def test_a_lag_follows_as_the_drive_computes_it() -> None:
    lag, T = 0.003, 10 * TS
    seen, state = [], 0.0
    for _ in range(50):
        state += (1.0 - state) * T / lag
        seen.append(state)
    assert np.allclose(Measuring(divider=10, lag=lag).following(TS).step(50), seen)


def test_the_shaft_of_an_axis_has_its_resonances(axis: Axis) -> None:
    with pytest.raises(InputError, match="inertia is not known"):
        shaft_of(replace(axis, machine=replace(axis.machine, inertia=None)))
    assert not shaft_of(axis).twists
    assert TWISTING.anti_resonance / math.tau == pytest.approx(117.0, abs=0.1)
    moved = TWISTING.moved(1.1)
    assert moved.resonance == pytest.approx(1.1 * TWISTING.resonance)
    assert moved.inertia == TWISTING.inertia
