"""The project file: nothing lost, nothing altered, strangers left untouched."""

import os
import signal
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.errors import InputError
from oarlock.experiments.reading import gains_of, runs_like
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.records import Record, Run, Sums
from oarlock.store import migrations
from oarlock.store.project import Project
from tests.forks import end, python

FROZEN = Path(__file__).parent / "version-1.oarlock"


def run(number: int = 1, **changes: object) -> Run:
    fields = {
        "id": number, "axis": "winch", "kind": "current step", "title": "step 1.4 A",
        "started": "2026-11-23T10:00:00+01:00", "ended": "done", "settings": {"amplitude": 1.4},
        "gains": {"Kp_q": 82.3}, "figures": {"rise": 1.7e-4, "settling": float("nan")},
        "sparkline": (0.0, 1.0, 0.9),
    } | changes  # fmt: skip
    return Run(**fields)  # type: ignore[arg-type]


def record(rows: int = 100) -> Record:
    single = np.random.default_rng(1).normal(size=rows).astype(np.float32).astype(np.float64)
    return Record(
        experiment="current step",
        sample_time=62.5e-6,
        columns={"iq": single, "t": np.arange(rows) / 3.0},
        units={"iq": "A", "t": "s"},
        settings={"bias": 4.0},
        drive="practice drive",
    )


@pytest.fixture
def project(tmp_path: Path) -> Project:
    return Project.create(tmp_path / "p.oarlock", "River survey")


def test_everything_comes_back(project: Project) -> None:
    project.save_axis("winch", "a = 1", "first")
    project.save_axis("thruster", "b = 1", "first")
    project.save_axis("winch", "a = 2", "second")
    project.add_run(run(), record())
    project.set_view("stage", "current")
    project.set_view("stage", {"deep": [1, 2]})
    project.close()
    again = Project.open(project.path)
    assert again.name == "River survey"
    assert again.axes() == {"winch": "a = 2", "thruster": "b = 1"}
    assert list(again.axes()) == ["winch", "thruster"]
    (found,) = again.runs("winch")
    assert np.isnan(found.figures["settling"])
    assert found.gains == {"Kp_q": 82.3}
    assert found.sparkline == (0.0, 1.0, 0.9)
    kept = again.record(1)
    assert kept is not None
    for name, column in record().columns.items():
        assert np.array_equal(kept[name], column)
    assert kept.settings == {"bias": 4.0}
    assert again.view() == {"stage": {"deep": [1, 2]}}
    assert again.next_run() == 2
    assert again.record(99) is None
    again.close()


def test_a_closed_project_is_one_file(project: Project) -> None:
    project.save_axis("winch", "a = 1", "first")
    project.close()
    again = Project.open(project.path)
    again.save_axis("winch", "a = 2", "second")
    again.close()
    assert [path.name for path in project.path.parent.iterdir()] == ["p.oarlock"]


def test_what_a_user_may_change_and_what_not(project: Project) -> None:
    project.add_run(run(), record())
    project.change_run(1, pinned=True, starred=True, note="shaft locked")
    (found,) = project.runs("winch")
    assert (found.pinned, found.starred, found.note) == (True, True, "shaft locked")
    with pytest.raises(ValueError, match="cannot change"):
        project.change_run(1, gains={})
    for sql in (
        "UPDATE record SET drive = 'x'",
        "DELETE FROM record",
        "UPDATE channel SET unit = 'x'",
        "DELETE FROM channel",
    ):
        with pytest.raises(sqlite3.DatabaseError, match="records stay"):
            project._db.execute(sql)
    project.close()


def test_plain_tools_can_read_it(project: Project) -> None:
    project.save_axis("winch", 'name = "winch"', "first")
    project.add_run(run(), record())
    project.close()
    db = sqlite3.connect(project.path)
    assert db.execute("SELECT toml FROM axis_state").fetchone() == ('name = "winch"',)
    assert db.execute("PRAGMA user_version").fetchone() == (migrations.VERSION,)
    db.close()


def test_the_frozen_first_version_still_opens(tmp_path: Path) -> None:
    path = tmp_path / "old.oarlock"
    path.write_bytes(FROZEN.read_bytes())
    project = Project.open(path)
    assert project.name == "Frozen at version 1"
    assert list(project.axes()) == ["Sonar winch"]
    (kept,) = project.runs("Sonar winch")
    assert kept.title == "step 1.4 A"
    found = project.record(kept.id)
    assert found is not None
    assert found.rows == 100
    assert (found.trip, found.sums) == ("", None)
    assert kept.gains == {"current.Kp_q": 82.3}  # named by their loop by now
    axis = parse_axis(project.axes()["Sonar winch"], place="frozen")
    assert axis.loops["speed"].is_empty
    assert "oarlock = 2" in format_axis(axis)
    project.close()


def test_a_tuned_project_of_the_first_version_keeps_its_gains(tmp_path: Path) -> None:
    path = tmp_path / "old.oarlock"
    path.write_bytes(FROZEN.with_name("version-1-tuned.oarlock").read_bytes())
    project = Project.open(path)
    (kept,) = project.runs("Sonar winch")
    axis = parse_axis(project.axes()["Sonar winch"], place="frozen")
    assert axis.gains is not None
    assert gains_of(kept.gains) == axis.gains
    assert runs_like(kept, axis)  # it knew no weight: the whole of the reference counted
    assert not runs_like(kept, axis.with_gains(replace(axis.gains, weight=0.5)))
    made_on = parse_axis(str(kept.settings["made_on"]), place="run 1")
    assert made_on.gains == axis.gains
    project.close()


def test_why_a_drive_tripped_and_its_sums_are_kept(project: Project) -> None:
    table = np.arange(2.0 * 17.0).reshape(2, 17) / 7.0
    told = replace(record(), trip="oscillation", sums=Sums(("id", "vd"), table))
    project.add_run(run(), told)
    project.close()
    again = Project.open(project.path)
    found = again.record(run().id)
    assert found is not None
    assert found.trip == "oscillation"
    assert found.sums is not None
    assert found.sums.channels == ("id", "vd")
    assert np.array_equal(found.sums.table, table)
    with pytest.raises(sqlite3.DatabaseError, match="records stay"):
        again._db.execute("UPDATE outcome SET trip = ''")
    again.close()


def test_migrations_run_once_each_and_in_order(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "old.oarlock"
    path.write_bytes(FROZEN.read_bytes())
    steps = {1: migrations.MIGRATIONS[1], 2: "CREATE TABLE b (x)", 3: "ALTER TABLE b ADD COLUMN y"}
    monkeypatch.setattr("oarlock.store.project.MIGRATIONS", steps)
    monkeypatch.setattr("oarlock.store.project.VERSION", 4)
    after = f"{migrations.CREATE};PRAGMA user_version = 4;CREATE TABLE b (x, y)"
    monkeypatch.setitem(migrations.SCHEMAS, 4, after)
    for _ in range(2):
        project = Project.open(path)
        assert project._db.execute("PRAGMA user_version").fetchone() == (4,)
        project._db.execute("SELECT x, y FROM b")
        project.close()


def test_a_failed_migration_leaves_the_file_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "old.oarlock"
    path.write_bytes(FROZEN.read_bytes())
    monkeypatch.setattr("oarlock.store.project.MIGRATIONS", {1: "CREATE TABLE b (x);NONSENSE"})
    monkeypatch.setattr("oarlock.store.project.VERSION", 2)
    with pytest.raises(InputError):
        Project.open(path)
    monkeypatch.undo()
    db = sqlite3.connect(path)
    assert db.execute("PRAGMA user_version").fetchone() == (1,)
    db.close()
    project = Project.open(path)
    tables = project._db.execute("SELECT name FROM sqlite_master").fetchall()
    assert ("b",) not in tables
    project.close()


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "not a project"),
        (b"just text, long enough to be looked at as a header of a database file" * 20, "not a"),
        (b"SQLite format 3\0" + b"\xff" * 200, "not a|damaged"),
    ],
)
def test_strangers_are_refused_and_left_as_they_are(
    tmp_path: Path, content: bytes, words: str
) -> None:
    path = tmp_path / "x.oarlock"
    path.write_bytes(content)
    with pytest.raises(InputError, match=words):
        Project.open(path)
    assert path.read_bytes() == content


def test_another_programs_database_is_not_touched(tmp_path: Path) -> None:
    path = tmp_path / "x.db"
    db = sqlite3.connect(path)
    db.execute("CREATE TABLE t (x)")
    db.commit()
    db.close()
    before = path.read_bytes()
    with pytest.raises(InputError, match="not a project"):
        Project.open(path)
    assert path.read_bytes() == before


def test_a_later_version_is_refused(project: Project) -> None:
    project._db.execute("PRAGMA user_version = 99")
    project.close()
    with pytest.raises(InputError, match="later version") as caught:
        Project.open(project.path)
    assert "99" in str(caught.value)


def test_truncated_missing_existing_and_read_only(
    project: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project.add_run(run(), record(5000))
    project.close()
    data = project.path.read_bytes()
    project.path.write_bytes(data[: len(data) // 2])
    with pytest.raises(InputError, match=r"damaged|not a project"):
        Project.open(project.path)
    with pytest.raises(InputError, match="no such file"):
        Project.open(tmp_path / "gone.oarlock")
    with pytest.raises(InputError, match="exists"):
        Project.create(project.path, "again")
    with pytest.raises(InputError, match="cannot be opened"):
        Project.create(tmp_path / "no" / "folder.oarlock", "x")


def test_a_read_only_database_is_one_clear_line(project: Project) -> None:
    project._db.execute("PRAGMA query_only = ON")
    with pytest.raises(InputError, match="read-only"):
        project.save_axis("winch", "a", "b")
    project.close()


def test_two_windows_cannot_share_a_project(project: Project) -> None:
    with pytest.raises(InputError, match="open in another window"):
        Project.open(project.path)
    project.close()
    Project.open(project.path).close()


def test_a_full_disk_loses_nothing(project: Project) -> None:
    project.add_run(run(1), record())
    (pages,) = project._db.execute("PRAGMA page_count").fetchone()
    project._db.execute(f"PRAGMA max_page_count = {pages + 2}")
    with pytest.raises(InputError, match="disk is full"):
        project.add_run(run(2), record(200_000))
    assert [r.id for r in project.runs("winch")] == [1]
    project._db.execute("PRAGMA max_page_count = 1000000")
    project.add_run(run(2), record(200_000))
    assert [r.id for r in project.runs("winch")] == [1, 2]
    project.close()


def test_a_killed_process_leaves_a_whole_file(tmp_path: Path) -> None:
    path = tmp_path / "p.oarlock"
    program = (
        "import sys\nfrom pathlib import Path\nfrom oarlock.store.project import Project\n"
        f"p = Project.create(Path({str(path)!r}), 'x')\n"
        "n = 0\nwhile True:\n    n += 1\n    p.save_axis('winch', f'n = {n}', 'edit')\n"
        "    print(n, flush=True)\n"
    )
    child = python("-c", program)
    assert child.stdout is not None
    seen = 0
    while seen < 60:
        seen = int(child.stdout.readline())
    os.kill(child.pid, signal.SIGKILL)
    rest = child.stdout.read().split()
    end(child)
    last = int(rest[-1]) if rest else seen
    project = Project.open(path)
    kept = int(project.axes()["winch"].removeprefix("n = "))
    assert kept >= last  # whatever was reported as kept is there
    project.close()
