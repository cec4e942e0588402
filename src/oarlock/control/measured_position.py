"""An open position loop out of measured points of the shaft, its controllers being known.

The position loop holds the speed loop, closed, and the speed loop holds the plant. Where the plant
is measured as P for P₀ of the model, the open loop is that of the model times
(P/P₀)·(1 + L₀)/(1 + L), L being the open speed loop with P in it. Nothing has to stand still for
it, where friction would hide the answer.
"""

import math

import numpy as np
from numpy.typing import NDArray

from oarlock.control.measured_loop import LoopPoints, PlantPoints, over_model
from oarlock.control.position import PositionLoop

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


def position_points(points: PlantPoints, loop: PositionLoop) -> LoopPoints:
    """Return the open position loop at each measured frequency, with the gains of `loop`.

    Parameters
    ----------
    points : speed over the current asked for, as measured

    """

    def model(omega: Array) -> Complex:
        return np.asarray(loop.opened.response(omega)[0], dtype=np.complex128)

    omega = points.omega
    meant, off = loop.speed.opened.response(omega)[0], over_model(points, loop.speed.plant)
    inner = meant * off
    ratio = off * (1.0 + meant) / (1.0 + inner)
    std = points.std / np.abs(1.0 + inner)
    return LoopPoints(omega, np.asarray(model(omega) * ratio), std, points.trusted, model,
                      math.pi / loop.T)  # fmt: skip
