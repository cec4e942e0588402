"""When a drive's speed controller sampled, read off a record of the current loop's rate."""

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def phase(speed: Array, before: int, stride: int) -> int:
    """Return how many rows after row `before` the controller samples first.

    The measured speed changes when it does, and holds in between.

    Parameters
    ----------
    speed : rad/s, (repeats, rows)
    stride : rows from sample to sample

    """
    changed = np.flatnonzero(np.any(np.diff(speed, axis=1) != 0.0, axis=0)) + 1
    if stride == 1 or not changed.size:
        return 0
    return int(np.argmax(np.bincount((changed - before) % stride, minlength=stride)))
