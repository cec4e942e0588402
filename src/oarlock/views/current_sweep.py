"""The measured open current loop over the predicted one."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.reading import runs_like
from oarlock.views.current import CurrentPicture
from oarlock.views.snapshot import Snapshot

Array = NDArray[np.float64]
SWEEP = "current sweep"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Seen:
    """Measured points; frequencies in Hz, angles in degrees."""

    when: str
    f: Array
    gain: Array  # dB
    phase: Array
    crossover: float  # Hz; 0: it does not cross among the points
    margin: float


def current_swept(now: Snapshot, shown: CurrentPicture) -> Seen | None:
    """Return the newest sweep along the axis on screen that ran with the gains in use."""
    for run in reversed(now.runs):
        reading = now.readings.get(run.id) if run.kind == SWEEP and run.ended == "done" else None
        if not isinstance(reading, CurrentSwept) or reading.axis_name != shown.axis_name:
            continue
        return _seen(reading, shown, run.started[11:16]) if runs_like(run, now.axis) else None
    return None


def _seen(reading: CurrentSwept, shown: CurrentPicture, when: str) -> Seen:
    points, keep, found = reading.points, reading.points.trusted, reading.found
    omega, opened = points.omega[keep], points.opened[keep]
    model = np.interp(omega, math.tau * shown.f, np.radians(shown.phase))
    return Seen(
        when=when, f=omega / math.tau,
        gain=20.0 * np.log10(np.maximum(np.abs(opened), 1e-9)),
        phase=np.degrees(model + np.angle(opened * np.exp(-1j * model))),
        crossover=found.crossover / math.tau if found else 0.0,
        margin=math.degrees(found.phase_margin) if found else 0.0,
    )  # fmt: skip
