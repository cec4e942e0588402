"""What the edges of motion say: zero, friction, load and saliency from a bounded search.

At an edge the torque just moves the shaft:

    I sin(delta) (1 + c I cos(delta)) = load + friction,  c = (Ld - Lq) / psi

with torques in the q current that would give them.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.machine import Axis

Array = NDArray[np.float64]
_PLACE = "bounded search"
_SIDES = 0.15  # weight of the side on which the shaft moved, beside the torques
_MOST_CONTRARY = 0.34  # share of the edges whose side may be told the wrong way


@dataclass(frozen=True, slots=True)
class Solved:
    """What four edges say; torques in the q current (A) that would give them."""

    zero: float  # rad, electrical
    friction: float  # A
    load: float  # A
    saliency: float  # 1/A, (Ld - Lq) / psi
    residual: float  # rad rms
    edges: int

    def edges_at(self, current: float) -> list[tuple[float, int, bool]]:
        """Return the edges of motion: angle from the rotor's place (rad), sign, whether below."""
        delta = np.linspace(0.0, math.tau, 2881)
        torque = current * np.sin(delta) * (1.0 + self.saliency * current * np.cos(delta))
        found = []
        for sign, moves in (
            (1, torque > self.load + self.friction),
            (-1, torque < self.load - self.friction),
        ):
            for n in np.flatnonzero(np.diff(moves.astype(int)) != 0):
                found.append((float(delta[n]) - self.zero, sign, bool(moves[n])))
        return sorted(found)

    def rest(self, current: float) -> float:
        """Return how far ahead of d a current must point to just move the shaft forward, rad."""
        delta = np.linspace(-1.4, 1.4, 561)
        torque = current * np.sin(delta) * (1.0 + self.saliency * current * np.cos(delta))
        above = np.flatnonzero(torque > self.friction + self.load)
        return float(delta[above[0]]) if above.size else 1.4


def solve(rows: Array, axis: Axis, side: float) -> Solved:
    """Return the zero from trials, of which each row is angle, current, sign, theta_m.

    Raises
    ------
    InputError : the trials do not show four edges

    """
    from scipy.optimize import least_squares

    edges = _edges(rows, axis, side)
    if len(edges) < 4:
        raise InputError(f"{len(edges)} edges of motion; four are needed", place=_PLACE)
    place, sign, current, above = np.array(edges).T
    m = axis.machine
    known = (m.Ld.value - m.Lq.value) / m.psi.value
    most = float(current.max())
    span = 0.5 * abs(known) + 0.1 / most

    def torques(p: Array) -> Array:
        delta = place + p[0]
        torque = current * np.sin(delta) * (1.0 + p[3] * current * np.cos(delta))
        off: Array = (side * (torque - p[2]) - p[1] * sign) / most
        # Saliency over flux is known from paper only: believed within 20 %.
        belief = 0.01 * (p[3] - known) / (0.2 * abs(known) + 0.02 / most)
        return np.append(off, belief)

    def contrary(p: Array) -> Array:
        # The torque must rise towards the side on which the shaft moved forward. Where halving
        # ended within what friction scatters, its last two trials may tell it the wrong way.
        delta = place + p[0]
        rise = side * current * (np.cos(delta) + p[3] * current * np.cos(2.0 * delta)) / most
        found: Array = np.minimum(above * sign * rise, 0.0)
        return found

    def misfit(p: Array) -> Array:
        return np.concatenate([torques(p), _SIDES * contrary(p)])

    best = None
    for start in np.arange(12) * math.tau / 12:
        found = least_squares(
            misfit, [start, 0.1 * most, 0.0, known], x_scale=[0.1, 1.0, 1.0, 0.1 / most],
            bounds=([-20, 0.0, -most, known - span], [20, most, most, known + span]),
        )  # fmt: skip
        slope = float(np.mean(np.abs(np.cos(place + found.x[0]))))
        if best is None or found.cost < best[0] - 1e-12:
            best = (float(found.cost), found.x, max(slope, 0.1))
    if best is None:
        raise InputError("the edges fit no rotor", place=_PLACE)
    _, p, slope = best
    if float(np.mean(contrary(p) < 0.0)) > _MOST_CONTRARY:
        raise InputError("the edges contradict one another", place=_PLACE)
    # The sides chose which solution; the torques alone say where exactly it is.
    low, high = [-20, 0.0, -most, known - span], [20, most, most, known + span]
    fine = least_squares(torques, p, x_scale=[0.1, 1.0, 1.0, 0.1 / most], bounds=(low, high))
    cost, p = float(fine.cost), fine.x
    residual = math.sqrt(2.0 * cost / max(len(edges) - 3, 1)) / slope
    return Solved(wrap(float(p[0])), float(p[1]), float(p[2]), float(p[3]), residual, len(edges))


def _edges(rows: Array, axis: Axis, side: float) -> list[tuple[float, float, float, float]]:
    """Return the edges, where halving ended between two trials.

    Each is angle - p theta_m (rad), sign of the motion, current (A), and 1 where the shaft moved
    above it, -1 where it moved below.
    """
    pairs = axis.machine.pole_pairs.value
    found = []
    for edge in range(1, int(rows[:, 4:].max(initial=0.0)) + 1):
        ends = rows[(rows[:, 4:] == edge).any(axis=1)]
        if len(ends) != 2:
            continue
        place = ends[:, 0] - side * pairs * ends[:, 3]
        apart = wrap(float(place[1] - place[0]))
        middle = float(place[0]) + 0.5 * apart
        for n, sign in enumerate(ends[:, 2]):
            if sign != 0.0:
                above = math.copysign(1.0, apart) * (1.0 if n else -1.0)
                found.append((middle, float(sign), float(ends[0, 1]), above))
    return found
