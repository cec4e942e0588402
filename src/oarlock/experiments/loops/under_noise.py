"""How far a figure read off noisy repeats lies from the same figure of the plan.

The highest of many noisy samples lies above the response: a peak that is picked is too high. So
both curves are smoothed alike, as wide as the plan's own figure allows, and what the noise of the
repeats does to the plan's figure is taken off (bootstrap estimate of bias, Efron and Tibshirani,
An Introduction to the Bootstrap, chapter 10).
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Figure = Callable[[Array], float]
_CLEAR = 3.0  # standard deviations
_ROLLED = 8  # times that the noise of a single repeat is moved along the response


@dataclass(frozen=True, slots=True, kw_only=True)
class Beside:
    """A figure's difference, measured less planned, in the figure's own unit."""

    off: float  # freed of what noise adds
    lift: float  # what noise adds
    std: float  # by which noise scatters it


def smoothed(y: Array, wide: int) -> Array:
    """Return the mean over `wide` neighbours; at the ends over those that there are."""
    kernel = np.ones(wide)
    return np.convolve(y, kernel, "same") / np.convolve(np.ones(y.size), kernel, "same")


def peak(y: Array) -> float:
    """Return how far a normalised response goes beyond its step; below 0 where it does not."""
    return float(np.max(y)) - 1.0


def widest(figure: Figure, plan: Array, change: float, most: int) -> int:
    """Return over how many samples a plan can be smoothed until its figure changes by `change`.

    Parameters
    ----------
    change : in the figure's unit
    most : samples, at most

    """
    plain = figure(plan)
    fewest, wide = 1, max(min(most, plan.size), 1)
    while fewest < wide:
        middle = (fewest + wide + 1) // 2
        if abs(figure(smoothed(plan, middle)) - plain) <= change:
            fewest = middle
        else:
            wide = middle - 1
    return wide


def noise_of(repeats: Array, calm: slice) -> Array:
    """Return samples of the noise that is left in the mean of repeats, (samples, rows).

    Of a single repeat it is what the rows show in which nothing happens, moved along.

    Parameters
    ----------
    repeats : (repeats, rows)
    calm : rows in which nothing happens

    """
    many, rows = repeats.shape
    if many > 1:
        return np.asarray((repeats - repeats.mean(axis=0)) / math.sqrt(many - 1))
    still = repeats[0, calm]
    over = np.resize(still - still.mean(), rows)
    return np.stack([np.roll(over, n * still.size // _ROLLED) for n in range(_ROLLED)])


def beside(figure: Figure, measured: Array, plan: Array, noise: Array, wide: int) -> Beside:
    """Return how far a figure of the measured response lies from that of the plan.

    Parameters
    ----------
    measured, plan : (n,), alike in unit
    noise : (samples, n), as `noise_of` gives it
    wide : samples that all are smoothed over

    """
    expected = figure(smoothed(plan, wide))
    shaken = np.array([figure(smoothed(plan + one, wide)) - expected for one in noise])
    off = figure(smoothed(measured, wide)) - expected
    lift = float(shaken.mean())
    return Beside(off=off - lift, lift=lift, std=float(shaken.std()))


def seen_beside(
    figure: Figure, measured: Array, plan: Array, noise: Array, *, change: float, apart: float,
    near: int, most: int,
) -> Beside:  # fmt: skip
    """Return how far a figure lies from the plan's, smoothed as wide as both allow.

    A response that is sharper than its plan loses by smoothing what the plan does not: where what
    is seen nearby and over the whole width differs by more than noise, the former counts.

    Parameters
    ----------
    change : of the plan's figure, that smoothing may cost
    apart : that all repeats may have in common where the sensor's steps keep time with them
    near, most : samples, smoothed over in any case, and at most

    """
    close = beside(figure, measured, plan, noise, max(min(near, plan.size), 1))
    wide = beside(figure, measured, plan, noise, widest(figure, plan, change, most))
    clear = apart + _CLEAR * math.hypot(close.std, wide.std)
    return close if abs(close.off - wide.off) > clear else wide
