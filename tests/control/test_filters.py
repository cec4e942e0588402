"""Filters against what they are meant to do, and against the arithmetic of a drive."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.control.filters import coefficients, phase_cost, section
from oarlock.control.single import run_section
from oarlock.errors import InputError
from oarlock.machine.filters import Filter, FilterKind

TS = 62.5e-6


def _filter(kind: FilterKind, hertz: float, **more: float) -> Filter:
    return Filter(path="torque", kind=kind, frequency=math.tau * hertz, **more)  # type: ignore[arg-type]


@given(
    hertz=st.floats(5.0, 7000.0), width=st.floats(0.05, 5.0), depth=st.floats(0.01, 1.0),
)  # fmt: skip
def test_a_notch_is_as_deep_as_asked_and_as_wide(hertz: float, width: float, depth: float) -> None:
    notch = section(_filter(FilterKind.NOTCH, hertz, width=width, depth=depth), TS)
    assert abs(notch.at(math.tau * hertz)) == pytest.approx(depth, rel=1e-6)
    assert abs(notch.at(1e-3)) == pytest.approx(1.0, rel=1e-6)
    assert notch.is_stable


@pytest.mark.parametrize("poles", [1, 2])
def test_a_low_pass_is_at_its_corner_where_it_was_put(poles: int) -> None:
    made = section(_filter(FilterKind.LOW_PASS, 3000.0, poles=poles), TS)
    assert abs(made.at(math.tau * 3000.0)) == pytest.approx(math.sqrt(0.5), rel=1e-7)
    assert abs(made.at(math.pi / TS * 0.999999)) < 1e-4
    assert phase_cost(_filter(FilterKind.LOW_PASS, 3000.0, poles=poles), TS, math.tau * 3000.0) == (
        pytest.approx(poles * math.pi / 4.0, rel=1e-6)
    )


def test_a_lead_lifts_the_phase_most_at_its_middle() -> None:
    lead = _filter(FilterKind.LEAD_LAG, 100.0, ratio=9.0)
    at = [-phase_cost(lead, TS, math.tau * f) for f in (50.0, 100.0, 200.0)]
    assert at[1] == pytest.approx(math.asin(8.0 / 10.0), rel=1e-3)
    assert at[1] > max(at[0], at[2])


def test_a_filter_beyond_the_sampling_is_refused_with_its_limit() -> None:
    with pytest.raises(InputError, match="up to 7200 Hz"):
        section(_filter(FilterKind.NOTCH, 7900.0), TS)


def test_the_drives_numbers_give_the_same_answer() -> None:
    notch = _filter(FilterKind.NOTCH, 208.0, width=0.8, depth=0.05)
    x = np.random.default_rng(3).normal(size=4000)
    exact = section(notch, TS).output(x)
    single = run_section(coefficients(notch, TS), x.astype(np.float32))
    assert np.max(np.abs(single - exact)) < 2e-3
