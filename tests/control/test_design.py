"""Whatever figure is given, the loop has it; what the delay forbids is refused with a remedy."""

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.control.current import (
    closed_bandwidth,
    crossover_for,
    design_current,
    fastest_crossover,
    hold_correction,
    loops_with,
    verdict,
)
from oarlock.control.margins import margins
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentTarget, TargetKind

TS = 62.5e-6


def target(kind: TargetKind, value: float, *, override: bool = False) -> CurrentTarget:
    return CurrentTarget(kind=kind, value=value, override_margin=override)


@pytest.mark.parametrize(
    ("kind", "value"),
    [
        (TargetKind.CROSSOVER, math.tau * 700.0),
        (TargetKind.BANDWIDTH, math.tau * 1500.0),
        (TargetKind.PHASE_MARGIN, math.radians(57.0)),
        (TargetKind.TIME_CONSTANT, 250e-6),
    ],
)
def test_any_one_figure_decides_the_others(axis: Axis, kind: TargetKind, value: float) -> None:
    found = design_current(axis, target(kind, value)).margins
    given_back = {
        TargetKind.CROSSOVER: found.crossover,
        TargetKind.BANDWIDTH: found.bandwidth,
        TargetKind.PHASE_MARGIN: found.phase_margin,
        TargetKind.TIME_CONSTANT: 1.0 / found.crossover,
    }[kind]
    assert given_back == pytest.approx(value, rel=1e-8)


def test_gains_of_the_winch_are_what_the_textbook_and_the_hold_give(axis: Axis) -> None:
    design = design_current(axis)
    wc, L, R = math.tau * 849.0, 17e-3, 0.82
    assert design.gains.Kp_q == pytest.approx(wc * L * 0.994, rel=1e-3)
    assert design.gains.Ki_q == pytest.approx(wc * R, rel=0.01)
    assert design.gains.Kp_d / design.gains.Kp_q == pytest.approx(8.0 / 17.0, rel=1e-2)
    assert hold_correction(design.q, wc) == pytest.approx(0.994, abs=5e-4)
    for loop in loops_with(axis, design.gains):
        assert margins(loop.opened).crossover == pytest.approx(wc, rel=1e-8)


@pytest.mark.parametrize(
    ("kind", "value", "words"),
    [
        (TargetKind.CROSSOVER, math.tau * 2000.0, "at most 1778 Hz"),
        (TargetKind.BANDWIDTH, math.tau * 5000.0, "at most 3871 Hz"),
        (TargetKind.BANDWIDTH, math.tau * 60000.0, "at most 3871 Hz"),
        (TargetKind.PHASE_MARGIN, math.radians(20.0), "30° to 89°"),
        (TargetKind.PHASE_MARGIN, math.radians(95.0), "less than 90°"),
        (TargetKind.TIME_CONSTANT, 10e-6, "at least 90 µs"),
        (TargetKind.CROSSOVER, math.nan, "at most"),
        (TargetKind.CROSSOVER, -1.0, "at most"),
        (TargetKind.BANDWIDTH, math.inf, "at most"),
    ],
)
def test_what_the_delay_forbids_is_refused(kind: TargetKind, value: float, words: str) -> None:
    with pytest.raises(InputError) as caught:
        crossover_for(target(kind, value), TS)
    assert words in caught.value.remedy
    assert caught.value.place == "current loop"


def test_the_refusal_can_be_overridden_but_not_into_instability(axis: Axis) -> None:
    fast = target(TargetKind.CROSSOVER, math.tau * 2000.0, override=True)
    assert math.degrees(design_current(axis, fast).margins.phase_margin) == pytest.approx(22.5)
    with pytest.raises(InputError):
        crossover_for(replace(fast, value=math.tau * 2700.0), TS)


@given(st.floats(min_value=0.001, max_value=0.3))
def test_the_closed_form_of_the_bandwidth_is_the_exact_one(ratio: float) -> None:
    """|T|² = 1/2 found on the loop itself, against the quadratic in the cosine."""
    crossover = ratio / TS
    w = closed_bandwidth(crossover, TS)
    k = 2.0 * math.sin(0.5 * crossover * TS)
    z = complex(math.cos(w * TS), math.sin(w * TS))
    if w < 0.999 * math.pi / TS:
        assert abs(k / (z * z - z + k)) == pytest.approx(math.sqrt(0.5), rel=1e-6)


def test_guidance_words() -> None:
    words = [verdict(math.radians(m)) for m in (75, 60, 50, 45, 35, 30, 20)]
    assert words == ["good", "good", "brisk", "brisk", "risky", "risky", "refused"]
    assert fastest_crossover(TS) / math.tau == pytest.approx(1777.8, abs=0.1)
