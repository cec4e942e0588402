"""The points of a measured response in a table, as a CSV file holds them."""

import math

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.records import Record

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
COLUMNS = ("f", "gain", "phase", "std", "trusted")
_FEWEST = 4


def is_table(record: Record) -> bool:
    """Return whether a record holds a response instead of the drive's sums."""
    return set(COLUMNS) <= set(record.columns)


def points_in(record: Record) -> tuple[Array, Complex, Array, NDArray[np.bool_]]:
    """Return (rad/s, gain, scatter as a ratio, trusted) of a table.

    Raises
    ------
    InputError : frequencies that do not rise, or too few rows

    """
    f, gain, phase, std, trusted = (record[name] for name in COLUMNS)
    if f.size < _FEWEST or not (f[0] > 0.0 and np.all(np.diff(f) > 0.0)):
        raise InputError("the frequencies do not rise from above zero", place=record.experiment,
                         remedy="Sort the rows by f, at least four of them")  # fmt: skip
    if not (np.all(gain > 0.0) and np.all(std >= 0.0)):
        raise InputError("a gain that is not above zero", place=record.experiment,
                         remedy="gain is a ratio, not dB; std its scatter as a ratio")  # fmt: skip
    turned = gain * np.exp(1j * np.radians(phase))
    return math.tau * f, np.asarray(turned, dtype=np.complex128), std, trusted > 0.5
