"""Waves of a step against their definitions, and what a row without sense gives."""

import math

import numpy as np
import pytest

from oarlock.simulate import layout as k
from oarlock.simulate.waves import wave

TS = 1e-4


def played(samples: int, **values: float) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    row = np.zeros(k.ROW_SIZE, dtype=np.float32)
    row[[k.SAMPLES, k.AMPLITUDE]] = samples, 2.0
    for name, value in values.items():
        row[getattr(k, name)] = value
    lines = np.zeros((0, k.LINE_SIZE))
    return np.array([wave(row, lines, n, 1, n, TS) for n in range(samples)])


def test_a_chirp_goes_from_one_frequency_to_the_other_by_one_ratio_a_second() -> None:
    seen = played(10_000, WAVE=k.WAVE_CHIRP, FREQUENCY=10.0, END_FREQUENCY=160.0)
    crossings = np.flatnonzero((seen[:-1] < 0.0) & (seen[1:] >= 0.0)) * TS
    between, hertz = 0.5 * (crossings[1:] + crossings[:-1]), 1.0 / np.diff(crossings)
    due = 10.0 * 16.0**between
    assert hertz == pytest.approx(due, rel=0.05)
    assert np.abs(seen).max() == pytest.approx(2.0, rel=1e-3)


@pytest.mark.parametrize("end", [0.0, 50.0])
def test_a_chirp_without_another_end_is_a_sine(end: float) -> None:
    seen = played(400, WAVE=k.WAVE_CHIRP, FREQUENCY=50.0, END_FREQUENCY=end)
    due = 2.0 * np.sin(math.tau * 50.0 * TS * np.arange(400))
    assert seen == pytest.approx(due, abs=2e-3)
