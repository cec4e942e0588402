"""Checks that more than one estimator makes, in one wording."""

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import Axis
from oarlock.machine.axis import RMS, suspected_slip
from oarlock.quantities import Origin
from oarlock.records import Ask, Check, Record

_ALLOWED_LIMITED = 0.01  # share of the samples


def voltage_limit(record: Record, axis: Axis, *, lasting: int = 1) -> Check:
    """Return whether the bus left room: the commanded voltage stayed off its limit.

    Parameters
    ----------
    lasting : rows in a row from which it counts: a keen loop makes voltage of its sensor's steps,
        which the bus limits for a moment without shaping the answer

    """
    over = np.hypot(record["vd"], record["vq"]) > 0.98 * axis.inverter.v_max
    limited = float(np.mean(_in_a_row(over, lasting)))
    moments = float(np.mean(over))
    told = f"The bus limited {100 * limited:.2g} % of the samples (1 % allowed)"
    if limited <= _ALLOWED_LIMITED < moments:
        told = f"The bus limited {100 * moments:.2g} % of the samples, for moments only: the "
        told += "sensor's steps shake the voltage"
    return Check(code="voltage limit", passed=limited <= _ALLOWED_LIMITED, sentence=told,
                 ask=Ask.WEAKER)  # fmt: skip


def _in_a_row(over: NDArray[np.bool_], least: int) -> NDArray[np.bool_]:
    """Return where at least so many neighbours are true together."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], over, [False]]).astype(np.int8)))
    found = np.zeros(over.size, dtype=np.bool_)
    for first, end in edges.reshape(-1, 2):
        found[first:end] = end - first >= least
    return found


def against_printed(axis: Axis, path: str, found: float, low: float, high: float) -> list[Check]:
    """Return whether a value lies near the printed one; nothing where none is printed."""
    printed = axis.parameter(path).printed
    if printed.origin is Origin.ASSUMED:
        return []
    pairs = axis.machine.pole_pairs
    known = pairs.value if path == "machine.psi" and pairs.is_known else 1.0
    return [against_datasheet(found, printed.value, low, high, pole_pairs=known)]


def against_datasheet(
    found: float, printed: float, low: float, high: float, *, pole_pairs: float = 1.0
) -> Check:
    """Return whether a value lies near the printed one, and what its ratio hints at.

    Parameters
    ----------
    found, printed : the same quantity, SI
    low, high : the ratios between which it is believed
    pole_pairs : of the machine, where a slip of mechanical for electrical is possible
    """
    ratio, slip = found / printed, convention(found, printed, pole_pairs=pole_pairs)
    hint = f": {slip}? Check the entry" if slip else ""
    return Check(
        code="against datasheet",
        passed=not slip and low < ratio < high,
        sentence=f"{ratio:.2f} times the printed value{hint}",
    )


def convention(found: float, printed: float, *, pole_pairs: float = 1.0) -> str:
    """Return the slip of convention that the ratio of two values hints at, or nothing."""
    slip = suspected_slip(printed, found, pole_pairs=pole_pairs)
    # Neither resistance nor inductance nor inertia has an effective value.
    return "" if pole_pairs == 1.0 and slip == RMS else slip
