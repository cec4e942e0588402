"""Gains of the speed loop: what was asked is what comes out, and what cannot be is refused."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from oarlock.control.filters import section
from oarlock.control.load_observer import load_observer
from oarlock.control.margins import margins
from oarlock.control.shaft import Shaft
from oarlock.control.speed import (
    SpeedLoop,
    largest_step,
    load_figures,
    spread_of,
    tracking_bandwidth,
)
from oarlock.control.speed_design import (
    MARGIN,
    Turning,
    design_speed,
    speed_noise,
    usual_speed,
    wanted_of,
    with_pi,
)
from oarlock.control.speed_gains import (
    AIMS,
    PLAIN,
    crossing,
    is_stable_on,
    keeps,
    lag_of,
    reach,
    solved,
    stiffest,
    stiffest_observing,
    symmetrical,
    with_bandwidth,
    with_dip,
)
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.machine.axis_file import parse_axis
from oarlock.machine.parameter import Parameter
from oarlock.machine.speed_loop import SpeedGains, SpeedTarget
from oarlock.quantities import Estimate, Origin
from tests.control.test_speed_plant import CURRENT, NOTCH, TS, TWISTING
from tests.speed_axis import tuned_winch

Array = NDArray[np.float64]

RIGID = Shaft(motor=6.9e-3, viscous=1.5e-3)


def _plant(shaft: Shaft = RIGID, *, notch: bool = False, slope: int = 0) -> SpeedPlant:
    return SpeedPlant(
        shaft=shaft, current=CURRENT, torque_constant=0.96, back_emf=0.64,
        measuring=Measuring(divider=10, slope=slope),
        torque_filters=(section(NOTCH, TS),) if notch else (),
    )  # fmt: skip


OBSERVING = replace(PLAIN, observer=1.0, inertia=RIGID.inertia / 0.96)


@pytest.mark.parametrize("reference", [0.0, 0.01])
def test_steps_of_a_loop_are_those_of_each_of_its_ways(reference: float) -> None:
    gains = crossing(_plant(TWISTING, notch=True), math.tau * 40.0, math.radians(50.0)).gains
    loop = SpeedLoop(_plant(TWISTING, notch=True), replace(gains, weight=0.8, reference=reference))
    ways = (loop.closed, loop.effort, loop.loaded, loop.answer)
    for found, way in zip(loop.steps(300), ways, strict=True):
        a, b, c, d = way.matrices
        x, expected = np.zeros(b.size), np.zeros(300)
        for k in range(300):
            expected[k] = c @ x + d
            x = x + a @ x + b
        assert found == pytest.approx(expected, abs=1e-7 * float(np.max(np.abs(expected))))


def test_a_step_on_other_plants_is_that_of_a_loop_round_each() -> None:
    gains = crossing(_plant(), math.tau * 40.0, math.radians(50.0)).gains
    gains = replace(gains, weight=0.7, reference=0.01)
    plants = [_plant(replace(RIGID, motor=share * RIGID.motor)) for share in (0.8, 1.3)]
    found = SpeedLoop(_plant(), gains).speeds_on(np.array([one.rows for one in plants]), 500)
    for speeds, plant in zip(found, plants, strict=True):
        assert speeds == pytest.approx(SpeedLoop(plant, gains).closed.step(500), abs=1e-9)


@pytest.mark.parametrize("notch", [False, True])
@pytest.mark.parametrize("shaft", [RIGID, TWISTING])
def test_margins_of_a_speed_loop_are_those_of_its_open_loop(shaft: Shaft, notch: bool) -> None:
    plant = _plant(shaft, notch=notch, slope=20)
    stable = set()
    for Kp in (0.05, 0.6, 2.0, 8.0, 40.0):
        for reference in (0.0, 0.01):
            loop = SpeedLoop(plant, SpeedGains(Kp=Kp, Ki=9.0 * Kp, reference=reference))
            found, expected = loop.margins, margins(loop.opened)
            stable.add(found.stable)
            assert found.stable is expected.stable
            for name in ("crossover", "phase_margin", "gain_margin", "gain_reduction", "Ms",
                         "phase_crossover", "bandwidth"):  # fmt: skip
                assert getattr(found, name) == pytest.approx(getattr(expected, name), rel=1e-7)
            assert len(found.crossings) == len(expected.crossings)
            assert len(found.turns) == len(expected.turns)
    assert stable == {True, False}


@pytest.mark.parametrize("options", [{}, {"weight": 0.6, "reference": 0.01}, {"observer": 90.0}])
def test_what_is_drawn_over_frequency_is_the_exact_loop(options: dict[str, float]) -> None:
    plant, bare = _plant(TWISTING, notch=True), _plant(TWISTING)
    gains = crossing(plant, math.tau * 40.0, math.radians(50.0)).gains
    loop = SpeedLoop(plant, replace(gains, inertia=RIGID.inertia, **options))
    over = spread_of(plant, bare, 10.0, 300)
    (opened, closed, unfiltered), phase = loop.spread(over)
    expected = loop.opened.response(over.omega)[0]
    for found, way in (
        (opened, expected),
        (closed, loop.closed.response(over.omega)[0]),
        (unfiltered, SpeedLoop(bare, loop.gains).opened.response(over.omega)[0]),
    ):
        assert found == pytest.approx(20.0 * np.log10(np.abs(way)), abs=1e-6)
    assert phase == pytest.approx(np.degrees(np.unwrap(np.angle(expected))), abs=1e-6)
    assert -180.0 < phase[0] <= 180.0
    falls = int((closed < -3.0103).argmax())
    near = tracking_bandwidth(loop, over.omega[falls - 1 : falls + 1])
    assert near == pytest.approx(tracking_bandwidth(loop), rel=1e-9)
    assert abs(loop.closed.at(near)) == pytest.approx(math.sqrt(0.5), rel=1e-9)
    nyquist = math.pi / plant.T
    assert loop.tracks_up_to(1e-9, over.omega) == nyquist  # it never falls so far
    assert loop.tracks_up_to(5.0, over.omega) == nyquist  # it lies below from the first on


@pytest.mark.parametrize(("hertz", "degrees"), [(25.0, 60.0), (60.0, 55.0), (80.0, 48.0)])
def test_a_p_and_a_load_observer_cross_where_it_was_asked(hertz: float, degrees: float) -> None:
    loop = crossing(_plant(), math.tau * hertz, math.radians(degrees), OBSERVING)
    assert loop.margins.crossover == pytest.approx(math.tau * hertz, rel=1e-6)
    assert loop.margins.phase_margin == pytest.approx(math.radians(degrees), abs=1e-6)
    assert loop.gains.Ki == 0.0
    assert loop.gains.observer > 0.0
    assert abs(float(loop.loaded.step(6000)[-1])) < 1e-6  # it holds a load without an integral
    for far, told in ((400.0, "leave less"), (15.0, "leaves more")):
        with pytest.raises(InputError, match=told):
            crossing(_plant(), math.tau * far, math.radians(50.0), OBSERVING)


def test_in_place_of_the_integral_all_of_the_reference_counts() -> None:
    pi = SpeedGains(Kp=1.0, Ki=20.0, weight=0.4, friction=0.2)
    found = with_pi(pi, replace(OBSERVING, Kp=2.0))
    assert (found.weight, found.Ki, found.friction) == (1.0, 0.0, 0.2)
    loop = SpeedLoop(_plant(), found)
    assert float(loop.closed.step(9000)[-1]) == pytest.approx(1.0, abs=1e-3)
    with pytest.raises(ValueError, match="settle at weight times"):
        replace(found, weight=0.4)
    both = replace(found, Ki=5.0, weight=0.4)
    assert float(SpeedLoop(_plant(), both).closed.step(9000)[-1]) == pytest.approx(1.0, abs=1e-3)
    assert with_pi(found, pi).weight == 1.0  # it stays until it is asked for again


@pytest.mark.parametrize("name", ["calm", "even", "keen"])
def test_the_observer_in_place_of_the_integral_is_no_softer_and_overshoots_less(name: str) -> None:
    plant, wanted = _plant(), AIMS[name]
    plain, found = stiffest(plant, wanted), stiffest_observing(plant, wanted, OBSERVING)
    assert plain is not None
    assert found is not None
    assert keeps(found.margins, wanted)
    assert found.dip_area < 1.01 * plain.dip_area
    peaks = [float(np.max(loop.closed.step(600))) for loop in (plain, found)]
    assert peaks[1] < 1.0 + 0.6 * (peaks[0] - 1.0)
    tight = replace(wanted, most_Kp=0.5 * found.gains.Kp)
    slower = stiffest_observing(plant, tight, OBSERVING)
    assert slower is not None
    assert slower.gains.Kp + load_observer(slower.gains, plant.T).load <= tight.most_Kp


@given(hertz=st.floats(2.0, 120.0), degrees=st.floats(30.0, 60.0))
def test_gains_cross_where_asked_with_the_margin_asked(hertz: float, degrees: float) -> None:
    plant = _plant()
    gains = solved(plant, math.tau * hertz, math.radians(degrees))
    if gains is None:
        assert reach(plant, math.radians(degrees)) < math.tau * hertz * 1.02
        return
    found = margins(SpeedLoop(plant, gains).opened)
    assert found.crossover == pytest.approx(math.tau * hertz, rel=1e-6)
    assert math.degrees(found.phase_margin) == pytest.approx(degrees, abs=1e-5)


@pytest.mark.parametrize("notch", [False, True])
@pytest.mark.parametrize("aim", list(AIMS))
def test_the_stiffest_loop_keeps_its_aim_and_none_near_it_is_stiffer(aim: str, notch: bool) -> None:
    plant, wanted = _plant(TWISTING, notch=notch), AIMS[aim]
    found = stiffest(plant, wanted)
    assert found is not None
    assert keeps(found.margins, wanted)
    for crossover in np.geomspace(0.7, 1.4, 15) * found.margins.crossover:
        for margin in np.linspace(wanted.margin, wanted.margin + 0.5, 6):
            gains = solved(plant, float(crossover), float(margin))
            if gains is not None and keeps(SpeedLoop(plant, gains).margins, wanted):
                assert gains.Ki <= 1.03 * found.gains.Ki


def test_the_area_of_a_load_step_is_the_load_over_the_integral_gain() -> None:
    loop = stiffest(_plant(), AIMS["calm"])
    assert loop is not None
    t = np.arange(6000, dtype=np.float64) * loop.plant.T
    answer = loop.loaded.step(t.size)
    assert float(np.sum(answer)) * loop.plant.T == pytest.approx(1.0 / loop.gains.Ki, rel=1e-3)
    figures = load_figures(t, -answer)
    assert pytest.approx(1.0 / loop.gains.Ki, rel=0.05) == figures.IAE
    assert figures.dip == pytest.approx(float(np.max(answer)))
    assert 0.0 < figures.dip_at < figures.recovery < 1.0


def test_a_resonance_in_the_way_is_named_with_its_remedy() -> None:
    with pytest.raises(InputError, match="212 Hz swings up: put a notch there"):
        crossing(_plant(TWISTING), math.tau * 60.0, math.radians(50.0))
    assert crossing(_plant(TWISTING, notch=True), math.tau * 40.0, math.radians(50.0)).is_stable


def test_what_the_delays_forbid_is_refused_with_what_can_be() -> None:
    with pytest.raises(InputError, match=r"Ask for at most \d+ Hz") as refused:
        crossing(_plant(), math.tau * 400.0, math.radians(55.0))
    most = float(refused.value.remedy.split()[4])
    assert crossing(_plant(), math.tau * 0.98 * most, math.radians(55.0)).is_stable


def test_bandwidth_and_dip_are_met() -> None:
    plant = _plant()
    loop = with_bandwidth(plant, math.tau * 80.0, math.radians(50.0))
    assert tracking_bandwidth(loop) == pytest.approx(math.tau * 80.0, rel=1e-3)
    loop = with_dip(plant, 3.0, 7.0, math.radians(50.0))
    assert 7.0 * np.max(np.abs(loop.loaded.step(1200))) == pytest.approx(3.0, rel=1e-3)
    with pytest.raises(InputError, match="no crossover holds"):
        with_dip(plant, 1e-3, 7.0, math.radians(50.0))


@pytest.mark.parametrize(("factor", "degrees"), [(2.41, 45.0), (3.73, 60.0)])
def test_the_symmetrical_optimum_gives_its_margin_within_the_rule(
    factor: float, degrees: float
) -> None:
    loop = symmetrical(_plant(replace(RIGID, viscous=0.0)), factor)
    assert math.degrees(loop.margins.phase_margin) == pytest.approx(degrees, abs=1.6)
    assert lag_of(loop.plant, loop.margins.crossover) == pytest.approx(0.83e-3, rel=0.02)


def test_a_notch_that_is_off_is_found_out_by_the_poles() -> None:
    plant = _plant(TWISTING, notch=True)
    loop = stiffest(plant, AIMS["keen"])
    assert loop is not None
    others = [_plant(TWISTING.moved(ratio), notch=True) for ratio in (0.7, 1.0, 1.4)]
    assert is_stable_on(loop.gains, others[1:2])
    robust = stiffest(plant, AIMS["keen"], others)
    assert robust is not None
    assert is_stable_on(robust.gains, others)
    assert robust.gains.Ki <= loop.gains.Ki


def _closed_over(loop: SpeedLoop, error: Array) -> Array:
    """Return the current asked for where the measured speed is wrong by `error`, step by step."""
    a, b, c = loop.plant.matrices
    x, total, asked = np.zeros(c.size), 0.0, np.zeros(error.size)
    for k in range(error.size):
        seen = float(c @ x) + error[k]
        total -= loop.gains.Ki * loop.plant.T * seen
        asked[k] = total - loop.gains.Kp * seen
        x = a @ x + b[:, 0] * asked[k]
    return asked


@pytest.mark.parametrize("slope", [0, 20])
def test_the_ripple_of_one_count_is_that_of_many_random_errors(slope: int) -> None:
    plant = _plant(slope=slope)
    loop = stiffest(plant, AIMS["even"])
    assert loop is not None
    count, rng = math.tau / 16384, np.random.default_rng(1)
    samples, N = 20000, plant.measuring.divider
    angle = rng.uniform(-0.5, 0.5, samples * N) * count
    if slope:
        at = np.arange(slope) - 0.5 * (slope - 1)
        weights = 12.0 * at / (slope * (slope**2 - 1.0) * TS)
        seen = np.convolve(angle, weights[::-1])[slope - 1 : samples * N : N]
    else:
        seen = (angle[N::N] - angle[:-N:N]) / (N * TS)
    asked = _closed_over(loop, seen)
    assert float(np.std(asked[2000:])) == pytest.approx(loop.ripple(count), rel=0.05)


def test_a_step_within_the_largest_keeps_the_current_below_its_limit() -> None:
    loop = stiffest(_plant(), AIMS["even"])
    assert loop is not None
    step = largest_step(loop, 12.0, 1e6)
    volts = largest_step(loop, 12.0, 100.0)
    asked = volts * float(loop.effort.step(2)[0])
    pi = CURRENT.pi
    assert asked * (pi.Kp + pi.Ki * TS) == pytest.approx(100.0)
    assert float(np.max(np.abs(step * loop.effort.step(400)))) == pytest.approx(12.0)


def test_halls_shake_the_speed_by_what_their_edges_are_known_to() -> None:
    axis = parse_axis(demo_text("thruster.axis.toml"), place="demo")
    speed = 100.0
    sector = math.radians(60.0)
    assert speed_noise(axis, Turning(speed=speed)) == pytest.approx(
        speed * math.sqrt(2.0) * math.radians(2.0) / sector
    )  # nobody measured them

    def with_edges(std: float) -> Axis:
        found = Estimate(value=0.1, std=std, unit="rad", origin=Origin.MEASURED)
        return axis.adopting("sensor.hall_3", found)

    for told, counts in ((4.0, 4.0), (0.1, 0.5)):
        found = speed_noise(with_edges(math.radians(told)), Turning(speed=-speed))
        assert found == pytest.approx(speed * math.sqrt(2.0) * math.radians(counts) / sector)


def test_the_sensor_s_noise_bounds_the_stiffest_loop_and_no_other() -> None:
    """A crossover that is asked for is had, whatever the sensor's steps shake."""
    axis = tuned_winch()
    coarse = replace(axis.sensor, counts=Parameter(printed=replace(
        axis.sensor.counts.printed, value=64.0)), kind=SensorKind.ENCODER)  # fmt: skip
    axis = replace(axis, sensor=coarse)
    turning = Turning(speed=usual_speed(axis))
    most = wanted_of(axis, MARGIN, turning).most_Kp
    stiff = design_speed(axis, SpeedTarget(phase_margin=MARGIN), turning=turning)
    assert stiff.gains.Kp <= most * (1.0 + 1e-9)
    fast = SpeedTarget(crossover=math.tau * 30.0, phase_margin=MARGIN)
    assert fast.is_fast
    assert not SpeedTarget(phase_margin=MARGIN).is_fast
    found = design_speed(axis, fast, turning=turning)
    assert found.gains.Kp > 2.0 * most
    assert found.margins.crossover == pytest.approx(math.tau * 30.0, rel=1e-6)
