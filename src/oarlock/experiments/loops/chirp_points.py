"""The plant's response out of a record of chirps: cross spectra with what was sent.

The chirp that was sent is known and free of noise, so that what the loop feeds back of its own
noise falls out of both products (an instrument; Pintelon and Schoukens, System Identification, 2nd
edition, section 2.6). Lines are taken together in bands, as a ratio to the model, which is level
where the response is steep; what is left within a band tells the scatter.
"""

import math

import numpy as np
from numpy.typing import NDArray

from oarlock.control.measured_loop import PlantPoints, plant_response
from oarlock.control.speed_plant import SpeedPlant
from oarlock.errors import InputError
from oarlock.records import Record
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_BANDS = 60  # over all chirps
_FEWEST = 3  # lines in a band


def is_chirp(record: Record) -> bool:
    """Return whether a sweep was made by chirps."""
    return "glides" in record.settings


def chirp_points(record: Record, plant: SpeedPlant) -> PlantPoints:
    """Return the plant at the middle of each band, rising.

    Parameters
    ----------
    record : columns iq_ref, dtheta, averaged over bins
    plant : as modelled: the bands are taken as ratios to it

    Raises
    ------
    InputError : rows that do not fit the settings

    """
    rest, every = round(number(record.settings, "rest")), number(record.settings, "decimation")
    told = numbers(record.settings, "glides")
    glides = [(told[i], told[i + 1], round(told[i + 2])) for i in range(0, len(told), 3)]
    if record.rows != sum(rows + 2 * rest for _, _, rows in glides):
        raise InputError("the rows do not fit the chirps", place=record.experiment,
                         remedy="Play it again")  # fmt: skip
    sample, at, found = every * plant.current.plant.Ts, 0, []
    for low, high, rows in glides:
        span = slice(at, at + rows + 2 * rest)
        turned = record["dtheta"][span] / plant.current.plant.Ts
        found.append(_part(record["iq_ref"][span], turned, (low, high, rows, rest), sample, plant))
        at = span.stop
    omega, gain, std = (np.concatenate(parts) for parts in zip(*found, strict=True))
    trusted = np.ones(omega.size, dtype=np.bool_)
    return PlantPoints(omega, gain, std, trusted)


def _part(
    current: Array, turned: Array, glide: tuple[float, float, int, int], sample: float,
    plant: SpeedPlant,
) -> tuple[Array, Complex, Array]:  # fmt: skip
    """Return (rad/s, gain, scatter as a ratio) of one chirp's bands."""
    low, high, rows, rest = glide
    n = current.size
    sent = np.zeros(n)
    share, ratio = (np.arange(rows) + 0.5) / rows, math.log(high / low)
    turns = low * rows * sample / ratio * np.expm1(ratio * share)
    sent[rest : rest + rows] = np.sin(math.tau * turns)
    hertz = np.fft.rfftfreq(n, sample).astype(np.float64)
    inside = (hertz >= low) & (hertz <= high)
    hertz = hertz[inside]
    x = np.fft.rfft(sent)[inside]
    u, y = (np.fft.rfft(one - np.mean(one))[inside] for one in (current, turned))
    model = plant_response(plant, math.tau * hertz)
    told, given = y * np.conj(x), model * u * np.conj(x)
    middles, gains, stds = [], [], []
    for lines in _bands(hertz, low, high):
        whole = np.sum(given[lines])
        r = np.sum(told[lines]) / whole
        left = told[lines] - r * given[lines]
        count = lines.size
        noise = math.sqrt(float(np.sum(np.abs(left) ** 2)) * count / (2.0 * (count - 1)))
        middle = float(np.exp(np.mean(np.log(hertz[lines]))))
        middles.append(math.tau * middle)
        gains.append(r)
        stds.append(noise / max(abs(r * whole), 1e-30))
    omega = np.array(middles)
    return omega, np.array(gains) * plant_response(plant, omega), np.array(stds)


def _bands(hertz: Array, low: float, high: float) -> list[NDArray[np.intp]]:
    """Return the lines of each band: by equal ratios, wider where few lines lie."""
    edges = np.geomspace(low, high, max(round(_BANDS * math.log(high / low) / 6.0), 6) + 1)
    found: list[NDArray[np.intp]] = []
    first = 0
    for edge in edges[1:]:
        last = int(np.searchsorted(hertz, edge, side="right"))
        if last - first >= _FEWEST:
            found.append(np.arange(first, last))
            first = last
    return found
