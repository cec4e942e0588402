"""What a finding rests on, as it is drawn; each experiment says in a class of its own what."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence:
    """What every finding can show."""

    curve: Array  # draws it in small


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fitted(Evidence):
    """Points that were measured, and what was fitted to them; `curve` is `fit_y` in small."""

    x: Array
    y: Array
    fit_x: Array
    fit_y: Array
    residual: Array  # y less the fit, at each x


def fitted(x: Array, y: Array, fit_x: Array, fit_y: Array, residual: Array) -> Fitted:
    """Return measured points with their fit."""
    return Fitted(curve=fit_y, x=x, y=y, fit_x=fit_x, fit_y=fit_y, residual=residual)
