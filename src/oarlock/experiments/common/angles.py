"""Angles: wrapping, circular means, and what repeats with each turn."""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def wrapped(angle: Array) -> Array:
    """Return angles (rad) between -pi and pi."""
    return np.asarray(angle - math.tau * np.floor((angle + math.pi) / math.tau))


def wrap(angle: float) -> float:
    """Return one angle (rad) between -pi and pi."""
    return float(angle - math.tau * math.floor((angle + math.pi) / math.tau))


def circular_mean(angle: Array) -> tuple[float, float]:
    """Return (mean direction rad, resultant length 0 to 1) of angles (rad).

    The resultant is 1 where all agree (Fisher, Statistical Analysis of Circular Data, 1993).
    """
    mean = np.mean(np.exp(1j * angle))
    return float(np.angle(mean)), float(abs(mean))


def mean_angle(angle: Array) -> float:
    """Return the arithmetic mean of angles that lie close together, wherever the wrap falls.

    Parameters
    ----------
    angle : rad, all within half a turn of their circular mean

    """
    centre, _ = circular_mean(angle)
    return wrap(centre + float(np.mean(wrapped(angle - centre))))


def orders(position: Array, error: Array, wanted: tuple[int, ...]) -> Array:
    """Return the complex amplitude of `error` at each order a turn, by least squares.

    Parameters
    ----------
    position : rad, mechanical, (n,)
    error : any unit, (n,)
    wanted : whole orders, 1 and up

    """
    basis = [np.ones_like(position)]
    for order in wanted:
        basis += [np.cos(order * position), np.sin(order * position)]
    found, *_ = np.linalg.lstsq(np.column_stack(basis), error, rcond=None)
    return np.asarray(found[1::2] - 1j * found[2::2])
