"""A rise that dwells near nine tenths is no sharp figure, and is not held against a loop as one."""

import numpy as np

from oarlock.experiments.loops.speed_response import _unsharp


def test_a_plain_rise_is_sharp_and_one_that_dwells_is_not() -> None:
    t = np.linspace(0.0, 0.1, 1001)
    plain = 1.0 - np.exp(-t / 0.004) * (1.0 + t / 0.004)
    assert _unsharp(t, plain, 0.0134) < 0.05
    dwelling = np.where(t < 0.02, 0.89 * (1.0 - np.exp(-t / 0.002)), 0.0)
    dwelling = np.where(t >= 0.02, 0.89 + 0.11 * (1.0 - np.exp(-(t - 0.02) / 0.02)), dwelling)
    assert _unsharp(t, dwelling, 0.005) > 2.0
    assert _unsharp(t, np.ones_like(t), 0.005) == 0.0
    assert _unsharp(t, plain, 0.0) == 0.0
