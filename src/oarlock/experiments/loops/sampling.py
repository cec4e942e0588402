"""When a drive's speed controller sampled, read off a record of the current loop's rate."""

import numpy as np
from numpy.typing import NDArray

from oarlock.records import Record
from oarlock.records.settings import number

Array = NDArray[np.float64]


def lasting(record: Record) -> int:
    """Return the rows of two samples of the speed controller: what is shorter shapes no answer."""
    divider, every = (int(number(record.settings, name)) for name in ("divider", "decimation"))
    return max(2 * divider // max(every, 1), 2)


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
