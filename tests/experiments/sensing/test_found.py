"""What sensing finds on sound drives, against their hidden truth."""

import math
from collections.abc import Callable

import numpy as np
import pytest

from oarlock.experiments.common.angles import circular_mean, mean_angle, orders, wrap, wrapped
from oarlock.experiments.common.field import forcing_current, stiffness
from oarlock.experiments.sensing.halls import _crossings, hall_table, legal_order, transitions
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.hand_reading import fit_ellipse
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose, simulated_error
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine.sensor import ILLEGAL
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.simulate.sense import _hall_code
from tests.experiments.sensing.rig import Rig

SEEDS = range(3)
hall_code: Callable[..., int] = _hall_code


def true_starts(plant: PlantParameters) -> list[float]:
    """Return where each hall state begins, turning forward, by walking round the rotor."""
    grid = np.arange(0.0, math.tau, math.radians(0.1))
    packed = plant.packed()
    starts: list[list[float]] = [[] for _ in range(8)]
    pairs = plant.pole_pairs
    for pair in range(pairs):
        codes = []
        for electrical in grid:
            theta = (electrical + math.tau * pair) / pairs
            at = plant.sensor_side * (theta - plant.sensor_zero) * pairs
            codes.append(hall_code(packed, at % math.tau, at / pairs))
        for i, code in enumerate(codes):
            if code != codes[i - 1] and i:
                starts[code].append(float(grid[i]))
    return [mean_angle(np.array(s)) if s else ILLEGAL for s in starts]


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_offsets_and_gains(name: str, seed: int) -> None:
    rig = Rig(name, seed)
    rest = rig.adopt(rig.find(CurrentsAtRest()))
    assert rest.holds
    count = rig.axis.inverter.current_count
    for phase, true in zip("abc", rig.plant.offsets, strict=True):
        found = rest.estimates[f"inverter.offset_{phase}"]
        assert abs(found.value - true) < 0.1 * count
        assert abs(found.value - true) < 4.0 * (found.std or 0.0)
    again = rig.find(CurrentsAtRest())  # measured with the offsets taken off: the same
    assert again.estimates["inverter.offset_a"].value == pytest.approx(
        rest.estimates["inverter.offset_a"].value, abs=0.15 * count
    )
    pulses = rig.find(StandingPulses())
    assert pulses.holds
    mean = np.mean(rig.plant.gains)
    for phase, gain in zip("ab", rig.plant.gains, strict=False):
        assert abs(pulses.estimates[f"inverter.gain_{phase}"].value - gain / mean) < 0.002
    assert pulses.extra["saliency"].value == pytest.approx(rig.plant.Lq / rig.plant.Ld, rel=0.03)


@pytest.mark.parametrize("seed", SEEDS[:2])
def test_the_resolver_is_corrected_and_its_zero_found(seed: int) -> None:
    rig = Rig("winch", seed).ready()
    plant = rig.plant
    found = {name: rig.axis.sensor.__getattribute__(name).value
             for name in ("sine_ratio", "skew", "sine_offset", "cosine_offset")}  # fmt: skip
    assert found["sine_ratio"] == pytest.approx(plant.sine_gain / plant.cosine_gain, abs=5e-4)
    assert found["skew"] == pytest.approx(plant.skew, abs=5e-4)
    assert found["sine_offset"] == pytest.approx(plant.sine_offset, abs=5e-4)
    turn = rig.adopt(rig.find(ForcedTurn()))
    assert turn.holds, turn.failed
    zero = turn.estimates["sensor.zero"]
    assert abs(wrap(zero.value - plant.zero)) < math.radians(0.5)
    assert turn.estimates["sensor.side"].value == plant.sensor_side
    assert turn.extra["pole pairs"].value == pytest.approx(4.0, abs=0.01)
    assert turn.extra["breakaway"].value == pytest.approx(plant.coulomb, rel=0.2)
    pushes = rig.find(FourPushes(friction=turn.extra["breakaway"].value))
    assert pushes.holds, pushes.failed
    assert pushes.extra["torque +q"].value == pytest.approx(pushes.extra["due"].value, rel=0.35)
    # The injection, now that the resolver is corrected, and the search say the same.
    pulses = rig.find(StandingPulses())
    assert abs(wrap(pulses.extra["sensor.zero"].value - plant.zero)) < math.radians(3.0)
    search = rig.find(BoundedSearch())
    assert abs(wrap(search.estimates["sensor.zero"].value - plant.zero)) < math.radians(2.0)
    assert rig.carries_no_current


@pytest.mark.parametrize("seed", SEEDS[:2])
def test_the_hall_table_is_found(seed: int) -> None:
    rig = Rig("thruster", seed).ready()
    turn = rig.adopt(rig.find(ForcedTurn()))
    assert turn.holds, turn.failed
    for state, true in enumerate(true_starts(rig.plant)):
        found = turn.estimates[f"sensor.hall_{state}"].value
        if true <= ILLEGAL:
            assert found == ILLEGAL
        else:
            assert abs(wrap(found - true)) < math.radians(2.0)
    assert "from before" not in turn.extra
    again = rig.find(ForcedTurn())
    assert again.extra["from before"].value < math.radians(2.0)
    assert again.extra["left ripple"].value < again.extra["even ripple"].value + 0.05
    assert rig.find(FourPushes()).holds
    assert turn.extra["left error"].value < turn.extra["even error"].value + 0.03


def test_a_hall_table_against_an_encoder_is_finer() -> None:
    """Both sensors on one shaft: the encoder tells the angle at which each edge comes."""

    rig = Rig("thruster", 1, sensor="encoder", encoder_counts=2**17, hysteresis=0.0).known()
    record = rig.record(ForcedTurn(frequency=2.0))
    angle = rig.plant.pole_pairs * record["theta_m"] - rig.axis.sensor.zero.value
    way = np.where(np.gradient(np.unwrap(record["theta_e"])) >= 0.0, 1.0, -1.0)
    table = hall_table(record["hall"], angle, way)
    assert table is not None
    for state, true in enumerate(true_starts(rig.plant)):
        if true > ILLEGAL:
            assert abs(wrap(table.starts[state] - true)) < math.radians(0.3)


def test_an_encoder_is_counted() -> None:
    rig = Rig("winch", 2, sensor="encoder", encoder_counts=4096, sensor_side=-1.0, runout=0.0)
    from dataclasses import replace

    from oarlock.machine import SensorKind

    rig.axis = replace(rig.axis, sensor=replace(rig.axis.sensor, kind=SensorKind.ENCODER))
    rig.ready()
    turn = rig.adopt(rig.find(ForcedTurn()))
    assert turn.holds, turn.failed
    assert turn.estimates["sensor.side"].value == -1.0
    # A counter stands half a count behind the shaft on average, and the zero takes that up.
    half = 4 * math.pi / 4096
    assert abs(wrap(turn.estimates["sensor.zero"].value - rig.plant.zero - half)) < 0.00175
    assert rig.find(FourPushes(friction=0.25)).holds


@pytest.mark.parametrize(("load", "side"), [(0.0, 1.0), (0.0, -1.0), (2.9, 1.0), (-2.9, -1.0)])
def test_the_search_moves_little_and_bears_a_load(load: float, side: float) -> None:
    rig = Rig("winch", 3, load=load, sensor_side=side).known(sensor__side=1.0)
    finding = rig.find(BoundedSearch())
    assert finding.holds, finding.failed
    assert finding.estimates["sensor.side"].value == side
    error = abs(wrap(finding.estimates["sensor.zero"].value - rig.plant.zero))
    assert error < math.radians(2.0)
    assert abs(finding.extra["load"].value) == pytest.approx(abs(load), abs=0.25)
    assert rig.carries_no_current


@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_the_first_spin_and_running_without_a_sensor(name: str) -> None:
    rig = Rig(name, 1).ready()
    rig.adopt(rig.find(ForcedTurn()))
    spin = rig.find(ForcedSpin())
    assert spin.holds, spin.failed
    assert spin.extra["back-EMF flux"].value == pytest.approx(rig.plant.psi, rel=0.1)
    settings = propose(rig.axis, breakaway=rig.plant.coulomb)
    assert settings.hand_back < settings.hand_over
    speeds = settings.hand_over * np.array([0.5, 1.0, 2.0])
    errors = simulated_error(rig.axis, settings, speeds)
    assert errors[0] > errors[2]  # the slower, the worse
    assert errors[1] < math.radians(12.0)
    start = rig.find(StartWithoutSensor(start=settings))
    assert start.holds, start.failed
    assert start.extra["observer error"].value < math.radians(24.0)


def test_the_forcing_current_is_the_stiffest_that_rating_allows() -> None:
    axis = Rig("winch").axis
    current = forcing_current(axis)
    assert current == pytest.approx(0.8 * axis.machine.rated_current.value)
    around = [stiffness(axis, current * share) for share in (0.8, 1.0)]
    assert around[1] > around[0]


def test_every_movement_is_announced() -> None:
    rig = Rig("winch").ready()
    rig.adopt(rig.find(ForcedTurn()))
    for experiment, words in (
        (CurrentsAtRest(), "Nothing turns: no current"),
        (StandingPulses(), "Nothing turns: 6.0 A"),
        (TurnByHand(), "turned by hand: no current"),
        (ForcedTurn(), "turns 1.3 turns and back: 13 rpm, 8.0 A"),
        (BoundedSearch(), "0.2° at a time, 15° in all"),
        (FourPushes(), "turns 6° and back, twice"),
        (ForcedSpin(), "turns 13.1 turns forward: 280 rpm, 8.0 A"),
    ):
        sentence = experiment.movement(rig.axis).sentence
        assert words in sentence
        plan = experiment.plan(rig.axis)
        assert plan.duration < plan.limits.time


def test_an_ellipse_is_fitted_whatever_its_shape() -> None:
    rng = np.random.default_rng(3)
    for _ in range(20):
        phase = rng.uniform(0.0, math.tau, 400)
        ratio, skew = rng.uniform(0.9, 1.1), rng.uniform(-0.1, 0.1)
        size, o_s, o_c = rng.uniform(0.3, 0.8), *rng.uniform(-0.05, 0.05, 2)
        sine = ratio * size * np.sin(phase + skew) + o_s + rng.normal(0, 5e-4, 400)
        cosine = size * np.cos(phase) + o_c + rng.normal(0, 5e-4, 400)
        found = fit_ellipse(sine, cosine)
        assert found.ratio == pytest.approx(ratio, abs=1e-3)
        assert found.skew == pytest.approx(skew, abs=1e-3)
        assert found.sine_offset == pytest.approx(o_s, abs=1e-3)
        assert found.cosine_offset == pytest.approx(o_c, abs=1e-3)
        assert found.scatter == pytest.approx(5e-4, rel=0.3)


def test_angles_wrap_and_average() -> None:
    assert wrap(3.5) == pytest.approx(3.5 - math.tau)
    assert np.all(np.abs(wrapped(np.linspace(-20, 20, 99))) <= math.pi)
    around = np.array([math.pi - 0.1, -math.pi + 0.1])
    assert abs(mean_angle(around)) == pytest.approx(math.pi)
    assert circular_mean(np.array([0.0, math.pi]))[1] == pytest.approx(0.0, abs=1e-12)
    grid = np.linspace(0, math.tau, 200, endpoint=False)
    sizes = np.abs(orders(grid, 0.3 * np.cos(2 * grid + 1.0) + 0.1 * np.sin(5 * grid), (1, 2, 5)))
    assert sizes == pytest.approx([0.0, 0.3, 0.1], abs=1e-12)


def test_hall_states_follow_one_another() -> None:
    codes = np.array([5, 5, 1, 1, 3, 2, 6, 4, 5])
    assert transitions(codes)[0] == (2, 5, 1)
    pairs, step, illegal = legal_order(sorted(set(codes.tolist())))
    assert step == pytest.approx(math.tau / 3)
    assert (5, 1) in pairs
    assert illegal == []
    pairs, step, _ = legal_order([0, 1, 3, 7, 6, 4])
    assert step == pytest.approx(math.tau / 6)
    assert (3, 7) in pairs
    assert legal_order([0, 1, 5])[2] == [0]
    assert legal_order(list(range(8)))[1:] == (math.tau / 3, [0, 7])  # disturbed lines, 120° apart


def test_two_sensors_tell_the_order_but_not_their_gains() -> None:
    from dataclasses import replace

    rig = Rig("winch", 1)
    rig.axis = replace(rig.axis, inverter=replace(rig.axis.inverter, unsensed="b"))
    rest = rig.adopt(rig.find(CurrentsAtRest()))
    assert set(rest.estimates) == {"inverter.offset_a", "inverter.offset_c"}
    rig.adopt(rig.find(TurnByHand()))
    pulses = rig.adopt(rig.find(StandingPulses()))
    assert pulses.holds, pulses.failed
    assert "inverter.gain_a" not in pulses.estimates
    turn = rig.find(ForcedTurn())
    assert turn.holds, turn.failed
    assert abs(wrap(turn.estimates["sensor.zero"].value - rig.plant.zero)) < math.radians(1.0)


def test_halls_sixty_degrees_apart() -> None:
    rig = Rig("thruster", 2, hall_step=math.pi / 3.0).ready()
    turn = rig.adopt(rig.find(ForcedTurn()))
    assert turn.holds, turn.failed
    assert rig.axis.sensor.hall_0.value >= 0.0
    assert rig.axis.sensor.hall_2.value == ILLEGAL
    assert rig.find(FourPushes()).holds


def test_a_machine_without_a_sensor_is_started_all_the_same() -> None:
    from dataclasses import replace

    from oarlock.machine import SensorKind

    rig = Rig("thruster", 1, sensor="none")
    rig.axis = replace(rig.axis, sensor=replace(rig.axis.sensor, kind=SensorKind.NONE))
    for experiment in (CurrentsAtRest(), StandingPulses(), ForcedSpin()):
        finding = rig.adopt(rig.find(experiment))
        assert finding.holds, finding.failed
    start = rig.find(StartWithoutSensor(start=propose(rig.axis)))
    assert start.holds, start.failed
    assert start.remark == "runs both ways"


def test_an_edge_that_trembles_is_one_crossing() -> None:
    """Forth, back and forth again is one crossing in the middle; forth and back is none."""
    codes = np.array(
        [5.0] * 10 + [1.0] * 2 + [5.0] * 2 + [1.0] * 30 + [3.0] + [1.0] * 5 + [3.0] * 5
    )
    angle = np.radians(np.arange(codes.size, dtype=float))
    way = np.ones(codes.size)
    found = _crossings(transitions(codes), angle, way)
    assert [(a, b) for _, a, b, _ in found] == [(5, 1), (1, 3)]
    assert math.degrees(found[0][3]) == pytest.approx(11.5)  # edges at 9.5, 11.5 and 13.5
    touched = _crossings(transitions(codes[:46]), angle[:46], way[:46])
    assert [(a, b) for _, a, b, _ in touched] == [(5, 1)]
