"""Which uncertain value makes how much of a figure's scatter: Sobol's indices of first order.

From the draws of a study alone: the figure is fitted by orthogonal polynomials of each value, whose
squared coefficients are its part of the variance (Sudret, Global sensitivity analysis using
polynomial chaos expansions, 2008; Sobol' 2001). What is left is made by values together.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.polynomial import hermite_e
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.rehearse.vary import Study

Array = NDArray[np.float64]
_DEGREE = 3  # of the polynomials, where there are draws enough
_ENOUGH = 4  # draws for each coefficient


@dataclass(frozen=True, slots=True)
class Share:
    """One value's part of a figure's variance, alone."""

    name: str
    share: float  # of the variance
    std: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Shares:
    """Parts of a figure's variance, the largest first."""

    alone: tuple[Share, ...]
    together: float  # what no value makes alone

    @property
    def sentence(self) -> str:
        """The largest parts in one line."""
        told = [f"{one.name} {100.0 * one.share:.0f} %" for one in self.alone if one.share > 0.01]
        if self.together > 0.03:
            told.append(f"several together {100.0 * self.together:.0f} %")
        return ", ".join(told)


def shares(study: Study, name: str) -> Shares:
    """Return what each value makes of a figure's variance.

    Parameters
    ----------
    name : of the figure, as `RehearsalFigures` has it

    Raises
    ------
    InputError : too few variants came to their end, or the figure is the same on all

    """
    stds = np.array([one.std for one in study.tolerances])
    names = [one.name for one in study.tolerances if one.std > 0.0]
    values = np.array([getattr(one, name) if one.ended == "done" else math.nan
                       for one in study.figures])  # fmt: skip
    told = np.isfinite(values)
    z = ((study.factors[told] - 1.0) / np.where(stds > 0.0, stds, 1.0))[:, stds > 0.0]
    y, many = values[told], int(told.sum())
    degree = min(_DEGREE, (many // _ENOUGH - 1) // max(len(names), 1))
    if degree < 1:
        raise InputError(f"{many} machines tell no shares", place=name,
                         remedy=f"Vary {_ENOUGH * (len(names) + 1)} or more")  # fmt: skip
    if not float(np.std(y)) > 1e-9 * abs(float(np.mean(y))):
        raise InputError("it is the same on all machines", place=name)
    return _parted(z, y, degree, names)


def _parted(z: Array, y: Array, degree: int, names: list[str]) -> Shares:
    """Return the shares of standard normal values (n, k) in a figure (n,)."""
    n, k = z.shape
    basis = [
        hermite_e.hermeval(z[:, i], [0.0] * p + [1.0 / math.sqrt(math.factorial(p))])
        for i in range(k)
        for p in range(1, degree + 1)
    ]
    x = np.column_stack([np.ones(n), *basis])
    inverse = np.linalg.pinv(x.T @ x)
    c = inverse @ x.T @ y
    left = float(np.sum((y - x @ c) ** 2)) / max(n - x.shape[1], 1)
    doubt = left * np.diag(inverse)[1:].reshape(k, degree)
    squares = c[1:].reshape(k, degree) ** 2
    parts = np.maximum((squares - doubt).sum(axis=1), 0.0)  # less what noise makes of nothing
    whole = max(float(parts.sum()) + left, 1e-300)
    stds = np.sqrt(np.sum(4.0 * squares * doubt + 2.0 * doubt**2, axis=1)) / whole
    alone = [Share(*one) for one in zip(names, (parts / whole).tolist(), stds.tolist(),
                                        strict=True)]  # fmt: skip
    alone.sort(key=lambda one: -one.share)
    return Shares(alone=tuple(alone), together=left / whole)
