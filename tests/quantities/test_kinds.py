"""Where an entry stops being plausible, on both sides of each limit."""

import math

import pytest

from oarlock.errors import InputError
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import Kind, refuse_implausible

# As a maintainer would be asked for them: what no machine of this trade is below or above.
LIMITS = {
    Kind.RESISTANCE: (100e-6, 1000.0),
    Kind.INDUCTANCE: (100e-9, 10.0),
    Kind.FLUX: (10e-6, 50.0),
    Kind.CURRENT: (1e-3, 10_000.0),
    Kind.VOLTAGE: (1.0, 2000.0),
    Kind.SPEED: (0.1, 30_000.0),
    Kind.FREQUENCY: (0.01, 1_000_000.0),
    Kind.TIME: (1e-9, 1000.0),
    Kind.INERTIA: (1e-9, 10_000.0),
    Kind.ACCELERATION: (1e-3, 1e8),
    Kind.POLE_PAIRS: (1.0, 100.0),
    Kind.COUNT: (1.0, 1_000_000_000.0),
    Kind.BITS: (4.0, 32.0),
    Kind.TURNS: (0.05, 1_000_000.0),
    Kind.FULL_SCALE: (1e-3, 10_000.0),
}


@pytest.mark.parametrize("kind", sorted(LIMITS))
def test_limits_of_what_is_plausible(kind: Kind) -> None:
    low, high = LIMITS[kind]
    for inside in (low, high):
        refuse_implausible(kind, inside, "it")
    for outside in (0.98 * low, 1.02 * high):
        with pytest.raises(InputError, match="outside"):
            refuse_implausible(kind, outside, "it")
    for none in (0.0, -low):
        with pytest.raises(InputError, match="above zero"):
            refuse_implausible(kind, none, "it")
    for no in (math.nan, math.inf):
        with pytest.raises(InputError, match="finite"):
            refuse_implausible(kind, no, "it")


def test_an_angle_and_a_temperature_may_be_negative() -> None:
    refuse_implausible(Kind.ANGLE, -1.0, "it")
    refuse_implausible(Kind.TEMPERATURE, -20.0, "it")


def test_speed_and_voltage_constants_are_told_apart() -> None:
    per_rpm = parse(Kind.FLUX, "48 V/krpm l-l peak", pole_pairs=7.0).value
    other = parse(Kind.FLUX, f"{1000.0 / 48.0} rpm/V", pole_pairs=7.0).value
    assert per_rpm == pytest.approx(other, rel=1e-12)
    assert per_rpm == pytest.approx(48e-3 * 60 / math.tau / math.sqrt(3) / 7, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "value"),
    [("forward", 1.0), ("1", 1.0), ("+1", 1.0), ("reversed", -1.0), ("backward", -1.0),
     ("-1", -1.0), (" Reversed ", -1.0)],
)  # fmt: skip
def test_directions(text: str, value: float) -> None:
    assert parse(Kind.DIRECTION, text).value == value


def test_only_a_voltage_may_be_said_to_be_of_a_phase() -> None:
    assert parse(Kind.VOLTAGE, "2 V phase").value == 2.0
    with pytest.raises(InputError):
        parse(Kind.TIME, "2 ms phase")


def test_a_shunt_by_hand() -> None:
    # Mid-range at zero: 1.65 V either way, over 20 times 0.5 milliohm.
    found = parse(Kind.FULL_SCALE, "0.5 mohm, gain 20, 3.3 V, 12 bit")
    assert found.value == pytest.approx(165.0)
