"""The plant's response out of a record of multisines: line by line, over whole periods.

A line's gain is that of its mean over the periods. Its scatter is pooled with that of its quiet
neighbours; where these hold something that repeats from period to period, the machine is not linear
there by so much, and the line is no better known.
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
_REPEATS = 2.5  # times what noise leaves between the lines: one in some hundred by chance


def is_multisine(record: Record) -> bool:
    """Return whether a sweep was made by multisines."""
    return "bins_above" in record.settings


def multisine_points(record: Record, plant: SpeedPlant) -> PlantPoints:
    """Return the plant at each line, rising; each is trusted by its scatter alone.

    Parameters
    ----------
    record : columns iq_ref, dtheta, averaged over bins
    plant : as modelled: between a line and its quiet neighbours the response goes as the model's

    Raises
    ------
    InputError : rows that do not fit the settings

    """
    s = record.settings
    spans = [round(x) for x in numbers(s, "spans")]
    every, Ts = number(s, "decimation"), plant.current.plant.Ts
    if record.rows != sum(rows * periods for rows, periods in zip(spans[::2], spans[1::2],
                                                                  strict=True)):  # fmt: skip
        raise InputError("the rows do not fit the multisines", place=record.experiment,
                         remedy="Play it again")  # fmt: skip
    at, found = 0, []
    for n, name in enumerate(("bins_below", "bins_above")):
        rows, periods = spans[2 * n], spans[2 * n + 1]
        span = slice(at, at + rows * periods)
        at = span.stop
        current, turned = (
            np.fft.rfft(one[span].reshape(periods, rows), axis=1) / rows
            for one in (record["iq_ref"], record["dtheta"] / Ts)
        )
        bins = np.array(numbers(s, name)).astype(np.intp)
        found.append(_part(current, turned, bins, 1.0 / (rows * every * Ts), plant))
    omega, gain, std = (np.concatenate(parts) for parts in zip(*found, strict=True))
    return PlantPoints(omega, gain, std, np.ones(omega.size, dtype=np.bool_))


def _part(
    current: Complex, turned: Complex, bins: NDArray[np.intp], base: float, plant: SpeedPlant
) -> tuple[Array, Complex, Array]:
    """Return (rad/s, gain, scatter as a ratio) of one multisine's lines.

    Parameters
    ----------
    current, turned : A and rad/s, spectra of each period, (periods, multiples)
    base : Hz, of one period

    """
    periods = current.shape[0]
    omega = math.tau * base * bins
    near = np.stack([bins - 1, bins, bins + 1])
    shape = plant_response(plant, math.tau * base * near.ravel().astype(np.float64))
    shape = shape.reshape(near.shape)
    u, y = current[:, bins], turned[:, bins]
    gain = y.mean(axis=0) / u.mean(axis=0)
    left = y - gain * u
    quiet = [turned[:, near[n]] - gain * shape[n] / shape[1] * current[:, near[n]] for n in (0, 2)]
    power = np.sum(np.abs(np.stack([left, *quiet])) ** 2, axis=(0, 1))
    noise = np.sqrt(power / (2.0 * (3 * periods - 1)) / periods)
    repeated = np.sqrt(np.sum(np.abs(np.stack(quiet).mean(axis=1)) ** 2, axis=0) / 4.0)
    size = np.abs(gain) * np.abs(u.mean(axis=0))
    odd = np.where(repeated > _REPEATS * noise, repeated, 0.0)
    std = np.hypot(noise, odd) / np.maximum(size, 1e-30)
    return np.asarray(omega, dtype=np.float64), gain, np.asarray(std, dtype=np.float64)
