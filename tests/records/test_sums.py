"""What a drive added up over whole steps, read back as figures."""

import math

import numpy as np
import pytest

from oarlock.records import Sums


def summed(samples: list[np.ndarray], limited: list[int]) -> Sums:
    """Rows of one channel, added up as a drive does: from the first value on."""
    rows = []
    for n, (x, over) in enumerate(zip(samples, limited, strict=True)):
        off, phase = x - x[0], math.tau * np.arange(x.size) / x.size
        cosine, sine = (x * np.cos(phase)).sum(), (x * np.sin(phase)).sum()
        squares = (off**2).sum()
        rows.append([n, x.size, over, x[0], off.sum(), squares, cosine, sine, x.min(), x.max()])
    return Sums(("iq",), np.array(rows, dtype=np.float64))


def test_figures_of_short_and_long_rows_are_those_of_their_samples() -> None:
    rng = np.random.default_rng(1)
    samples = [rng.normal(3.0, 0.5, n) for n in (1, 4, 40)]
    found = summed(samples, [1, 1, 10])
    assert found.samples().tolist() == [1.0, 4.0, 40.0]
    assert found.limited() == pytest.approx([1.0, 0.25, 0.25])
    assert found.mean("iq") == pytest.approx([x.mean() for x in samples])
    assert found.spread("iq") == pytest.approx([x.std() for x in samples], abs=1e-9)
    assert found.extremes("iq")[0] == pytest.approx([x.min() for x in samples])
    assert found.extremes("iq")[1] == pytest.approx([x.max() for x in samples])


def test_the_amplitude_of_a_wave_of_whole_cycles() -> None:
    phase = math.tau * np.arange(8) / 8
    found = summed([1.5 * np.sin(phase) - 0.7 * np.cos(phase) + 0.3], [0])
    assert found.gain("iq") == pytest.approx([1.5 - 0.7j])


def test_a_row_without_samples_has_figures_of_nothing() -> None:
    found = Sums(("iq",), np.zeros((1, 10)))
    assert found.limited() == [0.0]
    assert found.mean("iq") == [0.0]
    assert found.spread("iq") == [0.0]
    assert found.gain("iq") == [0.0]
