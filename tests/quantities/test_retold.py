"""Sentences in chosen units: as a whole or not at all."""

import math

import pytest

from oarlock.quantities.retold import retold
from oarlock.quantities.shown import Shown

SI = Shown(speed="rad/s", torque="mN·m")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("A load of 3.7 N·m pulls it down by 25 rpm; 36 ms later it is back.",
         "A load of 3700 mN·m pulls it down by 2.62 rad/s; 36 ms later it is back."),
        ("Shaft turns 29 turns one way: 570 rpm, 16 A, 4.5 s.",
         "Shaft turns 29 turns one way: 59.7 rad/s, 16 A, 4.5 s."),
        ("23.6 N·m up to 1466 rpm, then 4.8 kW at most",
         "23600 mN·m up to 153.5 rad/s, then 4.8 kW at most"),
        ("speed step 400 to 441 rpm", "speed step 41.9 to 46.2 rad/s"),
        ("spin to ±1927 rpm", "spin to ±201.8 rad/s"),
        ("0 rpm, 0.05 N·m", "0 rad/s, 50 mN·m"),
    ],
)  # fmt: skip
def test_speeds_and_torques_are_told_in_the_units_chosen(text: str, told: str) -> None:
    assert retold(text, SI, 4.0, 12.0) == told
    assert retold(text, Shown(), 4.0, 12.0) == text


@pytest.mark.parametrize(
    "text",
    [
        "The sensor says 0 rpm where the shaft turns 300",
        "Speed lies 5.4 rpm rms about the model (21 allowed)",
        "over at 300 rpm, back at 200",
        "Take Kp 1.8, Ki 106 at 400 rpm",
        "run 21 at 400 rpm",
    ],
)
def test_a_number_whose_unit_is_not_told_keeps_the_whole_sentence(text: str) -> None:
    assert retold(text, SI, 4.0, 12.0) == text


def test_what_is_no_speed_or_torque_stays() -> None:
    for text in ("19.9 A, 55° of margin", "J = 6.7 g·m², 0.1 V/A", "The bus gives 185 V"):
        assert retold(text, SI, 4.0, 12.0) == text


def test_per_cent_and_hertz_need_what_they_go_by() -> None:
    text = "2.4 N·m at 600 rpm"
    el = Shown(speed="Hz el.", torque="% of rated")
    assert retold(text, el, 4.0, 12.0) == "20 % of rated at 40 Hz el."
    assert retold(text, el, None, None) == text
    assert float(retold("600 rpm", SI, 4.0, None).split()[0]) == pytest.approx(
        600.0 * math.tau / 60.0, rel=2e-3
    )
