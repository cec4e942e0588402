"""A measured response as a table, to and from a CSV file: one row a frequency.

Of the speed loop it is the plant, speed over the current asked for behind the filters; of the
current loop it is the open loop.
"""

import math

import numpy as np

from oarlock.control.measured_loop import LoopPoints, PlantPoints
from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.sweep_points import COLUMNS
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.records import Record, Run


def as_table(run: Run, reading: SweepResult | CurrentSwept) -> Record:
    """Return a measured response as a record of columns, to be written as CSV."""
    points: PlantPoints | LoopPoints = reading.points
    speed = isinstance(reading, SweepResult)
    gain = reading.points.gain if isinstance(reading, SweepResult) else reading.points.opened
    kept = {k: v for k, v in run.settings.items() if isinstance(v, int | float | str)}
    kept.pop("made_on", None)
    return Record(
        experiment=run.kind,
        sample_time=reading.loop.plant.T if isinstance(reading, SweepResult) else 1e-4,
        columns={
            "f": points.omega / math.tau,
            "gain": np.abs(gain),
            "phase": np.degrees(np.unwrap(np.angle(gain))),
            "std": points.std,
            "trusted": points.trusted.astype(np.float64),
        },
        units=dict(zip(COLUMNS, ("Hz", "rad/(A s)" if speed else "1", "deg", "1", "1"),
                       strict=True)),
        settings=kept,
        drive="",
        date=run.started,
        ended="done",
    )  # fmt: skip
