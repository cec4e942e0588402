"""A measured response to a CSV file and back: the same figures, and files that are wrong."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.control.speed_design import usual_speed
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.current_multisine import CurrentMultisine
from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.loops.sweep_table import as_table
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Record
from oarlock.records.csv_file import read_record, write_record
from oarlock.session.perform import Performed, perform
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def _performed(experiment: Experiment, axis: Axis) -> Performed:
    return perform(experiment, axis, ModelLink(draw("winch", 0)), lambda _f, _d: None, Hasty())


@pytest.fixture(scope="module")
def swept(axis: Axis) -> Performed:
    return _performed(SpeedSweep(speed=usual_speed(axis), torque=usual_load(axis), count=24), axis)


def test_a_speed_sweep_comes_back_from_its_file(
    axis: Axis, swept: Performed, tmp_path: Path
) -> None:
    assert isinstance(swept.reading, SweepResult)
    write_record(tmp_path / "sweep.csv", as_table(swept.run, swept.reading))
    again = read(read_record(tmp_path / "sweep.csv"), axis)
    assert isinstance(again, SweepResult)
    assert again.points.gain == pytest.approx(swept.reading.points.gain, rel=1e-9)
    assert np.array_equal(again.points.trusted, swept.reading.points.trusted)
    assert again.figures == pytest.approx(swept.reading.figures)
    assert again.holds == swept.reading.holds


@pytest.mark.parametrize("kind", [CurrentSweep, CurrentMultisine])
def test_a_current_sweep_comes_back_from_its_file(
    axis: Axis, tmp_path: Path, kind: type[CurrentSweep] | type[CurrentMultisine]
) -> None:
    done = _performed(kind(axis_name="q", bias=4.0, amplitude=0.8, count=20), axis)
    assert isinstance(done.reading, CurrentSwept)
    write_record(tmp_path / "sweep.csv", as_table(done.run, done.reading))
    again = read(read_record(tmp_path / "sweep.csv"), axis)
    assert isinstance(again, CurrentSwept)
    assert again.axis_name == "q"
    assert again.figures == pytest.approx(done.reading.figures)


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"f": lambda f: f[::-1]}, "frequencies do not rise"),
        ({"gain": lambda g: -g}, "not above zero"),
        ({"f": lambda f: 0.0 * f}, "frequencies do not rise"),
    ],
)
def test_a_table_without_sense_is_refused(
    axis: Axis, swept: Performed, change: dict[str, object], why: str
) -> None:
    assert isinstance(swept.reading, SweepResult)
    table: Record = as_table(swept.run, swept.reading)
    columns = {
        name: change[name](values) if name in change else values  # type: ignore[operator]
        for name, values in table.columns.items()
    }
    with pytest.raises(InputError, match=why):
        read(replace(table, columns=columns), axis)
    with pytest.raises(InputError, match="do not rise"):
        read(replace(table, columns={k: v[:3] for k, v in table.columns.items()}), axis)
