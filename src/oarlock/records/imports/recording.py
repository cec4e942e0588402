"""Recordings from any bench: what is in a file, and which of its columns means what.

A recording may have a header or none, its own names and units. A `Mapping` says what each
channel is made of; `recording` reads the file by it into a `Record` in SI.
"""

import math
from collections.abc import Mapping as Map
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.files import shown
from oarlock.records.imports.text_table import Preview, line_of, preview, read_columns
from oarlock.records.record import FROM_FILE, Record

Array = NDArray[np.float64]
__all__ = ["CHANNELS", "UNITS", "Mapping", "Preview", "Source", "guess", "preview", "recording"]
# What each unit is of, and what it is worth in SI.
UNITS: dict[str, tuple[str, float]] = {
    "s": ("s", 1.0), "ms": ("s", 1e-3), "us": ("s", 1e-6), "µs": ("s", 1e-6),
    "A": ("A", 1.0), "mA": ("A", 1e-3), "V": ("V", 1.0), "mV": ("V", 1e-3), "kV": ("V", 1e3),
    "rad": ("rad", 1.0), "deg": ("rad", math.pi / 180.0), "°": ("rad", math.pi / 180.0),
    "turn": ("rad", math.tau), "turns": ("rad", math.tau),
    "rad/s": ("rad/s", 1.0), "rpm": ("rad/s", math.tau / 60.0), "deg/s": ("rad/s", math.pi / 180.0),
    "N m": ("N m", 1.0), "Nm": ("N m", 1.0), "mNm": ("N m", 1e-3),
    "°C": ("°C", 1.0), "degC": ("°C", 1.0), "1": ("1", 1.0), "": ("", 1.0),
    "counts": ("counts", 1.0), "RPM": ("rad/s", math.tau / 60.0),
    "U/min": ("rad/s", math.tau / 60.0), "1/min": ("rad/s", math.tau / 60.0),
    "min-1": ("rad/s", math.tau / 60.0), "r/min": ("rad/s", math.tau / 60.0),
    "1/s": ("rad/s", math.tau), "rev": ("rad", math.tau), "N·m": ("N m", 1.0),
    "N.m": ("N m", 1.0), "mN m": ("N m", 1e-3), "mN·m": ("N m", 1e-3), "sec": ("s", 1.0),
    "degrees": ("rad", math.pi / 180.0), "Volt": ("V", 1.0), "Ampere": ("A", 1.0),
    "Amp": ("A", 1.0), "C": ("°C", 1.0), "count": ("counts", 1.0), "ticks": ("counts", 1.0),
}  # fmt: skip


def unit_of(text: str) -> tuple[str, float] | None:
    """Return what a unit as written is of, and what it is worth in SI; None: not known.

    Capitals count where they tell two units apart (mV, MV); else they do not (RPM, rpm).
    """
    plain = " ".join(text.split())
    if plain in UNITS:
        return UNITS[plain]
    alike = {UNITS[name] for name in UNITS if name.lower() == plain.lower()}
    return alike.pop() if len(alike) == 1 and not plain.startswith("M") else None


# The unit of each channel, and words by which a foreign column is taken for it.
CHANNELS: dict[str, tuple[str, tuple[str, ...]]] = {
    "t": ("s", ("t", "time", "zeit", "sec", "seconds", "timestamp")),
    "ia": ("A", ("ia", "i_a", "iu", "i_u", "phase a current")),
    "ib": ("A", ("ib", "i_b", "iv", "i_v")),
    "ic": ("A", ("ic", "i_c", "iw", "i_w")),
    "va": ("V", ("va", "v_a", "vu", "ua", "u_a")),
    "vb": ("V", ("vb", "v_b", "vv", "ub", "u_b")),
    "vc": ("V", ("vc", "v_c", "vw", "uc", "u_c")),
    "vab": ("V", ("vab", "v_ab", "uab", "emf", "bemf", "back emf", "voltage", "v", "u")),
    "id": ("A", ("id", "i_d")),
    "iq": ("A", ("iq", "i_q")),
    "vd": ("V", ("vd", "v_d", "ud")),
    "vq": ("V", ("vq", "v_q", "uq")),
    "id_ref": ("A", ("id_ref", "id ref", "id_cmd", "id*")),
    "iq_ref": ("A", ("iq_ref", "iq ref", "iq_cmd", "iq*")),
    "i": ("A", ("i", "current", "idc", "i_dc")),
    "vdc": ("V", ("vdc", "v_dc", "bus", "udc", "v_bus")),
    "theta_e": ("rad", ("theta_e", "electrical angle", "theta_el")),
    "theta_m": ("rad", ("theta_m", "position", "angle", "theta", "pos", "encoder")),
    "speed": ("rad/s", ("speed", "omega", "w", "rpm", "n", "velocity")),
    "torque": ("N m", ("torque", "te", "m")),
    "temperature": ("°C", ("temperature", "temp")),
}
UNTIMED = ("resistance",)  # what may be read point by point, without a time


@dataclass(frozen=True, slots=True)
class Source:
    """Where a channel comes from: a column of the file, by name or number, and its unit."""

    column: str
    unit: str = ""  # as in the file; empty: SI
    scale: float = 1.0  # besides the unit's


@dataclass(frozen=True, slots=True, kw_only=True)
class Mapping:
    """What a recording is: its experiment, its channels, and what its head does not say."""

    experiment: str
    sources: Map[str, Source]
    settings: Map[str, Any] = field(default_factory=dict)
    counts: float = 0.0  # a turn, where an angle comes in counts
    sample_time: float = 0.0  # s; 0: from the time column


def guess(seen: Preview, experiment: str, wanted: tuple[str, ...]) -> Mapping:
    """Return which column is most likely which channel: by name, then by unit, then by look.

    Parameters
    ----------
    wanted : the channels that the experiment can use, the needed ones first

    """
    sources: dict[str, Source] = {}
    free = list(range(len(seen.names)))
    for channel in wanted:
        unit, words = CHANNELS[channel]
        for n in free:
            name = seen.names[n].lower().strip()
            of = (unit_of(seen.units[n]) or ("", 1.0))[0]
            fits = not seen.units[n] or of in (unit, "counts", "1")
            if fits and (name in words or name.replace(" ", "_") in words):
                sources[channel] = Source(seen.names[n], seen.units[n])
                free.remove(n)
                break
    for channel in wanted:  # what has no name of its own: by unit, where just one is left
        unit = CHANNELS[channel][0]
        alike = [n for n in free if (unit_of(seen.units[n]) or ("", 1.0))[0] == unit]
        if channel not in sources and len(alike) == 1 and unit:
            sources[channel] = Source(seen.names[alike[0]], seen.units[alike[0]])
            free.remove(alike[0])
    if "t" not in sources and seen.rows.shape[0] > 3:
        rising = [n for n in free if _is_time(seen.rows[:, n])]
        if rising:
            sources["t"] = Source(seen.names[rising[0]], seen.units[rising[0]])
    return Mapping(experiment=experiment, sources=sources)


def _is_time(column: Array) -> bool:
    steps = np.diff(column)
    return bool(np.all(steps > 0.0) and np.ptp(steps) < 0.01 * float(np.mean(steps)))


def recording(seen: Preview, mapping: Mapping) -> Record:
    """Read the whole file by the mapping.

    Raises
    ------
    InputError : a column that is not there, a unit that is not of its channel, time that stands
        still or runs backward, samples missing, a value that is not finite

    """
    picked = {}
    for channel, source in mapping.sources.items():
        n = seen.index(source.column)
        # A unit that is not given is the one that the file's own header names.
        source = replace(source, unit=source.unit or seen.units[n])
        picked[channel] = (n, _worth(channel, source, mapping, seen))
    table = read_columns(seen, sorted({n for n, _ in picked.values()}))
    columns: dict[str, Any] = {channel: table[n] * worth for channel, (n, worth) in picked.items()}
    for channel, values in columns.items():
        bad = np.flatnonzero(~np.isfinite(values))
        if bad.size:
            place = f"{seen.path}, line {line_of(seen, int(bad[0]))}"
            raise InputError(f"{channel} is not a number", place=place,
                             remedy="Remove or mend the row")  # fmt: skip
    step = mapping.sample_time
    if "t" in columns:
        step = _time_step(columns["t"], seen)
        columns["t"] = columns["t"] - columns["t"][0]
    elif step <= 0.0 and mapping.experiment in UNTIMED:
        step = 1.0  # points read by hand: their order means nothing
    elif step > 0.0:
        columns["t"] = step * np.arange(next(iter(columns.values())).size)
    else:
        raise InputError("no column of time", place=str(seen.path),
                         remedy="Name one, or give the sample time")  # fmt: skip
    return Record(
        experiment=mapping.experiment,
        sample_time=step,
        columns=columns,
        units={channel: CHANNELS[channel][0] for channel in columns},
        settings=dict(mapping.settings),
        drive=f"{FROM_FILE} {shown(Path(seen.path.name))}",
    )


def _worth(channel: str, source: Source, mapping: Mapping, seen: Preview) -> float:
    wanted = CHANNELS[channel][0]
    known = unit_of(source.unit)
    if known is None:
        raise InputError(f"unit '{source.unit}' of {source.column} is not known",
                         place=str(seen.path),
                         remedy=f"Known: {', '.join(u for u in UNITS if u)}")  # fmt: skip
    of, worth = known
    if of == "counts":
        if wanted != "rad" or mapping.counts <= 0.0:
            raise InputError(f"{source.column} is in counts", place=str(seen.path),
                             remedy="Say how many counts make a turn")  # fmt: skip
        return math.tau / mapping.counts * source.scale
    if of not in ("", "1", wanted):
        raise InputError(f"{source.column} is in {source.unit}, {channel} is in {wanted}",
                         place=str(seen.path), remedy="Pick another column or unit")  # fmt: skip
    return worth * source.scale


def _time_step(t: Array, seen: Preview) -> float:
    steps = np.diff(t)
    if steps.size == 0:
        raise InputError("one row only", place=str(seen.path), remedy="Record for longer")
    step = float(np.median(steps))
    still = np.flatnonzero(steps <= 0.0)
    if still.size or step <= 0.0:
        at = int(still[0]) if still.size else 0
        word = "stands twice" if steps[at] == 0.0 else "runs backward"
        place = f"{seen.path}, line {line_of(seen, at + 1)}"
        raise InputError(f"the time {word}", place=place,
                         remedy="Remove the row, or record again")  # fmt: skip
    return step
