"""Records as CSV: the way there and back, and every way a file can be broken."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.errors import InputError
from oarlock.records import Check, Finding, Record
from oarlock.records.csv_file import read_record, write_record


@pytest.fixture
def record() -> Record:
    rng = np.random.default_rng(1)
    return Record(
        experiment="resistance",
        sample_time=62.5e-6,
        columns={
            "t": np.arange(5, dtype=np.float64) * 62.5e-6,
            "id": rng.normal(size=5),
            "vd": rng.normal(size=5),
        },
        units={"t": "s", "id": "A", "vd": "V"},
        settings={"levels": [1.0, 0.5], "axis_name": "d"},
        drive="practice drive",
        date="2026-11-23T10:00:00+00:00",
    )


def test_the_way_there_and_back_is_exact(tmp_path: Path, record: Record) -> None:
    path = tmp_path / "r.csv"
    write_record(path, record)
    again = read_record(path)
    assert again.columns.keys() == record.columns.keys()
    for name, column in record.columns.items():
        assert np.array_equal(again[name], column)
    assert replace(again, columns={}).settings == record.settings
    assert (again.experiment, again.sample_time, again.drive, again.ended) == (
        record.experiment, record.sample_time, record.drive, "done",
    )  # fmt: skip
    text = path.read_text()
    assert text.startswith('# experiment = "resistance"\n')
    assert "\nt [s],id [A],vd [V]\n" in text


HEAD = '# experiment = "resistance"\n# sample_time = 62.5e-6\n'


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        (HEAD, "", "no header row"),
        (HEAD + "t [s],id [A]\n", "", "no samples"),
        (HEAD + "t,id [A]\n0,1\n", "line 3", "with its unit"),
        (HEAD + "t [s],t [s]\n0,1\n", "line 3", "twice"),
        (HEAD + "t [s],id [A]\n0,1\n1\n", "line 5", "1 values for 2 columns"),
        (HEAD + "t [s],id [A]\n0,1\n1,2,3\n", "line 5", "3 values for 2"),
        (HEAD + "t [s],id [A]\n0,one\n", "line 4", "'one' is not a number"),
        (HEAD + "t [s],id [A]\n0,1\n1,nan\n", "line 5", "not finite"),
        (HEAD + "t [s],id [A]\n0,inf\n", "line 4", "not finite"),
        ("# hello\nt [s]\n0\n", "", "not TOML"),
        ('# colour = "red"\nt [s]\n0\n', "", "unknown key colour"),
        ("t [s]\n0\n", "", "sample_time is missing"),
        ("# sample_time = -1\nt [s]\n0\n", "", "sample_time is missing"),
    ],
)
def test_broken_files_are_told_with_their_place(
    tmp_path: Path, text: str, place: str, words: str
) -> None:
    path = tmp_path / "r.csv"
    path.write_text(text)
    with pytest.raises(InputError, match=words) as caught:
        read_record(path)
    assert place in str(caught.value)
    assert str(path) in str(caught.value)


def test_binary_and_vanished_records(tmp_path: Path) -> None:
    path = tmp_path / "r.csv"
    with pytest.raises(InputError, match="no such file"):
        read_record(path)
    path.write_bytes(b"\0\1\2")
    with pytest.raises(InputError, match="not a text file"):
        read_record(path)


def test_records_are_frozen(record: Record) -> None:
    with pytest.raises(ValueError, match="read-only"):
        record["id"][0] = 1.0
    with pytest.raises(InputError, match="no column iq"):
        record["iq"]
    with pytest.raises(ValueError, match="differ in length"):
        replace(record, columns={"a": np.zeros(2), "b": np.zeros(3)})
    assert record.rows == 5
    assert replace(record, columns={}).rows == 0


def test_a_finding_holds_when_all_its_checks_do() -> None:
    good, bad = (
        Check(code="a", passed=True, sentence="fine"),
        Check(code="b", passed=False, sentence="not fine"),
    )
    assert Finding(quantity="x", estimates={}, checks=(good,)).holds
    finding = Finding(quantity="x", estimates={}, checks=(good, bad))
    assert not finding.holds
    assert finding.failed == (bad,)
