"""Round numbers: the next one up, of each series, over all sizes."""

import pytest

from oarlock.quantities.preferred import ONE_TWO_FIVE, R10, at_least


@pytest.mark.parametrize(
    ("value", "round_", "preferred"),
    [(1.0, 1.0, 1.0), (1.01, 2.0, 1.25), (3.0, 5.0, 3.15), (5.0, 5.0, 5.0), (7.0, 10.0, 8.0),
     (0.0123, 0.02, 0.0125), (990.0, 1000.0, 1000.0), (0.3, 0.5, 0.315)],
)  # fmt: skip
def test_it_is_the_next_one_up(value: float, round_: float, preferred: float) -> None:
    assert at_least(value) == pytest.approx(round_, rel=1e-12)
    assert at_least(value, R10) == pytest.approx(preferred, rel=1e-12)


@pytest.mark.parametrize("series", [ONE_TWO_FIVE, R10])
def test_a_number_of_the_series_is_its_own(series: tuple[float, ...]) -> None:
    for exponent in range(-9, 10):
        for one in series:
            value = one * 10.0**exponent
            assert at_least(value, series) == pytest.approx(value, rel=1e-12)
