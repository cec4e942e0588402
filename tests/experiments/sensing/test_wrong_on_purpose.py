"""What goes wrong at a bench, made wrong on purpose: named rightly, nothing adopted, drive safe."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from oarlock.cancel import Cancel
from oarlock.drive.dry_run import problems
from oarlock.errors import Cancelled, InputError, LinkLost
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import SensorKind
from oarlock.session.perform import perform
from oarlock.simulate import layout as k
from tests.experiments.sensing.rig import Rig, failed
from tests.model_link import Hasty


def refused(rig: Rig, experiment: Any, check: str, *words: str) -> None:
    """The finding fails this check with these words, is not adopted, and the drive is safe."""
    before = rig.axis
    finding = rig.performed(experiment)
    told = failed(finding)
    assert check in told, told
    for word in words:
        assert word in told[check]
    rig.adopt(finding)
    assert rig.axis == before
    assert rig.carries_no_current


# The currents


@pytest.mark.parametrize(
    ("sense", "words"),
    [((1, 0, 2), "swap a and b"), ((0, 2, 1), "swap b and c"), ((2, 1, 0), "swap a and c"),
     ((1, 2, 0), "a b c should be")],
)  # fmt: skip
@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_sensors_and_outputs_exchanged(name: str, sense: tuple[int, int, int], words: str) -> None:
    rig = Rig(name, 1, sense=sense)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, StandingPulses(), "phase order", "exchanged", words)


@pytest.mark.parametrize("wires", [(1, 0, 2), (0, 2, 1), (2, 1, 0)])
def test_motor_leads_exchanged_are_a_reversed_direction(wires: tuple[int, int, int]) -> None:
    """Two leads exchanged turn the field backward: the sensor's direction answers for it."""
    rig = Rig("winch", 2, wires=wires).ready()
    turn = rig.adopt(rig.find(ForcedTurn()))
    assert turn.holds
    assert turn.estimates["sensor.side"].value == -rig.plant.sensor_side
    assert "reversed" in turn.remark
    assert rig.find(FourPushes(friction=0.25)).holds  # and with it forward is forward


@pytest.mark.parametrize("phase", [0, 1, 2])
@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_an_open_phase(name: str, phase: int) -> None:
    rig = Rig(name, 1, open_phase=phase)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, StandingPulses(), "open phase", f"Phase {'abc'[phase]} carries no current", "open")


def test_a_sensor_the_wrong_way_round() -> None:
    plant = Rig("winch", 1).plant
    rig = Rig("winch", 1, gains=(plant.gains[0], -plant.gains[1], plant.gains[2]))
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, StandingPulses(), "polarity of the sensors", "Sensor b reads the wrong way round")


def test_a_sensor_that_reads_nothing() -> None:
    plant = Rig("winch", 1).plant
    rig = Rig("winch", 1, gains=(1e-6, plant.gains[1], plant.gains[2]))
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, StandingPulses(), "sensor without signal", "Sensor a", "plug")


def test_a_sensor_of_another_scale() -> None:
    plant = Rig("winch", 1).plant
    rig = Rig("winch", 1, gains=(plant.gains[0], 0.69 * plant.gains[1], plant.gains[2]))
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, StandingPulses(), "sensor gains", "Sensor b reads", "low")


def test_a_saturated_sensor() -> None:
    rig = Rig("winch", 1, clip_a=6.5).ready()
    finding = rig.performed(ForcedTurn())
    assert not finding.holds
    told = failed(finding)
    assert "sensor a stops at" in told.get("sum of three", "")
    assert rig.carries_no_current


def test_a_sensor_at_the_end_of_its_range() -> None:
    refused(Rig("winch", 1, offsets=(41.0, 0.0, 0.0)), CurrentsAtRest(), "sensor at its end",
            "phase a", "supplied")  # fmt: skip


def test_a_shaft_that_something_drives_spoils_the_offsets() -> None:
    refused(Rig("thruster", 1, load=0.4, sensor="encoder").known(), CurrentsAtRest(),
            "shaft at rest", "something drives it")  # fmt: skip


# The position sensor


@pytest.mark.parametrize("name", ["sine", "cosine"])
def test_a_resolver_line_missing(name: str) -> None:
    rig = Rig("winch", 1, **{f"{name}_gain": 0.0})
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "both lines", f"The {name} is missing")


def test_a_resolver_driven_too_hard() -> None:
    rig = Rig("winch", 1, sine_gain=1.2, cosine_gain=1.2)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "range", "clipped", "excitation")


def encoder(rig: Rig) -> Rig:
    rig.axis = replace(rig.axis, sensor=replace(rig.axis.sensor, kind=SensorKind.ENCODER))
    return rig


def test_an_index_that_wanders() -> None:
    rig = encoder(Rig("winch", 1, sensor="encoder", index_wander=30.0, theta=0.1, sensor_zero=0.5))
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "index", "wanders")


def test_lines_entered_for_counts() -> None:
    rig = encoder(Rig("winch", 1, sensor="encoder", encoder_counts=4096))
    rig.enter("sensor.counts", 1024.0)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "counts a turn", "lines entered for counts")
    seen = rig.performed(TurnByHand()).extra["counts a turn"]
    assert seen.value == pytest.approx(4096.0, rel=0.02)
    assert seen.std == pytest.approx(0.02 * 1024.0)  # of what was entered, as a hand is no clock


@pytest.mark.parametrize(
    ("fault", "words"),
    [({"hall_stuck": 1}, "Hall line 2 stays high"), ({"hall_short": True}, "they touch")],
)
def test_a_hall_stuck_or_shorted(fault: dict[str, Any], words: str) -> None:
    rig = Rig("thruster", 1, **fault)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "hall lines", words)


def test_hall_wires_swapped_are_put_right_by_the_table() -> None:
    """Another order of the lines is another table; nothing need be rewired."""
    rig = Rig("thruster", 1, sensor_side=-1.0).ready()
    other = Rig("thruster", 1, sensor_side=1.0).ready()
    tables = []
    for one in (rig, other):
        turn = one.adopt(one.find(ForcedTurn()))
        assert turn.holds
        tables.append([turn.estimates[f"sensor.hall_{n}"].value for n in range(1, 7)])
        assert one.find(FourPushes()).holds
    assert not np.allclose(tables[0], tables[1], atol=0.3)


def test_the_sensors_pole_pairs_for_the_motors() -> None:
    rig = Rig("winch", 1).enter("machine.pole_pairs", 2.0).ready()
    refused(rig, ForcedTurn(), "pole pairs", "by this turn", "2 entered")


def test_the_motors_pole_pairs_for_the_sensors() -> None:
    rig = Rig("winch", 1).enter("sensor.pairs", 4.0)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "rounds a turn", "2.0 rounds", "4 expected", "poles entered")


@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_poles_for_pole_pairs(name: str) -> None:
    rig = Rig(name, 1)
    rig.enter("machine.pole_pairs", 2.0 * rig.plant.pole_pairs)
    rig.adopt(rig.find(CurrentsAtRest()))
    if name == "thruster":
        refused(rig, TurnByHand(), "pole pairs by edges", "poles entered for pole pairs")
        return
    rig.adopt(rig.find(TurnByHand()))
    rig.adopt(rig.find(StandingPulses()))
    refused(rig, ForcedTurn(), "pole pairs", "were poles entered for pole pairs?")


# The shaft


@pytest.mark.parametrize("fault", [{"brake_stuck": True}, {"coulomb": 60.0}])
def test_a_shaft_blocked_or_the_brake_left_on(fault: dict[str, Any]) -> None:
    rig = Rig("winch", 1, **fault).known()
    refused(rig, ForcedTurn(), "followed", "did not turn", "brake on")
    refused(rig, FourPushes(), "shaft moves", "Nothing moved", "brake on")
    refused(
        rig, BoundedSearch(), "search ended", "nothing moved up to the largest current".capitalize()
    )
    refused(rig, ForcedSpin(), "it turns", "does not turn")


def test_a_brake_left_on_is_seen_by_hand_already() -> None:
    rig = Rig("winch", 1, brake_stuck=True)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "rounds a turn", "did not turn", "brake open")


def test_a_load_that_drives_the_shaft() -> None:
    rig = Rig("winch", 1, load=4.0)
    rig.adopt(rig.find(CurrentsAtRest()))
    refused(rig, TurnByHand(), "no load drives it", "turns by itself")
    refused(rig.known(), FourPushes(), "forward is forward", "the load drives it")
    no_brake = Rig("winch", 1, load=4.0, brake=0.0).known()
    refused(no_brake, BoundedSearch(), "search ended", "no brake")


def test_friction_of_one_way() -> None:
    rig = Rig("winch", 1, coulomb_back=4.0).known()
    refused(rig, FourPushes(), "forward is forward", "one way only")


@pytest.mark.parametrize("offset", [math.pi, 0.5 * math.pi, -0.5 * math.pi])
def test_a_zero_that_is_wrong(offset: float) -> None:
    rig = Rig("winch", 1)
    rig.known(sensor__zero=rig.plant.zero + offset)
    words = "180° off" if abs(offset) > 2.0 else "90° off"
    refused(rig, FourPushes(friction=0.25), "forward is forward", words)


def test_a_zero_a_little_wrong_is_seen_by_what_d_does() -> None:
    rig = Rig("winch", 1)
    rig.known(sensor__zero=rig.plant.zero + math.radians(15.0))
    refused(rig, FourPushes(friction=0.25), "no torque along d", "the zero is -2")


def test_a_rotor_that_stands_opposite_is_not_taken_for_aligned() -> None:
    rig = Rig("winch", 1, coulomb=0.6)
    plant = replace(rig.plant, theta=math.pi / 2.0 / 4.0)  # half a turn from the first hold
    turned = Rig("winch", 1, coulomb=0.6, theta=plant.theta).ready()
    turn = turned.find(ForcedTurn())
    assert turn.holds
    assert abs(wrap_to(turn.estimates["sensor.zero"].value, plant.zero)) < math.radians(0.5)


def wrap_to(found: float, true: float) -> float:
    return (found - true + math.pi) % math.tau - math.pi


# The drive


def test_a_supply_too_weak_for_the_current() -> None:
    rig = Rig("winch", 1).ready()
    rig.link.model._plant[k.BUS] = 9.0  # the bus falls to 9 V from here on
    done = perform(ForcedTurn(), rig.axis, rig.link, lambda _f, _d: None, Hasty())
    assert done.run.ended == "tripped: under-voltage"
    assert done.reading is None
    assert rig.carries_no_current


def test_a_supply_just_strong_enough_to_stay_on_is_named() -> None:
    rig = Rig("winch", 1, R=40.0).ready()  # asks for more volts than the bus has
    refused(rig, ForcedTurn(), "current reached", "supply too weak")


def test_a_trip_on_the_way_keeps_what_was_recorded_and_says_so() -> None:
    rig = Rig("winch", 1, sag_at=6.0, sag_to=60.0).ready()
    finding = rig.performed(ForcedTurn())
    assert "under-voltage" in failed(finding)["ran to its end"]
    assert finding.estimates == {}
    assert finding.evidence
    assert rig.carries_no_current


def test_the_link_lost_in_mid_movement_leaves_no_current() -> None:
    rig = Rig("winch", 1).ready()
    plain, calls = rig.link.status, 0

    def breaks() -> Any:
        nonlocal calls
        calls += 1
        if calls > 6:
            raise LinkLost("gone", place="test")
        return plain()

    rig.link.status = breaks  # type: ignore[method-assign]
    with pytest.raises(LinkLost):
        rig.record(ForcedTurn())
    rig.link.status = plain  # type: ignore[method-assign]
    assert rig.carries_no_current


def test_a_search_can_be_stopped_between_trials() -> None:
    rig = Rig("winch", 1).known()

    class Soon(Cancel):
        looks = 0

        def check(self) -> None:
            self.looks += 1
            if self.looks > 20:
                raise Cancelled

        def wait(self, seconds: float) -> None:
            self.check()

    with pytest.raises(Cancelled):
        BoundedSearch().perform(rig.axis, rig.link, Soon())
    assert rig.carries_no_current


# Interlocks


def test_nothing_turns_before_the_currents_are_sound() -> None:
    axis = Rig("winch").axis
    assert any("Sensing 1" in text.sentence for text in problems(ForcedTurn().plan(axis), axis))
    assert problems(CurrentsAtRest().plan(axis), axis) == []
    assert problems(StandingPulses().plan(axis), axis) == []
    assert problems(TurnByHand().plan(axis), axis) == []


def test_no_loop_closes_on_an_unknown_angle() -> None:
    rig = Rig("winch")
    rig.adopt(rig.find(CurrentsAtRest()))
    found = problems(FourPushes().plan(rig.axis), rig.axis)
    assert any("zero is not known" in text.sentence for text in found)
    with pytest.raises(InputError, match="zero is not known"):
        rig.record(FourPushes())


def test_a_coarse_sensor_cannot_be_searched_with() -> None:
    rig = Rig("thruster")
    with pytest.raises(InputError, match="too coarse"):
        rig.record(BoundedSearch())


def test_a_load_too_weak_to_turn_it_back_is_seen_in_both_pushes() -> None:
    rig = Rig("winch", 1, load=1.1).known()
    refused(rig, FourPushes(friction=0.25), "both ways alike", "differ by", "a load")
