"""An open speed loop out of measured points of its plant, and what is read off it.

What is measured is the speed for each ampere asked for behind the filters, at the current's rate.
Controller, filters, hold and the way the speed is worked out are known exactly: the open loop is
the exact one times measured over modelled plant, which scatters far less than the loop's own
signals do, and can be had for any other gains or filters as well. What the slower sampling folds
down is taken along with the model's shares.

Between the points the ratio to the model is interpolated, which is smooth where both are steep.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_plant import SpeedPlant

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_DENSE = 4000
_BEYOND = 4.0  # times below the first trusted frequency, where the model is asked for its peak
_BETWEEN = math.sqrt(2.0 / 3.0)  # of one point's scatter, interpolated between two, on average
_GAP = 1.3  # from one trusted point to the next, within which a peak is seen


@dataclass(frozen=True, slots=True, eq=False)
class PlantPoints:
    """Speed over current asked for, as measured."""

    omega: Array  # rad/s, rising
    gain: Complex  # rad/s for each A
    std: Array  # of one real part, as a ratio of the gain
    trusted: NDArray[np.bool_]


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopFigures:
    """What is read off an open loop, each with its standard uncertainty; rad/s, rad, ratios."""

    crossover: float
    crossover_std: float
    phase_margin: float
    phase_margin_std: float
    gain_margin: float  # infinite where the phase does not pass −180°
    Ms: float  # NaN: its peak lies where there are no points to trust
    Ms_std: float


def plant_response(plant: SpeedPlant, omega: Array) -> Complex:
    """Return the model's speed over current asked for behind the filters, at the current's rate."""
    _, _, angle, angle_given = plant.fine
    turned = _states(plant, omega) @ angle + angle_given[1]
    # The angle turned from one sample to the next is told at the later one.
    z = np.exp(1j * omega * plant.current.plant.Ts)
    return np.asarray(turned / z / plant.current.plant.Ts, dtype=np.complex128)


def volts_response(plant: SpeedPlant, omega: Array) -> Complex:
    """Return the model's voltage (V for each A) of a current asked for behind the filters."""
    return _states(plant, omega)[:, sum(one.order for one in plant.torque_filters) + 1]


def _states(plant: SpeedPlant, omega: Array) -> Complex:
    """Return each fine state for one ampere asked for behind the filters, (frequencies, states)."""
    step, given, _, _ = plant.fine
    z = np.exp(1j * omega * plant.current.plant.Ts)
    b, n = given[:, 1], step.shape[0]
    left = z[:, None, None] * np.eye(n) - step
    x = np.linalg.solve(left, np.broadcast_to(b[:, None], (z.size, n, 1)))
    return np.asarray(x[:, :, 0], dtype=np.complex128)


@lru_cache(maxsize=8)
def over_model(points: PlantPoints, plant: SpeedPlant) -> Complex:
    """Return measured over modelled plant at each measured frequency."""
    return np.asarray(points.gain / plant_response(plant, points.omega), dtype=np.complex128)


def opened_points(points: PlantPoints, loop: SpeedLoop) -> Complex:
    """Return the open loop at each measured frequency, with the gains and filters of `loop`."""
    ratio = over_model(points, loop.plant)
    return np.asarray(loop.opened.response(points.omega)[0] * ratio, dtype=np.complex128)


@dataclass(frozen=True, slots=True, eq=False)
class LoopPoints:
    """An open loop as measured, and what its model says between the points."""

    omega: Array  # rad/s, rising
    opened: Complex
    std: Array  # of one real part, as a ratio
    trusted: NDArray[np.bool_]
    model: Callable[[Array], Complex]
    nyquist: float  # rad/s, of the loop

    def between(self) -> tuple[Array, Complex]:
        """Return (rad/s, open loop) on a dense grid over the trusted points."""
        keep = self.trusted
        if int(keep.sum()) < 4:
            return np.zeros(0), np.zeros(0, dtype=np.complex128)
        at, gain = self.omega[keep], self.opened[keep]
        omega = np.geomspace(at[0], at[-1], _DENSE)
        ratio = np.log(gain / self.model(at))
        real = np.interp(np.log(omega), np.log(at), ratio.real)
        turned = np.interp(np.log(omega), np.log(at), np.unwrap(ratio.imag))
        return omega, self.model(omega) * np.exp(real + 1j * turned)


def loop_points(points: PlantPoints, loop: SpeedLoop) -> LoopPoints:
    """Return the open speed loop at each measured frequency, with the gains of `loop`."""

    def model(omega: Array) -> Complex:
        return np.asarray(loop.opened.response(omega)[0], dtype=np.complex128)

    return LoopPoints(points.omega, opened_points(points, loop), points.std, points.trusted, model,
                      math.pi / loop.plant.T)  # fmt: skip


def crossing(points: LoopPoints, meant: float) -> tuple[float, float] | None:
    """Return (rad/s, margin in rad) where an open loop crosses; None: not among its points.

    Parameters
    ----------
    meant : rad/s, where it should cross: of several crossings the nearest is taken

    """
    return _nearest(*points.between(), meant)


def _nearest(omega: Array, gain: Complex, meant: float) -> tuple[float, float] | None:
    size = np.abs(gain)
    falls = np.flatnonzero((size[:-1] >= 1.0) != (size[1:] >= 1.0))
    crossings = [_crossing(omega, gain, int(i)) for i in falls]
    return min(crossings, key=lambda pair: abs(math.log(pair[0] / meant)), default=None)


def figures(points: PlantPoints, loop: SpeedLoop) -> LoopFigures | None:
    """Return what is read off the measured open loop; None where it does not cross in range."""
    return figures_of(loop_points(points, loop), loop.margins.crossover)


def figures_of(points: LoopPoints, meant: float) -> LoopFigures | None:
    """Return what is read off an open loop; None where it does not cross in range.

    Parameters
    ----------
    meant : rad/s, where it should cross: of several crossings the nearest is taken

    """
    omega, gain = points.between()
    found = _nearest(omega, gain, meant)
    if found is None:
        return None
    (crossover, margin), size = found, np.abs(gain)
    slope = _slope(omega, size, crossover)
    near = _std_at(points, crossover)
    distance = np.abs(1.0 + gain)
    closest = int(np.argmin(distance))
    worst = float(distance[closest])
    off = _std_at(points, float(omega[closest])) * float(size[closest])
    return LoopFigures(
        crossover=crossover,
        crossover_std=crossover * near / max(abs(slope), 0.2),
        phase_margin=margin,
        phase_margin_std=near * _BETWEEN,
        gain_margin=_gain_margin(omega, gain),
        Ms=1.0 / worst if _sees_worst(points) else math.nan,
        Ms_std=3.0 * off / worst**2,  # the scatter of one point tells it too small
    )


def _sees_worst(points: LoopPoints) -> bool:
    """Return whether trusted points lie round where the model's loop comes nearest to −1."""
    at = points.omega[points.trusted]
    omega = np.geomspace(at[0] / _BEYOND, 0.999 * points.nyquist, _DENSE)
    worst = float(omega[int(np.argmin(np.abs(1.0 + points.model(omega))))])
    i = int(np.searchsorted(at, worst))
    return 0 < i < at.size and bool(at[i] <= _GAP * at[i - 1])


def _crossing(omega: Array, gain: Complex, i: int) -> tuple[float, float]:
    """Return (rad/s, margin in rad) of the crossing between two points of a dense grid."""
    low, high = math.log(abs(gain[i])), math.log(abs(gain[i + 1]))
    share = low / (low - high) if low != high else 0.0
    at = float(omega[i] * (omega[i + 1] / omega[i]) ** share)
    here = gain[i] * (gain[i + 1] / gain[i]) ** share
    return at, math.atan2(-here.imag, -here.real)


def _slope(omega: Array, size: Array, at: float) -> float:
    """Return d ln|L| / d ln ω near a frequency."""
    i = int(np.clip(np.searchsorted(omega, at), 20, omega.size - 20))
    run = math.log(omega[i + 19] / omega[i - 20])
    return float(math.log(size[i + 19] / size[i - 20])) / run


def _std_at(points: LoopPoints, at: float) -> float:
    """Return the scatter of the two trusted points round a frequency, as of their mean."""
    keep = points.trusted
    omega, std = points.omega[keep], points.std[keep]
    i = int(np.clip(np.searchsorted(omega, at), 1, omega.size - 1))
    return float(math.hypot(std[i - 1], std[i]) / math.sqrt(2.0))


def _gain_margin(omega: Array, gain: Complex) -> float:
    """Return by how much the gain may rise: the least over all passes of −180° below 1."""
    passes = np.flatnonzero((np.diff(np.sign(gain.imag)) != 0) & (gain.real[:-1] < 0.0))
    sizes = [abs(complex(gain[i])) for i in passes]
    below = [1.0 / size for size in sizes if 0.0 < size < 1.0]
    return min(below, default=math.inf) if omega.size else math.inf
