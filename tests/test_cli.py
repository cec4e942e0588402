"""Commands: what they print, what they write, and how they end."""

import json
import math
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from oarlock.cli import COMMANDS, demo, group, main, window
from oarlock.demo.project import demo_text
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.machine import Axis
from oarlock.machine.axis_file import read_axis
from oarlock.records.csv_file import write_record
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.store.project import Project
from tests.conftest import play_on_model


@pytest.fixture
def axis_file(tmp_path: Path) -> Path:
    path = tmp_path / "winch.axis.toml"
    path.write_text(demo_text("winch.axis.toml"), encoding="utf-8")
    return path


@pytest.fixture
def record_file(tmp_path: Path, axis: Axis, truth: PlantParameters) -> Path:
    path = tmp_path / "r.csv"
    write_record(path, play_on_model(ResistanceHolds(), axis, truth))
    return path


def test_tune_goes_from_the_inner_loop_outward_where_targets_ask_for_it(
    axis_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    text = axis_file.read_text() + '[targets.speed]\nphase_margin = "55 deg"\n'
    axis_file.write_text(text + '[targets.position]\ncrossover = "4 Hz"\n')
    out = axis_file.with_name("all.axis.toml")
    assert main(["tune", str(axis_file), "--json", "--out", str(out)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert list(told) == ["current", "speed", "position"]
    assert told["speed"]["phase_margin_deg"] >= 54.9
    assert told["speed"]["dip_rated_rpm"] > 0.0
    assert told["position"]["crossover_Hz"] == pytest.approx(4.0, rel=1e-3)
    tuned = read_axis(out)
    assert tuned.loops["speed"].gains is not None
    assert main(["tune", str(axis_file)]) == 0
    assert "[position]" in capsys.readouterr().out
    axis_file.write_text(text.replace('"55 deg"', '"55 deg"\ncrossover = "900 Hz"'))
    assert main(["tune", str(axis_file)]) == 2
    assert "[targets.speed]" in capsys.readouterr().err


def test_tune_prints_gains_and_writes_them(
    axis_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = axis_file.with_name("tuned.axis.toml")
    assert main(["tune", str(axis_file), "--out", str(out)]) == 0
    printed = capsys.readouterr().out
    assert "Kp_q" in printed
    assert "crossover_Hz" in printed
    gains = read_axis(out).gains
    assert gains is not None
    assert gains.Kp_q == pytest.approx(90.13, abs=0.01)


def test_json_is_one_object_and_nothing_else(
    axis_file: Path, record_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["tune", str(axis_file), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["current"]["crossover_Hz"] == pytest.approx(849.0)
    assert main(["identify", str(axis_file), str(record_file), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["holds"] is True
    assert told["findings"][0]["estimates"]["machine.R"]["value"] == pytest.approx(0.862, abs=0.01)


def test_identify_adopts_one_record_after_the_other(
    axis_file: Path,
    record_file: Path,
    axis: Axis,
    truth: PlantParameters,
    capsys: pytest.CaptureFixture[str],
) -> None:
    sine = record_file.with_name("l.csv")
    write_record(sine, play_on_model(InductanceSine(axis_name="d"), axis, truth))
    out = axis_file.with_name("found.axis.toml")
    command = ["identify", str(axis_file), str(record_file), str(sine), "--out", str(out)]
    assert main(command) == 0
    printed = capsys.readouterr().out
    assert "taken out, from the R test" in printed
    found = read_axis(out)
    assert found.machine.R.adopted is not None
    assert found.machine.Ld.adopted is not None
    assert found.machine.Ld.value == pytest.approx(truth.incremental_Ld(3.0), rel=5e-3)
    assert found.machine.R.adopted.source == "r.csv"


def test_a_failed_check_is_exit_status_1(axis_file: Path, record_file: Path) -> None:
    text = axis_file.read_text(encoding="utf-8").replace("1.64 ohm l-l", "0.86 ohm l-l")
    axis_file.write_text(text, encoding="utf-8")
    assert main(["identify", str(axis_file), str(record_file)]) == 1


def test_handover_new_update_and_dry_run(
    axis_file: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    tuned, header = tmp_path / "t.axis.toml", tmp_path / "winch_gains.h"
    main(["tune", str(axis_file), "--out", str(tuned)])
    header.write_text(demo_text("winch_gains.h"))
    before = header.read_bytes()
    capsys.readouterr()
    assert main(["handover", str(tuned), "--update", str(header), "--dry-run"]) == 0
    assert "+#define CUR_KP_Q" in capsys.readouterr().out
    assert header.read_bytes() == before
    assert main(["handover", str(tuned), "--update", str(header)]) == 0
    assert header.read_bytes() != before
    assert (tmp_path / "winch_gains.h.bak1").read_bytes() == before
    new = tmp_path / "new.h"
    assert main(["handover", str(tuned), "--format", "c-float", "--out", str(new)]) == 0
    assert "CUR_KP_Q" in new.read_text()
    mapping = tmp_path / "map.toml"
    mapping.write_text('CUR_KP_D = "current.Kp_q"\n')
    command = ["handover", str(tuned), "--update", str(header), "--map", str(mapping)]
    assert main([*command, "--dry-run"]) == 0


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["tune", "gone.toml"], "no such file"),
        (["tune", "{axis}", "--out", "/no/such/folder/x"], "cannot write"),
        (["identify", "{axis}", "gone.csv"], "no such file"),
        (["identify", "{axis}", "{axis}"], "no row of numbers"),
        (["identify", "{axis}"], "Missing argument"),
        (["handover", "{axis}"], "either --out or --update"),
        (["handover", "{axis}", "--out", "x.h"], "no gains"),
        (["handover", "{axis}", "--out", "x.h", "--format", "cobol"], "cobol"),
        (["tune", "{axis}", "--hurry"], "No such option"),
        (["open", "gone.oarlock"], "no such file"),
        (["gone.oarlock"], "no such file"),
    ],
)
def test_bad_input_is_one_line_and_exit_status_2(
    axis_file: Path,
    arguments: list[str],
    words: str,
    capsys: pytest.CaptureFixture[str],
    monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
) -> None:
    import re

    monkeypatch.chdir(tmp_path)
    assert main([argument.format(axis=axis_file) for argument in arguments]) == 2
    told = capsys.readouterr()
    assert told.out == ""
    assert told.err.startswith("oarlock: ")
    assert told.err.count("\n") == 1
    assert re.search(words, told.err), told.err


def test_a_target_beyond_the_delay_names_file_and_remedy(
    axis_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    text = axis_file.read_text(encoding="utf-8").replace("849 Hz", "2500 Hz")
    axis_file.write_text(text, encoding="utf-8")
    assert main(["tune", str(axis_file)]) == 2
    told = capsys.readouterr().err
    assert "winch.axis.toml, [targets.current]" in told
    assert "at most 1778 Hz" in told


def test_a_failed_link_is_exit_status_3(monkeypatch: pytest.MonkeyPatch) -> None:
    from oarlock.errors import LinkLost

    def lost(*_arguments: object, **_options: object) -> int:
        raise LinkLost("gone", place="practice drive")

    monkeypatch.setattr("oarlock.demo.job.run_job", lost)
    assert main(["demo", "--headless", "--out", "/tmp/never-made"]) == 3


def test_without_a_display_the_demo_goes_headless(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    asked: list[Path] = []

    def note(folder: Path, _seed: int) -> int:
        asked.append(folder)
        return 0

    monkeypatch.setattr(demo, "_headless", note)
    assert main(["demo", "--out", str(tmp_path / "x")]) == 0
    assert asked == [tmp_path / "x"]
    assert "No display here" in capsys.readouterr().err


def test_an_earlier_demo_is_kept(tmp_path: Path) -> None:
    folder = tmp_path / "demo"
    folder.mkdir()
    (folder / "mine.txt").write_text("work")
    demo._set_aside(folder)
    assert (tmp_path / "demo-1" / "mine.txt").read_text() == "work"
    assert not folder.exists()


def test_an_axis_file_becomes_a_project_beside_it(
    axis_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened: list[Path] = []

    def shown(path: Path, **_options: bool) -> int:
        opened.append(path)
        return 0

    monkeypatch.setattr(window, "run", shown)
    assert main([str(axis_file)]) == 0
    assert opened[0].name == "winch.oarlock"
    project = Project.open(opened[0])
    assert list(project.axes()) == ["Sonar winch"]
    project.save_axis("Sonar winch", project.axes()["Sonar winch"] + "# mine\n", "edit")
    project.close()
    assert main([str(axis_file)]) == 0  # the second time it is opened as it is
    project = Project.open(opened[1])
    assert project.axes()["Sonar winch"].endswith("# mine\n")
    project.close()
    assert main([str(axis_file.with_name("gone.toml"))]) == 2


def test_help_and_version() -> None:
    for arguments in (["--help"], ["tune", "--help"], ["--version"]):
        assert CliRunner().invoke(group(COMMANDS), arguments).exit_code == 0


def test_the_module_is_the_command() -> None:
    command = [sys.executable, "-m", "oarlock", "tune", "/no/such/axis.toml"]
    ran = subprocess.run(command, capture_output=True, text=True, check=False)
    assert ran.returncode == 2
    assert "Traceback" not in ran.stderr


def test_identify_reads_a_record_of_sensing(
    axis_file: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    from oarlock.experiments.sensing.rest import CurrentsAtRest
    from tests.experiments.sensing.rig import Rig

    rig = Rig("winch", 3)
    path = tmp_path / "rest.csv"
    write_record(path, rig.record(CurrentsAtRest()))
    out = tmp_path / "found.axis.toml"
    assert main(["identify", str(axis_file), str(path), "--out", str(out)]) == 0
    assert "inverter.offset_a" in capsys.readouterr().out
    count = rig.axis.inverter.current_count
    found = read_axis(out).inverter.offset_b.value
    assert abs(found - rig.plant.offsets[1]) < 0.1 * count


def _spin(folder: Path, scale: float = 1.0) -> Path:
    """Write what an oscilloscope saw of the open terminals, in millivolts and milliseconds."""
    t = np.arange(0, 0.4, 1e-4)
    volts = scale * math.sqrt(3) * 0.155 * 300.0 * np.cos(300.0 * t)
    path = folder / "spin.csv"
    lines = [f"{1e3 * a:.4f};{1e3 * b:.3f}" for a, b in zip(t, volts, strict=True)]
    path.write_text("\n".join(["T (ms);CH1 (mV)", *lines]) + "\n")
    return path


def test_a_recording_from_any_bench_is_identified(
    tmp_path: Path, axis_file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "found.toml"
    spin = str(_spin(tmp_path))
    asked = ["identify", str(axis_file), spin, "--as", "flux"]
    assert main([*asked, "--column", "vab=CH1[mV]", "--json", "--out", str(out)]) == 0
    told = json.loads(capsys.readouterr().out)["findings"][0]
    assert told["estimates"]["machine.psi"]["value"] == pytest.approx(0.155, rel=1e-3)
    found = read_axis(out).machine.psi.adopted
    assert found is not None
    assert found.source == "spin.csv"
    # A probe that divides by ten; without a unit the column is in volts.
    assert main(["identify", str(axis_file), str(_spin(tmp_path, 0.1)), "--as", "flux",
                 "--column", "vab=CH1[mV]*10", "--json"]) == 0  # fmt: skip
    told = json.loads(capsys.readouterr().out)["findings"][0]
    assert told["estimates"]["machine.psi"]["value"] == pytest.approx(0.155, rel=1e-3)
    # The same numbers between terminals and to the star point: the slip is asked about.
    _spin(tmp_path, 1 / math.sqrt(3))
    assert main(asked) == 1
    assert "line to line" in capsys.readouterr().out
    assert main([*asked, "--phase"]) == 0


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ((), "names no experiment"),
        (("--as", "lunch"), "lunch"),
        (("--as", "inertia"), "needs theta_m"),
        (("--as", "flux", "--column", "vab=CH7"), "no column 'CH7'"),
        (("--as", "flux", "--column", "vab=CH1[mile]"), "not known"),
        (("--as", "flux", "--column", "2"), "names no channel"),
        (("--as", "flux", "--column", "vab=CH1*0"), "no factor to multiply by"),
        (("--as", "flux", "--column", "vab=CH1*1.2.3"), "no factor to multiply by"),
        (("--as", "inductance_d", "--column", "i=2", "--set", "frequency=high"), "gives no"),
    ],
)
def test_a_recording_that_is_not_understood_is_one_line(
    tmp_path: Path, axis_file: Path, arguments: tuple[str, ...], words: str,
    capsys: pytest.CaptureFixture[str],
) -> None:  # fmt: skip
    assert main(["identify", str(axis_file), str(_spin(tmp_path)), *arguments]) == 2
    said = capsys.readouterr().err
    assert words in said
    assert len(said.strip().splitlines()) == 1


def test_the_desktop_is_told_and_told_otherwise(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert main(["associate"]) == 0
    entry = tmp_path / "data" / "applications" / "oarlock.desktop"
    assert "MimeType=application/x-oarlock;" in entry.read_text()
    assert " open %f" in entry.read_text()
    assert "*.oarlock" in (tmp_path / "data" / "mime" / "packages" / "oarlock.xml").read_text()
    assert main(["associate", "--remove"]) == 0
    assert not entry.exists()
    assert main(["associate", "--remove"]) == 0
    (tmp_path / "file").write_text("in the way")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "file"))
    assert main(["associate"]) == 2
    assert "cannot be made" in capsys.readouterr().err


def test_tuning_an_axis_that_is_not_known_says_what_is_missing(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "own.axis.toml"
    path.write_text('oarlock = 2\nname = "own"\n[machine]\nresistance = "0.8 ohm"\n')
    assert main(["tune", str(path)]) == 2
    told = capsys.readouterr().err
    assert "inductance Ld, inductance Lq and control frequency are not known yet" in told
    assert told.count("\n") == 1
