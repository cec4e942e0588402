"""Damaged files of every kind end in one clear line, never in a fault of the program."""

import contextlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.experiments.identify.resistance import estimate_resistance
from oarlock.experiments.identify.standstill import ResistanceHolds
from oarlock.handover.header import DEFAULT_MAP
from oarlock.handover.patch import patch_file
from oarlock.handover.values import handover_values
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.axis_file import parse_axis
from oarlock.records import Record
from oarlock.records.csv_file import read_record, write_record
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.store.project import Project
from tests.conftest import play_on_model
from tests.store.test_project import FROZEN

AXIS = demo_text("winch.axis.toml")
HEADER = demo_text("winch_gains.h").encode()
RELAXED = settings(
    max_examples=120, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)


@st.composite
def damage(draw: st.DrawFn, data: bytes) -> bytes:
    """Cut a piece out, put another one in, or stop early."""
    start = draw(st.integers(0, len(data)))
    end = min(start + draw(st.integers(0, 40)), len(data))
    new = draw(st.binary(max_size=6) | st.sampled_from([b'"', b"=", b"[", b"\n", b"-1", b"1e400"]))
    whole = data[:start] + new + data[end:]
    return whole[: draw(st.integers(0, len(whole)))] if draw(st.booleans()) else whole


@RELAXED
@given(damage(AXIS.encode()))
def test_an_axis_file(data: bytes) -> None:
    with contextlib.suppress(InputError, UnicodeDecodeError):
        axis = parse_axis(data.decode(), place="winch.toml")
        assert axis.machine.R.value > 0.0


@RELAXED
@given(damage(HEADER))
def test_a_header(tmp_path: Path, axis: Axis, data: bytes) -> None:
    path = tmp_path / "gains.h"
    path.write_bytes(data)
    tuned = axis.with_gains(CurrentGains(Kp_d=44.0, Ki_d=4575.0, Kp_q=82.0, Ki_q=4575.0))
    with contextlib.suppress(InputError):
        patch = patch_file(path, DEFAULT_MAP, handover_values(tuned))
        assert len(patch.changes) == 6
    assert path.read_bytes() == data


@pytest.fixture
def good(tmp_path: Path) -> bytes:
    path = tmp_path / "good.csv"
    record = Record(
        experiment="resistance",
        sample_time=62.5e-6,
        columns={"t": np.arange(4.0), "id": np.ones(4)},
        units={"t": "s", "id": "A"},
        settings={"levels": [1.0]},
    )
    write_record(path, record)
    return path.read_bytes()


@RELAXED
@given(st.data())
def test_a_record(tmp_path: Path, good: bytes, data: st.DataObject) -> None:
    path = tmp_path / "r.csv"
    path.write_bytes(data.draw(damage(good)))
    with contextlib.suppress(InputError):
        record = read_record(path)
        assert all(np.all(np.isfinite(column)) for column in record.columns.values())


@settings(parent=RELAXED, max_examples=150)
@given(st.integers(0, 40_000), st.binary(min_size=1, max_size=64))
@example(3221, b"\x80")  # a text that cannot be decoded: an error without a number
def test_a_project(tmp_path: Path, at: int, noise: bytes) -> None:
    """Whatever is written over the file: it opens and reads, or says what is wrong."""
    data = bytearray(FROZEN.read_bytes())
    data[at : at + len(noise)] = noise
    path = tmp_path / "p.oarlock"
    for leftover in tmp_path.glob("p.oarlock*"):
        leftover.unlink()
    path.write_bytes(bytes(data))
    with contextlib.suppress(InputError):
        project = Project.open(path)
        try:
            project.view()
            for name in project.axes():
                for run in project.runs(name):
                    project.record(run.id)
        finally:
            project.close()


@pytest.mark.parametrize("column", ["id", "iq", "vd", "vq", "id_ref", "theta_e"])
def test_a_record_without_a_column(axis: Axis, truth: PlantParameters, column: str) -> None:
    record = play_on_model(ResistanceHolds(), axis, truth)
    kept = {name: values for name, values in record.columns.items() if name != column}
    with pytest.raises(InputError, match=f"no column {column}"):
        estimate_resistance(replace(record, columns=kept), axis)
