"""What follows from parameters, by hand; and a shaft's parameters in the axis file."""

import math
from dataclasses import replace

import pytest

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis import MECHANICS_FOUND, suspected_slip
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.derived import derived
from oarlock.quantities import Estimate, Origin


def test_constants_by_hand(axis: Axis) -> None:
    found = {row.name: row.value for row in derived(axis)}
    m = axis.machine
    p, psi = 4, m.psi.value
    assert found["Kt, per A peak"] == pytest.approx(6.0 * psi)
    assert found["Kt, per A RMS"] == pytest.approx(6.0 * psi * math.sqrt(2))
    assert found["Ke, line to line"] == pytest.approx(82.1, rel=1e-3)  # as its datasheet prints
    assert found["No-load speed"] == pytest.approx(
        320 / math.sqrt(3) / (p * psi) * 60 / math.tau, rel=1e-6
    )
    assert found["Short-circuit current"] == pytest.approx(psi / m.Ld.value)
    assert found["Acceleration at peak"] == pytest.approx(
        6.0 * psi * m.peak_current.value / 6.9e-3, rel=1e-6
    )
    assert found["Ld/R, Lq/R"] == pytest.approx(8e-3 / 0.82)
    tips = {row.name: row.tip for row in derived(axis)}
    assert "20.7 ms" in tips["Ld/R, Lq/R"]  # 17 mH over 0.82 ohm
    # By energy: a speed dies through the winding at 1.5 (p psi w)^2 / R watts.
    speed = 100.0
    energy, watts = 0.5 * 6.9e-3 * speed**2, 1.5 * (p * psi * speed) ** 2 / 0.82
    assert found["Mech. time constant"] == pytest.approx(2.0 * energy / watts, rel=1e-9)
    rated = 7.1 * math.sqrt(2)
    assert found["Base impedance"] == pytest.approx(320 / math.sqrt(3) / rated, rel=1e-6)
    omega = found["Base speed"] * math.tau / 60 * p  # there the voltages along d and q fill the bus
    assert (omega * psi) ** 2 + (omega * 17e-3 * rated) ** 2 == pytest.approx(320**2 / 3, rel=1e-6)
    bare = replace(axis, machine=replace(m, inertia=None))
    assert "Acceleration at peak" not in {row.name for row in derived(bare)}


def test_the_shafts_parameters_go_there_and_back(axis: Axis) -> None:
    for n, name in enumerate(MECHANICS_FOUND):
        path = f"mechanics.{name}"
        unit = axis.parameter(path).printed.unit
        axis = axis.adopting(path, Estimate(value=0.5 + n, std=0.01, unit=unit,
                                            origin=Origin.MEASURED, source="run 3"))  # fmt: skip
    again = parse_axis(format_axis(axis), place="again")
    assert again == axis
    assert again.is_adopted("mechanics.resonance")


def test_travel_is_entered_in_turns(axis: Axis) -> None:
    text = format_axis(axis)
    for typed, turns in (('"12"', 12.0), ('"0.5 turns"', 0.5)):
        limited = parse_axis(f"{text}\n[mechanics]\nmax_turns = {typed}\n", place="x")
        assert limited.mechanics.max_turns is not None
        assert limited.mechanics.max_turns.value == turns
        assert parse_axis(format_axis(limited), place="y") == limited
    with pytest.raises(InputError, match="not a number of turns"):
        parse_axis(f'{text}\n[mechanics]\nmax_turns = "12 mm"\n', place="x")


def test_a_found_inertia_needs_no_printed_one(axis: Axis) -> None:
    bare = replace(axis, machine=replace(axis.machine, inertia=None))
    assert not bare.is_adopted("machine.inertia")
    found = Estimate(value=6.7e-3, std=1e-5, unit="kg m2", origin=Origin.MEASURED, source="run 1")
    after = bare.adopting("machine.inertia", found)
    assert after.machine.inertia is not None
    assert after.machine.inertia.value == 6.7e-3
    assert after.machine.inertia.printed.source == ""


@pytest.mark.parametrize(
    ("ratio", "words"),
    [
        (math.sqrt(3), "line to line"), (0.5, "line to line"), (math.sqrt(2), "RMS"),
        (60 / math.tau, "rpm"), (0.1, "factor of ten"), (1000.0, "thousand"),
        (7.0, "pole pairs"), (1 / 14.0, "poles"), (1.05, ""), (1.25, ""),
    ],
)  # fmt: skip
def test_slips_are_known_by_their_ratio(ratio: float, words: str) -> None:
    found = suspected_slip(2.0, 2.0 * ratio, pole_pairs=7.0)
    assert (words in found) if words else not found
