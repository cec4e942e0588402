"""What an identified quantity rests on, besides points and their fit."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.records.evidence import Fitted

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class VoltageLine(Fitted):
    """Voltage (V) over current (A), with the straight line of R alone."""

    line: Array  # V, at each `fit_x`


def voltages(
    i: Array, v: Array, grid: Array, fit_v: Array, residual: Array, *, R: float
) -> VoltageLine:
    """Return voltage over current with its fit, and what R alone would drop."""
    return VoltageLine(curve=fit_v, x=i, y=v, fit_x=grid, fit_y=fit_v, residual=residual,
                       line=R * grid)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CurrentWave(Fitted):
    """One period of the current (A) over the phase (turns), with the voltage that drove it."""

    volts: Array  # V


def wave(phase: Array, measured: Array, fit: Array, volts: Array) -> CurrentWave:
    """Return one period of the current with its fit."""
    return CurrentWave(curve=fit, x=phase, y=measured, fit_x=phase, fit_y=fit,
                       residual=measured - fit, volts=volts)  # fmt: skip
