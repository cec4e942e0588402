"""The shaft that lies in measured points: both masses, stiffness and damping, fitted to a response.

The structure is known, so that few numbers carry all points: a resonance and its quality are told
far better than by the highest point, and the largest sensitivity where single points scatter.
Where the structure does not carry the points, nothing is told.

Least squares on the complex ratio of model to measurement, each point weighted by the scatter round
it, as in Pintelon and Schoukens, System Identification, 2nd edition, section 8. One point's own
scatter, out of three stretches, is told too badly to weigh by: a point whose stretches agree by
chance would decide alone, and the uncertainty come out too small. The median of five neighbours is
taken.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oarlock.control.measured_loop import PlantPoints, plant_response
from oarlock.control.shaft import Shaft
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_plant import SpeedPlant
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
_FLOOR = 3e-3  # of a point: what its scatter does not show, cogging and folding among it
_STRUCTURE = 2e-4  # of a resonance: what two masses and a gain leave out, cogging among it
_NEIGHBOURS = 5  # points, out of which the scatter round one is taken
_FEWEST = 12  # points, for six numbers
_CARRIES = 2.5  # times the scatter: what the fit may leave
_STEP = 1e-4  # of the logarithms, for derivatives
_STARTS = (0.7, 0.8, 0.87, 0.93, 1.0, 1.07, 1.15, 1.25, 1.4)  # times the modelled frequencies
_DAMPINGS = (1.0, 4.0, 14.0)  # times the modelled damping
_STANDS_OUT = 3.0  # times: a peak over the dip before it, where no resonance is modelled


@dataclass(frozen=True, slots=True, kw_only=True)
class Told:
    """A figure with its standard uncertainty."""

    value: float
    std: float


@dataclass(frozen=True, kw_only=True, eq=False)
class FittedShaft:
    """What the points say about the shaft."""

    shaft: Shaft
    plant: SpeedPlant  # with that shaft
    late: float  # s, by which the response comes later than the model
    covariance: Array  # of the fitted numbers, see `_numbers`
    left: float  # of the residual, in scatters

    @cached_property
    def resonance(self) -> Told:
        """Where both masses swing against one another, rad/s."""
        found = self._told(lambda shaft: shaft.resonance)
        return replace(found, std=math.hypot(found.std, _STRUCTURE * found.value))

    @cached_property
    def anti_resonance(self) -> Told:
        """Where the load swings alone, rad/s."""
        return self._told(lambda shaft: shaft.anti_resonance)

    @cached_property
    def quality(self) -> Told:
        """Q of the resonance."""
        return self._told(quality)

    def Ms(self, gains: SpeedGains) -> Told:
        """Return the largest sensitivity of a loop with these gains on this shaft."""
        return self._told(
            lambda shaft: SpeedLoop(replace(self.plant, shaft=shaft), gains).margins.Ms
        )

    def _told(self, of: Callable[[Shaft], float]) -> Told:
        """Return a figure of the shaft with the uncertainty that the fitted numbers give it."""
        at = _numbers(self.shaft, self.shaft)
        value = of(self.shaft)
        slopes = np.zeros(at.size)
        for i in range(at.size):
            moved = at.copy()
            moved[i] += _STEP
            up = of(_shaft(moved, self.shaft))
            moved[i] -= 2.0 * _STEP
            slopes[i] = (up - of(_shaft(moved, self.shaft))) / (2.0 * _STEP)
        part = self.covariance[: at.size, : at.size]
        return Told(value=value, std=float(math.sqrt(slopes @ part @ slopes)))


def quality(shaft: Shaft) -> float:
    """Return Q of the resonance, one over twice the damping ratio of its poles."""
    poles = np.linalg.eigvals(shaft.matrices()[0])
    swinging = poles[np.abs(poles.imag) > 1e-6 * np.abs(poles)]
    if not swinging.size:
        return 0.0
    p = swinging[0]
    return float(abs(p) / max(2.0 * abs(p.real), 1e-12 * abs(p)))


def fitted_shaft(points: PlantPoints, plant: SpeedPlant) -> FittedShaft | None:
    """Return the shaft of two masses that carries the points; None where none does.

    Parameters
    ----------
    plant : as modelled; where its shaft is one mass, the search starts at the points' own peak

    """
    from scipy.optimize import least_squares

    keep = points.trusted
    if int(keep.sum()) < _FEWEST:
        return None
    omega, gain = points.omega[keep], points.gain[keep]
    start = plant.shaft if plant.shaft.twists else _seen(omega, gain, plant.shaft)
    if start is None:
        return None
    scatter, Ts = np.hypot(_around(points.std[keep]), _FLOOR), plant.current.plant.Ts

    def left(x: Array) -> Array:
        told = plant_response(replace(plant, shaft=_shaft(x, start)), omega)
        off = (told * np.exp(-1j * omega * x[-1] * Ts) / gain - 1.0) / scatter
        return np.concatenate([off.real, off.imag])

    def cost(x: Array) -> float:
        return float(np.sum(np.log1p(left(x) ** 2)))

    begins = [np.append(_numbers(start.moved(ratio), start, more), 0.0)
              for ratio in _STARTS for more in _DAMPINGS]  # fmt: skip
    found = least_squares(left, min(begins, key=cost), loss="soft_l1", f_scale=2.0, max_nfev=40)
    size = float(np.sqrt(np.mean(np.minimum(np.abs(left(found.x)), 4.0) ** 2)))
    best = _shaft(found.x, start)
    inside = omega[0] < best.anti_resonance < best.resonance < omega[-1]
    if not found.success or size > _CARRIES or not inside:
        return None
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * max(size, 1.0) ** 2
    return FittedShaft(shaft=best, plant=replace(plant, shaft=best), late=float(found.x[-1] * Ts),
                       covariance=covariance, left=size)  # fmt: skip


def _around(std: Array) -> Array:
    """Return the scatter round each point: of its neighbours' and its own the middle one."""
    side = _NEIGHBOURS // 2
    wide = np.pad(std, side, mode="edge")
    shown = np.lib.stride_tricks.sliding_window_view(wide, _NEIGHBOURS)
    return np.asarray(np.median(shown, axis=1), dtype=np.float64)


def _seen(omega: Array, gain: NDArray[np.complex128], shaft: Shaft) -> Shaft | None:
    """Return a shaft with the highest peak of the points and the dip before it; None: no peak."""
    steep = np.abs(gain) * omega  # level where one mass turns
    peak = int(np.argmax(steep))
    dip = int(np.argmin(steep[: peak + 1]))
    if not (0 < dip < peak) or steep[peak] < _STANDS_OUT * steep[dip]:
        return None
    low, high = float(omega[dip]), float(omega[peak])
    motor = shaft.inertia * (low / high) ** 2
    load = shaft.inertia - motor
    made = Shaft(motor=motor, load=load, stiffness=low * low * load, viscous=shaft.viscous)
    return replace(made, damping=10.0 * _least_damping(made))


def _numbers(shaft: Shaft, start: Shaft, more: float = 1.0) -> Array:
    """Return what is fitted: the logarithms of both masses, stiffness, damping; friction.

    Parameters
    ----------
    more : times its damping

    """
    damping = more * max(shaft.damping, _least_damping(shaft))
    shown = (shaft.motor, shaft.load, shaft.stiffness, damping)
    return np.append(np.log(shown), shaft.viscous / (start.inertia * start.anti_resonance))


def _shaft(x: Array, start: Shaft) -> Shaft:
    """Return the shaft of fitted numbers."""
    motor, load, stiffness, damping = np.exp(np.clip(x[:4], -40.0, 40.0))
    scale = start.inertia * start.anti_resonance
    return Shaft(motor=float(motor), load=float(load), stiffness=float(stiffness),
                 damping=float(damping), viscous=float(x[4] * scale))  # fmt: skip


def _least_damping(shaft: Shaft) -> float:
    """Return the damping (N·m s/rad) of a shaft that nobody measured: a Q of some 500."""
    return 2e-3 * shaft.stiffness / shaft.resonance
