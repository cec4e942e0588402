"""A measured response over the predicted one: points with the gains and filters in use."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.measured_loop import figures, opened_points
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed import SpeedPicture

Array = NDArray[np.float64]
SWEEP = "speed sweep"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Swept:
    """The open loop at measured points; frequencies in Hz, angles in degrees."""

    when: str
    preview: bool  # the plant was measured with other gains or filters
    f: Array
    gain: Array  # dB
    phase: Array
    trusted: NDArray[np.bool_]
    crossover: float  # 0: it does not cross among the points
    margin: float


def swept(now: Snapshot, shown: SpeedPicture) -> Swept | None:
    """Return the newest sweep with the gains that are shown, or None: none was made.

    What was measured is the plant, so that a change of gains or filters is previewed on it.
    """
    for run in reversed(now.runs):
        reading = now.readings.get(run.id) if run.kind == SWEEP and run.ended == "done" else None
        if isinstance(reading, SweepResult):
            same = now.tested(SWEEP)
            preview = same is None or same[0] is not run
            return _swept(reading, shown, run.started[11:16], preview=preview)
    return None


def _swept(reading: SweepResult, shown: SpeedPicture, when: str, *, preview: bool) -> Swept:
    points = reading.points
    opened = opened_points(points, shown.loop)
    found = figures(points, shown.loop)
    # The phase goes on from the model's own turn at each point.
    model = np.interp(points.omega, math.tau * shown.f, np.radians(shown.phase))
    phase = model + np.angle(opened * np.exp(-1j * model))
    return Swept(
        when=when, preview=preview, f=points.omega / math.tau,
        gain=20.0 * np.log10(np.maximum(np.abs(opened), 1e-9)),
        phase=np.degrees(phase), trusted=points.trusted,
        crossover=found.crossover / math.tau if found else 0.0,
        margin=math.degrees(found.phase_margin) if found else 0.0,
    )  # fmt: skip
