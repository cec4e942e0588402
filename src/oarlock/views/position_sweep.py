"""The position loop over the measured points of the speed loop's sweep."""

import math

import numpy as np

from oarlock.control.measured_loop import crossing
from oarlock.control.measured_position import position_points
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.views.position import PositionPicture
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed_sweep import SWEEP, Swept


def position_swept(now: Snapshot, shown: PositionPicture) -> Swept | None:
    """Return the newest sweep with the position loop's gains that are shown, or None.

    What was measured is the plant: other gains of either loop are previewed on it.
    """
    for run in reversed(now.runs):
        reading = now.readings.get(run.id) if run.kind == SWEEP and run.ended == "done" else None
        if isinstance(reading, SweepResult):
            same = now.tested(SWEEP)
            return _swept(reading, shown, run.started[11:16], preview=same is None)
    return None


def _swept(reading: SweepResult, shown: PositionPicture, when: str, *, preview: bool) -> Swept:
    points = position_points(reading.points, shown.loop)
    found = crossing(points, shown.margins.crossover) if shown.margins.stable else None
    model = np.interp(points.omega, math.tau * shown.f, np.radians(shown.phase))
    return Swept(
        when=when, preview=preview, f=points.omega / math.tau,
        gain=20.0 * np.log10(np.maximum(np.abs(points.opened), 1e-9)),
        phase=np.degrees(model + np.angle(points.opened * np.exp(-1j * model))),
        trusted=points.trusted,
        crossover=found[0] / math.tau if found else 0.0,
        margin=math.degrees(found[1]) if found else 0.0,
        shaft="",
    )  # fmt: skip
