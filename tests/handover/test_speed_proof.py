"""The speed controller and its filters in C: bit for bit what the model computes."""

from dataclasses import replace

import numpy as np
import pytest

from oarlock.errors import InputError
from oarlock.handover.header import default_map, header
from oarlock.handover.proof import prove
from oarlock.handover.speed_proof import NAME, speed_sequence
from oarlock.handover.values import handover_values
from oarlock.machine import Axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.loop import Loop
from oarlock.machine.speed_loop import KEY, SpeedGains
from tests.handover.test_handover import needs_compiler
from tests.speed_axis import tuned_winch


@pytest.fixture
def tuned() -> Axis:
    axis = tuned_winch()
    low = Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=2500.0, poles=2)
    seen = Filter(path="measured", kind=FilterKind.LOW_PASS, frequency=1500.0)
    loop = axis.loops[KEY]
    gains = SpeedGains(Kp=1.7, Ki=100.0, weight=0.6, acceleration=0.007)
    filters = (*loop.filters, low, seen)
    return replace(axis, loops=axis.loops.having(KEY, Loop(gains=gains, filters=filters)))


def test_gains_rates_and_filters_have_their_symbols(tuned: Axis) -> None:
    values = {v.symbol: v for v in handover_values(tuned)}
    assert values["SPD_KP"].value == 1.7
    assert values["SPD_TS"].value == pytest.approx(625e-6)
    assert {f"SPD_TORQUE2_{n}" for n in ("B0", "B1", "B2", "A1", "A2")} <= set(values)
    assert "notch at" in values["SPD_TORQUE1_B0"].meaning
    assert "SPD_MEASURED1_A1" in header(tuned)
    without = tuned.with_loop_gains(KEY, None)
    assert not any(v.symbol.startswith("SPD") for v in handover_values(without))
    assert "SPD" not in header(without)


@needs_compiler
def test_a_million_samples_agree_to_the_last_bit_states_included(tuned: Axis) -> None:
    values, text = handover_values(tuned), header(tuned)
    given = speed_sequence(None, samples=340_000)
    found = prove(text.encode(), default_map(text, values), values, {NAME: given})
    lane = found.lanes[0]
    assert found.exact
    assert lane.samples > 1_000_000
    assert lane.saturated > 1000
    assert lane.title == "speed"


@needs_compiler
def test_a_header_with_another_number_is_found_out(tuned: Axis) -> None:
    values, text = handover_values(tuned), header(tuned)
    mapping, given = default_map(text, values), speed_sequence(None, samples=500)
    for symbol in ("SPD_KP", "SPD_TORQUE1_A2", "SPD_WEIGHT", "SPD_ACCELERATION", "SPD_I_MAX"):
        number = float(next(v.value for v in values if v.symbol == symbol))
        lines = text.splitlines()
        at = next(n for n, one in enumerate(lines) if one.startswith(f"#define {symbol} "))
        lines[at] = f"#define {symbol} {np.float32(number * 1.0001)!s}f"
        found = prove("\n".join(lines).encode(), mapping, values, {NAME: given})
        assert found.lanes[0].differ > 0, symbol
    with pytest.raises(InputError, match="does not compile"):
        prove(text.replace("SPD_KI ", "SPD_KX ").encode(), mapping, values, {NAME: given})
