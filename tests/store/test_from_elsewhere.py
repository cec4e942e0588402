"""A project from elsewhere is data: what it plants does not run, what it claims is checked."""

import contextlib
import json
import sqlite3
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest

from oarlock.demo.project import make_demo
from oarlock.errors import InputError
from oarlock.session.session import Session
from oarlock.store import cells
from oarlock.store.project import Project
from tests.store.test_project import record, run


@pytest.fixture
def path(tmp_path: Path) -> Path:
    made = make_demo(tmp_path)
    project = Project.open(made)
    project.add_run(run(1, axis="Sonar winch"), record())
    project.close()
    return made


def altered(path: Path, *statements: str | tuple[str, tuple[object, ...]]) -> None:
    db = sqlite3.connect(path)
    for trigger in ("record_stays", "channel_stays"):
        db.execute(f"DROP TRIGGER IF EXISTS {trigger}")
    try:
        for statement in statements:
            db.execute(*((statement,) if isinstance(statement, str) else statement))
    except sqlite3.IntegrityError:
        db.close()  # the file itself refuses it
        raise
    db.executescript(
        "CREATE TRIGGER record_stays BEFORE UPDATE ON record "
        "BEGIN SELECT RAISE(ABORT, 'records stay'); END;"
        "CREATE TRIGGER channel_stays BEFORE UPDATE ON channel\n"
        "    BEGIN SELECT RAISE(ABORT, 'records stay'); END;"
    )
    db.commit()
    db.close()


@pytest.mark.parametrize(
    ("planted", "words"),
    [
        ("CREATE VIEW more AS SELECT * FROM run", "a view 'more' that is not of this format"),
        ("CREATE TRIGGER t AFTER INSERT ON axis_state BEGIN DELETE FROM run; END", "trigger 't'"),
        ("CREATE TABLE mine (x)", "table 'mine'"),
        ("CREATE INDEX i ON run (axis)", "index 'i'"),
    ],
)
def test_what_is_planted_is_refused_before_it_can_run(path: Path, planted: str, words: str) -> None:
    altered(path, planted)
    before = path.read_bytes()
    with pytest.raises(InputError, match=words):
        Project.open(path)
    assert path.read_bytes() == before


def test_a_view_in_place_of_a_table_does_not_hang_the_opening(path: Path) -> None:
    endless = (
        "CREATE VIEW view AS WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n) "
        "SELECT k AS key, 'x' AS value FROM n"
    )
    altered(path, "DROP TABLE view", endless)
    with pytest.raises(InputError, match="view 'view' that is not of this format"):
        Project.open(path)


def test_a_small_record_that_unpacks_to_gigabytes(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert cells._MOST_UNPACKED == 400_000_000
    monkeypatch.setattr(cells, "_MOST_UNPACKED", 40_000_000)
    bomb = zlib.compress(bytes(45_000_000), 9)
    assert len(bomb) < 100_000
    altered(path, ("UPDATE channel SET data = ?", (bomb,)))
    project = Project.open(path)
    with pytest.raises(InputError, match="larger than 40 MB"):
        project.record(1)
    project.close()


ODD = (b"\xff\xfe", None, 3.5, "", "[1, 2]", '"text"', "[" * 5000, "null", '{"a": {}}', 2**60)


@pytest.mark.parametrize(
    ("table", "column"),
    [
        ("run", name)
        for name in ("title", "started", "settings", "gains", "figures", "sparkline", "pinned")
    ]
    + [("record", name) for name in ("experiment", "sample_time", "settings", "drive", "ended")]
    + [("channel", name) for name in ("name", "unit", "type", "data")]
    + [("axis_state", "axis"), ("axis_state", "toml"), ("view", "value"), ("meta", "value")],
)
def test_odd_cells_are_one_clear_line_or_left_out(path: Path, table: str, column: str) -> None:
    for odd in ODD:
        try:
            altered(path, (f"UPDATE {table} SET {column} = ?", (odd,)))
        except sqlite3.IntegrityError:
            continue  # the file itself refuses it
        with contextlib.suppress(InputError):  # one line; anything else fails the test
            session = Session(Project.open(path), lambda call: call())
            try:
                for item in session.runs:
                    session.record(item.id)
            finally:
                session.close()


def test_conversions_kept_in_a_file_do_not_outrank_its_texts(path: Path) -> None:
    entries = [["resistance", "1.64 ohm l-l, 20 °C", 4.0, -5.0, "x"],
               ["resistance", "1.64 ohm l-l, 20 °C", None, -5.0, "x"]]  # fmt: skip
    kept = json.dumps({"version": 1, "entries": entries})
    altered(path, ("INSERT OR REPLACE INTO view VALUES ('conversions', ?)", (kept,)))
    session = Session(Project.open(path), lambda call: call())
    assert session.axis.machine.R.value == pytest.approx(0.82)
    assert not hasattr(session.screen, "conversions")
    session.close()


@pytest.mark.parametrize(
    ("key", "value"),
    [
        ("window", "apples"), ("window", [1e9, 2]), ("dark", "yes"), ("stage", 5),
        ("Sonar winch/step", [1]), ("Sonar winch/map", {"A": 1}), ("Sonar winch/winding", "hot"),
        ("Sonar winch/practice", "winch --socket /etc/passwd"), ("Sonar winch/header", {}),
        ("Sonar winch/handover_written", {"time": []}), ("Sonar winch/map_omega", "fast"),
        ("strange", 1),
    ],
)  # fmt: skip
def test_odd_screen_state_is_not_taken_over(path: Path, key: str, value: object) -> None:
    name = key.rpartition("/")[2]
    altered(path, ("DELETE FROM view WHERE key = ?", (key,)))
    session = Session(Project.open(path), lambda call: call())
    without = getattr(session.screen, name, None)
    session.close()
    altered(path, ("INSERT OR REPLACE INTO view VALUES (?, ?)", (key, json.dumps(value))))
    session = Session(Project.open(path), lambda call: call())
    assert getattr(session.screen, name, None) == without
    session.close()


@pytest.mark.parametrize(
    "adopted",
    [
        "value = nan", "value = inf", "value = -1.0", "value = 0.0", 'value = "apples"',
        "value = 0.8, std = -1.0", "value = 0.8, std = nan", "value = 1e9",
        'value = 0.8, unit = "V"',
    ],
)  # fmt: skip
def test_an_adopted_value_that_no_machine_has(tmp_path: Path, adopted: str) -> None:
    from oarlock.demo.project import demo_text
    from oarlock.machine.axis_file import parse_axis

    unit = "" if "unit" in adopted else ', unit = "ohm"'
    text = demo_text("winch.axis.toml") + f"\n[adopted]\nR = {{ {adopted}{unit} }}\n"
    with pytest.raises(InputError) as caught:
        parse_axis(text, place="winch.toml")
    assert "winch.toml, line " in str(caught.value)
    assert "R" in str(caught.value)


Damage = Callable[[str], str]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("oarlock = " + "1" * 5000, "not TOML"),
        ("a = " + "[" * 3000 + "]" * 3000, "nested too deep|not TOML"),
    ],
)
def test_texts_that_the_toml_reader_stumbles_over(text: str, words: str) -> None:
    from oarlock.machine.axis_file import parse_axis

    with pytest.raises(InputError, match=words):
        parse_axis(text, place="x.toml")
