"""Checks on a recording itself, before anything is believed that is made of it.

Samples missing, signals at the end of their converter's range, angles that jump at the turn's
end, a supply that sags, columns that contradict one another, sizes that the machine cannot reach.
"""

import math
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.records import Check, Record
from oarlock.records.record import FROM_FILE

Array = NDArray[np.float64]
_LOST = 0.002  # share of samples that may be missing without a word
_CLIPPED = 0.002  # share of rows at one end
_PILED = 5.0  # times as many rows at the very end as on the next level
_SAG = 0.85
# What is recorded without a break; holds and stretches leave gaps on purpose.
_UNBROKEN = ("flux", "inertia", "inductance_d", "inductance_q")
_DEGREE, _RPM = 180.0 / math.pi, 60.0 / math.tau


def is_foreign(record: Record) -> bool:
    """Return whether a record comes from a file that no drive of ours made."""
    return record.drive.startswith(FROM_FILE)


def prepared(record: Record) -> Record:
    """Return a foreign record whose wrapped angles are unwrapped.

    Raises
    ------
    InputError : an angle that jumps, in a way that is not plainly a turn's end

    """
    if not is_foreign(record):
        return record
    columns = dict(record.columns)
    for name in ("theta_m", "theta_e"):
        if name in columns and columns[name].size > 20:
            columns[name] = _unwrapped(columns[name], columns.get("t"), name, record.experiment)
    return replace(record, columns=columns)


def _unwrapped(angle: Array, t: Array | None, name: str, place: str) -> Array:
    steps = np.diff(angle)
    if t is not None:  # what moved while nothing was recorded is no jump
        gaps = np.diff(t)
        steps = np.where(gaps > 1.5 * float(np.median(gaps)), 0.0, steps)
    usual = float(np.quantile(np.abs(steps), 0.9))
    jumps = np.abs(steps) > max(20.0 * usual, 0.25 * math.tau)
    span = float(np.ptp(angle))
    if not jumps.any():
        fast = float(np.quantile(np.abs(steps), 0.5))
        if fast > 0.25 * math.tau and abs(span - math.tau) < 0.2 * math.tau:
            cause = f"{name} is wrapped, and turns by a quarter and more between two samples"
            raise InputError(cause, place=place, remedy="Sample faster, or record it unwrapped")
        return angle
    sizes = np.abs(steps[jumps])
    if not np.all(np.abs(sizes - math.tau) < 0.2 * math.tau) or span > 1.05 * math.tau:
        cause = f"{name} jumps by {digits(float(sizes.max()), 3)} rad between two samples"
        remedy = "Is it wrapped, or in another unit? Record it unwrapped"
        raise InputError(cause, place=place, remedy=remedy)
    if usual > 0.35 * math.tau:
        cause = f"{name} is wrapped, and turns by a third and more between two samples"
        raise InputError(cause, place=place, remedy="Sample faster, or record it unwrapped")
    return np.asarray(np.unwrap(angle))


def soundness(record: Record, axis: Axis) -> tuple[Check, ...]:
    """Return what can be said of the recording itself; nothing of a drive's own."""
    if not is_foreign(record):
        return ()
    found = [
        *_gaps(record), *_clips(record), *_bus(record, axis), *_contradictions(record),
        *_sizes(record, axis),
    ]  # fmt: skip
    return tuple(found)


def _gaps(record: Record) -> Iterator[Check]:
    t = record.columns.get("t")
    if t is None or t.size < 20 or record.experiment not in _UNBROKEN or _is_staged(record):
        return
    step = float(np.median(np.diff(t)))
    due = (float(t[-1]) - float(t[0])) / step + 1.0
    lost = max(1.0 - t.size / due, 0.0)
    longest = float(np.diff(t).max()) / step
    hint = f", {longest - 1:.0f} of them in one piece" if longest > 10.5 and lost > _LOST else ""
    yield Check(
        code="samples",
        passed=lost <= _LOST,
        sentence=f"{100 * lost:.1f} % of the samples are missing ({100 * _LOST:.1f} allowed){hint}",
    )


def _is_staged(record: Record) -> bool:
    """Return whether its head says that it consists of stretches."""
    return bool(record.settings.get("segments") or record.settings.get("speeds"))


def _clips(record: Record) -> Iterator[Check]:
    for name in ("ia", "ib", "ic", "id", "iq", "i", "va", "vb", "vc", "vab", "vd", "vq", "torque"):
        if name not in record.columns or record.rows < 50:
            continue
        share = clipped(record[name])
        if share > _CLIPPED:
            yield Check(
                code="clipped",
                passed=False,
                sentence=f"{name} stands at its end in {100 * share:.1f} % of the rows "
                "(0.2 allowed): the converter or the instrument's range is at its end",
            )


def clipped(values: Array) -> float:
    """Return the share of rows in which a signal that moves stands still at its very end.

    Rows pile up at the end of a range. A sine in a converter's steps has many rows on its
    highest level, too, but not many more than on the next one below (2.4 times, at most).
    """
    if not float(np.ptp(values)) > 0.0:
        return 0.0
    worst = 0.0
    levels, counts = np.unique(values, return_counts=True)
    if levels.size < 5:
        return 0.0  # a state or a staircase
    gap = float(np.median(np.diff(levels)))
    for end, near in ((-1, -2), (0, 1)):
        share = counts[end] / values.size
        beside = counts[near] if abs(levels[end] - levels[near]) < 3.0 * gap else 0
        if counts[end] > _PILED * max(beside, 1) and _returns(values, float(levels[end])):
            worst = max(worst, float(share))
    return worst


def _returns(values: Array, end: float) -> bool:
    """Return whether a signal comes to its end more than once, or only for a part of the time."""
    at = values == end
    return bool(np.mean(at) < 0.6) and int(np.count_nonzero(np.diff(at.astype(int)) == 1)) > 0


def _bus(record: Record, axis: Axis) -> Iterator[Check]:
    if "vdc" not in record.columns:
        return
    low = float(record["vdc"].min()) / axis.inverter.bus_voltage.value
    yield Check(
        code="bus",
        passed=low > _SAG,
        sentence=f"The bus stayed above {100 * low:.0f} % of its voltage ({100 * _SAG:.0f} needed)"
        + ("" if low > _SAG else ": the supply sags"),
    )


def _contradictions(record: Record) -> Iterator[Check]:
    """Hold a speed that was recorded against the angle beside it."""
    if not {"t", "theta_m", "speed"} <= set(record.columns) or record.rows < 50:
        return
    t, theta, speed = record["t"], record["theta_m"], record["speed"]
    moved = float(np.trapezoid(np.abs(speed), t))
    way = _travelled(theta)
    if moved < 1e-3 or way < 1e-3:
        return
    ratio = way / moved
    names = (
        (_DEGREE, "is the angle in degrees"),
        (1.0 / _RPM, "is the speed in rpm"),
        (1.0 / math.tau, "is the angle in turns"),
        (_DEGREE / _RPM, "degrees and rpm"),
    )
    hint = next((f": {name}?" for value, name in names if abs(ratio / value - 1.0) < 0.08), "")
    agree = abs(ratio - 1.0) < 0.05
    yield Check(
        code="speed and angle",
        passed=agree,
        sentence=f"The angle moves {digits(ratio, 3)} times as fast as the speed says" + hint,
    )


def _travelled(theta: Array) -> float:
    """Return the way there and back, free of the noise between two samples."""
    width = max(theta.size // 400, 1)
    thin = theta[: theta.size // width * width].reshape(-1, width).mean(axis=1)
    return float(np.sum(np.abs(np.diff(thin)))) * theta.size / max(theta.size - width, 1)


def _sizes(record: Record, axis: Axis) -> Iterator[Check]:
    """Hold currents and speeds against what this machine can bear and reach."""
    m = axis.machine
    for name in ("ia", "ib", "ic", "id", "iq", "i"):
        if name not in record.columns:
            continue
        most = float(np.abs(record[name]).max())
        if most > 3.0 * m.peak_current.value:
            yield Check(
                code="current",
                passed=False,
                sentence=f"{name} reaches {digits(most, 3)} A, {most / m.peak_current.value:.0f} "
                "times the peak current of this machine: in mA?",
            )
    yield from _speeds(record, axis)


def _speeds(record: Record, axis: Axis) -> Iterator[Check]:
    top = axis.machine.max_speed.value
    reached = 0.0
    if "theta_m" in record.columns and "t" in record.columns and record.rows > 50:
        width = max(record.rows // 200, 1)
        t, theta = record["t"][::width], record["theta_m"][::width]
        reached = float(np.quantile(np.abs(np.diff(theta) / np.diff(t)), 0.9))
    if "speed" in record.columns:
        reached = max(reached, float(np.quantile(np.abs(record["speed"]), 0.9)))
    if reached > 1.3 * top:
        yield Check(
            code="speed",
            passed=False,
            sentence=f"The shaft turns {digits(reached / top, 3)} times its top speed: degrees, "
            "counts or rpm taken for rad, or time in ms?",
        )


def with_angle(record: Record) -> Record:
    """Return the record with the angle that its measured speed gives."""
    if "theta_m" in record.columns or "speed" not in record.columns:
        return record
    from scipy.integrate import cumulative_trapezoid

    theta = np.asarray(cumulative_trapezoid(record["speed"], record["t"], initial=0.0))
    return replace(record, columns={**record.columns, "theta_m": theta},
                   units={**record.units, "theta_m": "rad"})  # fmt: skip
