"""The angle of halls as it was, from edges on both sides of each moment.

A drive guesses the angle within a sector by the last speed, and sets it right at the next edge:
while the speed changes it lags, by up to half a sector where edges are rare. A record knows the
next edge as well: a monotone cubic through the angles just after the edges has no such lag, and
currents that were turned by the guess are turned back by what it was wrong.
"""

import itertools
import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis, SensorKind
from oarlock.records import Record

Array = NDArray[np.float64]

_AFTER = 2  # rows after a change: the mean over a row, and of that row no part before the edge
HOLDING = math.tau * 150.0  # rad/s, crossover by which a current is held while a shaft turns
_ROWS_APART = 4  # of two edges at least, where the drive's guess between them is replaced


def made_by_halls(record: Record, axis: Axis) -> bool:
    """Return whether a record holds an angle that was guessed between edges, and the edges."""
    return axis.sensor.kind is SensorKind.HALL and "hall" in record.columns


def seen_from_edges(record: Record, pairs: float) -> Record:
    """Return a record of halls with the angle as it was, currents and voltages in its frame.

    Parameters
    ----------
    record : columns t, theta_m, hall; id and iq, vd and vq, both or none
    pairs : of poles

    """
    guessed = record["theta_m"]
    theta = between_edges(record["t"], guessed, record["hall"])
    columns = dict(record.columns) | {"theta_m": theta}
    back = np.exp(1j * pairs * (guessed - theta))
    for d, q in (("id", "iq"), ("vd", "vq")):
        if {d, q} <= set(columns):
            turned = (record[d] + 1j * record[q]) * back
            columns |= {d: turned.real, q: turned.imag}
    return replace(record, columns=columns)


def torque_doubt(axis: Axis, speed: float) -> float:
    """Return the standard uncertainty (N m) of a mean torque by halls at a speed (rad/s).

    The angle e that an edge is seen too late, each a different part of a sampling period, and
    that the table is wrong drives a current along d by the back-EMF E, e·E·Y. Seen in the frame
    that is off by e, its mean along q is E·e²·Re Y, which makes no torque; a mean over many
    samples can't tell it. Re Y is at most 1/(R + Kp); half of that is taken.
    """
    m = axis.machine
    electrical = m.pole_pairs.value * speed
    late = electrical * axis.inverter.Ts / math.sqrt(12.0)
    off = max(axis.parameter(f"sensor.hall_{n}").std for n in range(1, 7))
    damping = m.R.value + gentle_gains(axis, HOLDING).Kp_d
    lost = electrical * m.psi.value * (late**2 + off**2) / damping
    return 0.5 * m.torque_constant * lost


def between_edges(t: Array, theta: Array, hall: Array) -> Array:
    """Return the angle (rad) of a shaft with halls, without the lag of a drive's guess.

    Parameters
    ----------
    t : (n,) s; what lies on two sides of a gap is taken for itself
    theta : (n,) rad, mechanical, as the drive guessed it
    hall : (n,) state, 0 to 7

    """
    from scipy.interpolate import PchipInterpolator

    made = np.array(theta)
    steps = np.diff(t)
    for piece in np.split(np.arange(t.size), np.flatnonzero(steps > 3.0 * np.median(steps)) + 1):
        edges = piece[:-1][np.diff(hall[piece]) != 0.0] + _AFTER
        edges = edges[edges <= piece[-1]]
        guessed = np.zeros(t.size, dtype=np.bool_)
        for first, last in itertools.pairwise(edges):
            guessed[first + 1 : last] = last - first >= _ROWS_APART
        if guessed.any():
            known = piece[~guessed[piece]]
            made[piece] = PchipInterpolator(t[known], theta[known])(t[piece])
    return made
