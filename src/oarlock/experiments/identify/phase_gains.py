"""Take the gain mismatch of the phase current sensors out of what was recorded."""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def sense_matrix(gain_a: float, gain_b: float) -> Array:
    """Return M with (alpha, beta) measured = M @ (alpha, beta) true, shape (2, 2).

    The three gains add up to 3: a common error can't be told from a different current.
    """
    a, b, c = gain_a, gain_b, 3.0 - gain_a - gain_b
    root = math.sqrt(3.0)
    return np.array(
        [
            [(4.0 * a + b + c) / 6.0, (c - b) * root / 6.0],
            [(c - b) / (2.0 * root), (b + c) / 2.0],
        ]
    )


def rotation(angle: float) -> Array:
    """Return the matrix that takes dq at `angle` to alpha, beta."""
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[c, -s], [s, c]])
