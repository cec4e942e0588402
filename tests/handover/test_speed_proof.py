"""Speed and position controller with their filters in C: bit for bit what the model computes."""

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.control.single import warm
from oarlock.errors import InputError
from oarlock.handover import position_proof
from oarlock.handover.header import default_map, header
from oarlock.handover.patch import told_without_place, without_place
from oarlock.handover.proof import prove
from oarlock.handover.speed_proof import NAME, expected, sequence
from oarlock.handover.values import handover_values
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.loop import Loop
from oarlock.machine.position_loop import POSITION, PositionGains, PositionTarget
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.records import Record
from tests.handover.test_handover import needs_compiler
from tests.speed_axis import tuned_winch


@pytest.fixture
def tuned() -> Axis:
    axis = tuned_winch()
    low = Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=2500.0, poles=2)
    seen = Filter(path="measured", kind=FilterKind.LOW_PASS, frequency=1500.0)
    loop = axis.loops[KEY]
    gains = SpeedGains(Kp=1.7, Ki=100.0, weight=0.6, acceleration=0.007, reference=0.004,
                       friction=0.23, observer=300.0, inertia=0.0137)  # fmt: skip
    filters = (*loop.filters, low, seen)
    return replace(axis, loops=axis.loops.having(KEY, Loop(gains=gains, filters=filters)))


def test_gains_rates_and_filters_have_their_symbols(tuned: Axis) -> None:
    values = {v.symbol: v for v in handover_values(tuned)}
    assert values["SPD_KP"].value == 1.7
    assert values["SPD_TS"].value == pytest.approx(625e-6)
    assert {f"SPD_TORQUE2_{n}" for n in ("B0", "B1", "B2", "A1", "A2")} <= set(values)
    assert values["SPD_TORQUE1_B0"].meaning == "filter 1 of the torque"
    assert "SPD_MEASURED1_A1" in header(tuned)
    plain = tuned.with_loop_gains(KEY, SpeedGains(Kp=1.7, Ki=100.0))
    assert "SPD_SHARE" in header(tuned)
    for words in ("r += SHARE*(asked - r)", "u has FRICTION more", "l += OBSERVER_LOAD*m"):
        assert words in header(tuned)
        assert words not in header(plain)
    assert not any(name in header(plain) for name in ("SHARE", "FRICTION", "OBSERVER"))
    assert not any(v.key in ("speed.observer", "speed.inertia") for v in handover_values(tuned))
    without = tuned.with_loop_gains(KEY, None)
    assert not any(v.symbol.startswith("SPD") for v in handover_values(without))
    assert "SPD" not in header(without)


@needs_compiler
def test_a_million_samples_agree_to_the_last_bit_states_included(tuned: Axis) -> None:
    values, text = handover_values(tuned), header(tuned)
    given = sequence(None, samples=10_000)
    plain = expected({value.key: value.value for value in values}, given)
    warm()
    assert np.array_equal(plain, expected({value.key: value.value for value in values}, given))
    given = sequence(None, samples=260_000)
    found = prove(text.encode(), default_map(text, values), values, {NAME: given})
    lane = found.lanes[0]
    assert found.exact
    assert lane.samples > 1_000_000
    assert lane.saturated > 1000
    assert lane.title == "speed"


@needs_compiler
def test_a_header_with_another_number_is_found_out(tuned: Axis) -> None:
    values, text = handover_values(tuned), header(tuned)
    mapping, given = default_map(text, values), sequence(None, samples=500)
    for symbol in (
        "SPD_KP",
        "SPD_TORQUE1_A2",
        "SPD_MEASURED1_B0",
        "SPD_WEIGHT",
        "SPD_ACCELERATION",
        "SPD_I_MAX",
        "SPD_SHARE",
        "SPD_FRICTION",
        "SPD_OBSERVER_STEP",
        "SPD_OBSERVER_SPEED",
        "SPD_OBSERVER_LOAD",
    ):
        number = float(next(v.value for v in values if v.symbol == symbol))
        lines = text.splitlines()
        at = next(n for n, one in enumerate(lines) if one.startswith(f"#define {symbol} "))
        lines[at] = f"#define {symbol} {np.float32(number * 1.0001)!s}f"
        found = prove("\n".join(lines).encode(), mapping, values, {NAME: given})
        assert found.lanes[0].differ > 0, symbol
    with pytest.raises(InputError, match="does not compile"):
        prove(text.replace("SPD_KI ", "SPD_KX ").encode(), mapping, values, {NAME: given})


@needs_compiler
def test_the_position_controller_agrees_over_a_million_samples_and_can_fail(tuned: Axis) -> None:
    axis = tuned.with_loop_gains(POSITION.key, PositionGains(Kp=31.7, speed_share=0.93))
    values, text = handover_values(axis), header(axis)
    given = position_proof.sequence(None, samples=510_000)
    lanes = {position_proof.NAME: given}
    found = prove(text.encode(), default_map(text, values), values, lanes)
    assert found.exact
    assert found.lanes[0].samples > 1_000_000
    for symbol in ("POS_KP", "POS_SPEED_SHARE"):
        wrong = re.sub(rf"({symbol} +)\d", r"\g<1>9", text)
        assert prove(wrong.encode(), default_map(wrong, values), values, lanes).lanes[0].differ


def test_a_recorded_move_is_what_the_position_controller_is_given() -> None:
    record = Record(
        experiment="position move", sample_time=1e-3, units={},
        columns={"position_ref": np.array([0.0, 1.0, 2.0]), "theta_m": np.array([0.0, 0.5, 1.75]),
                 "speed_ref": np.array([0.0, 10.0, 20.0])},
    )  # fmt: skip
    given = position_proof.sequence(record)
    assert given[:3].tolist() == [[0.0, 0.0], [0.5, 10.0], [0.25, 20.0]]


def test_the_ramp_is_handed_over_where_one_is_set(tuned: Axis) -> None:
    assert not any(v.key.startswith("ramp.") for v in handover_values(tuned))
    target = PositionTarget(speed=42.0, acceleration=300.0, jerk_time=8e-3)
    axis = replace(tuned, loops=tuned.loops.with_target(POSITION.key, target))
    values = {v.symbol: (v.value, v.unit) for v in handover_values(axis)}
    assert values["RAMP_ACCELERATION"] == (300.0, "rad/s2")
    assert values["RAMP_SPEED"][0] == 42.0
    assert "RAMP_JERK_TIME" in header(axis)


def test_what_a_header_has_no_place_for_is_told(
    tuned: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    whole, plain = header(tuned), header(tuned.with_loop_gains(KEY, SpeedGains(Kp=1.7, Ki=100.0)))
    values = handover_values(tuned)
    assert without_place(values, default_map(whole, values)) == ()
    lacking = without_place(values, default_map(plain, values))
    assert [value.symbol for value in lacking] == [
        "SPD_SHARE", "SPD_FRICTION", "SPD_OBSERVER_STEP", "SPD_OBSERVER_SPEED",
        "SPD_OBSERVER_LOAD",
    ]  # fmt: skip
    assert told_without_place(lacking) == "SPD_SHARE, SPD_FRICTION and 3 more"
    bare = "\n".join(line for line in whole.splitlines() if "SPD_TORQUE2" not in line)
    missed = without_place(values, default_map(bare, values))
    assert {value.key.split("_")[0] for value in missed} == {"speed.torque2"}
    alone = "\n".join(line for line in whole.splitlines() if "SPD_" not in line)
    assert without_place(values, default_map(alone, values)) == ()  # the loop lies elsewhere
    neutral = re.sub(r"#define SPD_ACCELERATION.*\n|#define CUR_WEIGHT.*\n", "", plain)
    axis = tuned.with_loop_gains(KEY, SpeedGains(Kp=1.7, Ki=100.0))
    assert without_place(handover_values(axis), default_map(neutral, handover_values(axis))) == ()
    path, file = tmp_path / "a.axis.toml", tmp_path / "gains.h"
    path.write_text(format_axis(tuned))
    file.write_text(plain)
    assert main(["handover", str(path), "--update", str(file), "--dry-run"]) == 0
    assert "no place for SPD_SHARE, SPD_FRICTION and 3 more" in capsys.readouterr().err
