"""Units as people think: one value, shown in several, never changed."""

import math

import pytest

from oarlock.errors import InputError
from oarlock.quantities.shown import (
    CHOICES,
    CURRENT,
    SPEED,
    TORQUE,
    Shown,
    after,
    chosen,
    plain_number,
    typed_in,
)


def test_a_speed_in_each_unit() -> None:
    for unit, number in (("rpm", 3000.0), ("rad/s", 100.0 * math.pi), ("Hz el.", 200.0)):
        value, told = Shown(speed=unit).speed_in(100.0 * math.pi, 4.0)
        assert told == unit
        assert value == pytest.approx(number)
    assert Shown(speed="Hz el.").speed_in(100.0 * math.pi, None)[1] == "rpm"


def test_a_current_in_each_unit() -> None:
    assert Shown().current_in(10.0) == (10.0, "A peak")
    value, unit = Shown(current="A rms").current_in(10.0)
    assert unit == "A rms"
    assert value == pytest.approx(7.0711, rel=1e-4)


def test_a_torque_in_each_unit_and_without_its_rating() -> None:
    for unit, number in (("N·m", "1.50"), ("mN·m", "1500"), ("% of rated", "37.5")):
        scale = Shown(torque=unit).torque_scale(4.0)
        assert scale.text(1.5) == f"{number} {unit}"
        assert 1.5 / scale.per == pytest.approx(float(number))
    assert Shown(torque="% of rated").torque_scale(None).text(1.5) == "1.50 N·m"
    assert Shown(current="A rms").current_scale().text(10.0) == "7.07 A rms"
    assert Shown().current_scale().text(10.0) == "10.0 A"


def test_what_is_kept_and_makes_no_sense_is_the_usual() -> None:
    assert chosen({}) == Shown()
    assert chosen({SPEED: "furlongs", CURRENT: "A rms"}) == Shown(current="A rms")
    assert chosen({TORQUE: "lb·ft"}) == Shown()
    assert chosen({TORQUE: "mN·m"}).torque == "mN·m"


def test_units_follow_round_and_round() -> None:
    for what, choices in CHOICES.items():
        unit = choices[0]
        for expected in (*choices[1:], choices[0]):
            unit = after(what, unit)
            assert unit == expected
    assert after(SPEED, "furlongs") == "rpm"


def test_numbers() -> None:
    assert [plain_number(x) for x in (4000.4, 418.88, 7.0711)] == ["4000", "419", "7.07"]


def test_what_is_typed_is_in_the_unit_beside_it_or_in_the_first() -> None:
    speeds = Shown(speed="rad/s").speed_scales(4.0)
    assert [one.unit for one in speeds] == ["rad/s", "rpm", "Hz el."]
    assert typed_in("12", speeds) == 12.0
    assert typed_in("−12.5", speeds) == -12.5
    assert typed_in("60 rpm", speeds) == pytest.approx(2.0 * math.pi)
    assert typed_in("4 Hz el.", speeds) == pytest.approx(2.0 * math.pi)
    torques = Shown().torque_scales(2.0)
    assert [one.unit for one in torques] == ["N·m", "mN·m", "% of rated"]
    assert typed_in("250 mN·m", torques) == pytest.approx(0.25)
    assert typed_in("50% of rated", torques) == pytest.approx(1.0)
    assert typed_in("3", torques) == 3.0


def test_units_that_need_what_is_not_known_are_not_offered() -> None:
    assert [one.unit for one in Shown(speed="Hz el.").speed_scales(None)] == ["rpm", "rad/s"]
    assert [one.unit for one in Shown().torque_scales(None)] == ["N·m", "mN·m"]


@pytest.mark.parametrize("text", ["", "fast", "12 Hz", "1e400", "nan", "12 rpm rpm"])
def test_what_is_no_number_in_a_known_unit_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        typed_in(text, Shown().speed_scales(4.0))
