"""Files as benches really write them, and files that are broken: read right, or one clear line."""

import math
import time
from pathlib import Path

import numpy as np
import pytest
from benchmarks.machines import the_axis
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oarlock.errors import InputError
from oarlock.records import Record
from oarlock.records.csv_file import read_record, write_record
from oarlock.records.imports.columns import wanted
from oarlock.records.imports.recording import Mapping, Source, guess, preview, recording, unit_of
from oarlock.records.settings import Plain, numbers
from oarlock.session.perform import from_file

T = np.asarray(np.arange(60) * 1e-3, dtype=np.float64)
WAVE = np.asarray(10.0 * np.sin(math.tau * 25.0 * T), dtype=np.float64)
ROWS = list(zip(T, WAVE, strict=True))


def seen(folder: Path, text: str | bytes, name: str = "bench.csv") -> Record:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    found = preview(path)
    return recording(found, guess(found, "flux", wanted("flux")))


@pytest.mark.parametrize(
    "text",
    [
        "t,vab\n[s],[V]\n" + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS),
        "t,vab\ns,V\n" + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS),
        '"t [ms]","vab [mV]"\n' + "\n".join(f'"{1e3 * a:.6f}","{1e3 * b:.6f}"' for a, b in ROWS),
        "t\tvab\n" + "\n".join(f"{a:.6f}\t{b:.6f}".replace(".", ",") for a, b in ROWS),
        "t  vab\n" + "\n".join(f"{a:.6f}   {b:.6f}".replace(".", ",") for a, b in ROWS),
        "date,note,t,vab,flag\n" + "\n".join(f"1 Nov,a b,{a:.6f},{b:.6f},ok" for a, b in ROWS),
        "Bench 7\n\nrun of today\nt,vab\n\n" + "\n\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS),
        "# taken\x0cby hand\nt,vab\n" + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS),
        "\ufefft,vab\r\n" + "\r\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS),
        ("t,vab,µ\n" + "\n".join(f"{a:.6f},{b:.6f},1" for a, b in ROWS)).encode("latin-1"),
    ],
    ids=["units beneath", "bare units", "quotes", "tabs", "blanks", "texts", "empty lines",
         "form feed", "mark and CRLF", "latin-1"],
)  # fmt: skip
def test_the_forms_that_benches_write(tmp_path: Path, text: str | bytes) -> None:
    record = seen(tmp_path, text)
    assert record.rows == 60
    assert record["t"] == pytest.approx(T, abs=1e-6)
    assert record["vab"] == pytest.approx(WAVE, abs=1e-4)


@pytest.mark.parametrize(
    ("text", "worth"),
    [("RPM", math.tau / 60), ("U/min", math.tau / 60), ("rpm", math.tau / 60), ("MV", None),
     ("mV", 1e-3), ("Deg", math.pi / 180), ("furlong", None), ("  rad/s ", 1.0), ("NM", 1.0)],
)  # fmt: skip
def test_units_as_people_write_them(text: str, worth: float | None) -> None:
    found = unit_of(text)
    assert (found and found[1]) == (pytest.approx(worth) if worth else None)


def test_a_unit_in_brackets_counts_where_none_is_given(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("t [ms],CH1 [mV]\n" + "\n".join(f"{1e3 * a},{1e3 * b}" for a, b in ROWS))
    made = Mapping(experiment="flux", sources={"t": Source("t"), "vab": Source("CH1")})
    assert recording(preview(path), made)["vab"] == pytest.approx(WAVE)


def test_two_columns_of_one_name_must_be_numbered(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("t,v,v\n" + "\n".join(f"{a},{b},{2 * b}" for a, b in ROWS))
    found = preview(path)
    with pytest.raises(InputError, match="2 columns are called 'v'") as caught:
        recording(found, Mapping(experiment="flux", sources={"t": Source("t"), "vab": Source("v")}))
    assert "2 or 3" in caught.value.remedy
    by_number = {"t": Source("t"), "vab": Source("3")}
    record = recording(found, Mapping(experiment="flux", sources=by_number))
    assert record["vab"] == pytest.approx(2 * WAVE)


def test_the_files_own_line_is_told_after_empty_lines(tmp_path: Path) -> None:
    rows = [f"{a:.6f},{b:.6f}" for a, b in ROWS]
    rows[40] = "0.040,nan"
    with pytest.raises(InputError) as caught:
        seen(tmp_path, "t,vab\n\n" + "\n\n".join(rows))
    assert caught.value.place.endswith("line 83")
    rows[40] = "0.040,high"
    with pytest.raises(InputError, match="'high' is not a number") as caught:
        seen(tmp_path, "t,vab\n\n" + "\n\n".join(rows))
    assert caught.value.place.endswith("line 83")


@pytest.mark.parametrize("end", [".gz", ".bz2", ".xz"])
def test_plain_text_under_the_name_of_an_archive(tmp_path: Path, end: str) -> None:
    text = "t,vab\n" + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS)
    assert seen(tmp_path, text, f"bench.csv{end}").rows == 60
    import gzip

    with pytest.raises(InputError, match="not a text file"):
        seen(tmp_path, gzip.compress(text.encode()), f"real.csv{end}")


def test_blanks_by_the_thousand_hang_nothing(tmp_path: Path) -> None:
    begun = time.process_time()
    wide = "t" + " " * 4000 + "[s],vab" + " " * 4000 + "[V]\n"
    record = seen(tmp_path, wide + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS))
    assert record.rows == 60
    ours = tmp_path / "ours.csv"
    ours.write_text('# experiment = "flux"\n# sample_time = 1e-3\n' + wide + "0,1\n1,2\n")
    assert read_record(ours).rows == 2
    assert time.process_time() - begun < 1.0


def test_a_name_that_is_no_utf_8(tmp_path: Path) -> None:
    import os

    raw = os.fsencode(str(tmp_path)) + b"/gr\xfcn.csv"
    with open(raw, "w") as file:  # noqa: PTH123 - a name that a Path may not hold
        file.write("t,vab\n" + "\n".join(f"{a:.6f},{b:.6f}" for a, b in ROWS))
    found = preview(Path(os.fsdecode(raw)))
    record = recording(found, guess(found, "flux", wanted("flux")))
    assert record.drive == "file gr\ufffdn.csv"
    record.drive.encode()


HEAD: dict[str, Plain] = {
        "levels": [1.0, 0.5], "rated_current": 10.0, "hold": 0.025, "speeds": [50.0, 100.0],
        "segments": [{"frequency": 1000.0, "i_d": 3.0, "i_q": 0.0, "rows": 100}],
        "axis_name": "d", "frequency": 100.0, "frequencies": [10.0, 20.0], "speed": 100.0,
        "accuracy": 0.01, "creeps": [0.05], "creep": 0.5, "locked": 1.0}  # fmt: skip
KINDS = ("resistance", "inductance", "flux", "inertia", "resonance", "current step",
         "currents at rest", "standing pulses", "turned by hand", "forced turn", "four pushes",
         "forced spin", "bounded search", "start without sensor", "lunch", "")  # fmt: skip
WRONG: st.SearchStrategy[Plain] = st.sampled_from(
    [None, "", "x", -1.0, 0.0, 1e300, float("nan"), [], ["a"], {}, True, 5]
)


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    kind=st.sampled_from(KINDS), key=st.sampled_from(sorted(HEAD)), wrong=WRONG,
    names=st.sets(st.sampled_from(["t", "id", "iq", "vd", "vq", "theta_e", "theta_m", "id_ref",
                                   "i", "vab", "ia", "ib", "ic", "hall", "speed"]), min_size=2),
    rows=st.sampled_from([2, 3, 60, 200]),
)  # fmt: skip
def test_heads_with_settings_of_a_wrong_kind(
    kind: str, key: str, wrong: Plain, names: set[str], rows: int
) -> None:
    """Whatever a head says: a finding, or one line; never a fault of the program."""
    rng = np.random.default_rng(rows)
    columns = {name: rng.normal(size=rows) for name in names}
    columns["t"] = np.asarray(np.arange(rows) * 1e-3, dtype=np.float64)
    made = {k: v for k, v in HEAD.items() if k != key}
    record = Record(
        experiment=kind, sample_time=1e-3, columns=columns, units=dict.fromkeys(columns, "1"),
        settings=made if wrong is None else {**made, key: wrong}, drive="file x.csv",
    )  # fmt: skip
    try:
        performed = from_file(record, the_axis())
    except InputError as error:
        assert "\n" not in str(error)  # noqa: PT017
        return
    assert "\n" not in performed.run.ended


def test_a_long_comment_before_the_header(tmp_path: Path) -> None:
    """A head larger than what is looked at first is read all the same."""
    path = tmp_path / "long.csv"
    note = "# [settings]\n# levels = [" + ", ".join(["1.0"] * 30_000) + "]\n"
    path.write_text(
        '# experiment = "flux"\n# sample_time = 1e-3\n' + note + "t [s],vab [V]\n0,1\n1,2\n"
    )
    assert len(numbers(read_record(path).settings, "levels")) == 30_000
    (tmp_path / "nul.csv").write_bytes(b"t,vab\n0,1\n\0\n")
    with pytest.raises(InputError, match="not a text file"):
        read_record(tmp_path / "nul.csv")


def test_what_is_written_is_read_back(tmp_path: Path) -> None:
    record = Record(experiment="flux", sample_time=1e-3, columns={"t": T, "vab": WAVE},
                    units={"t": "s", "vab": "V"}, settings={"a": [1.0]}, drive="d")  # fmt: skip
    write_record(tmp_path / "r.csv", record)
    back = read_record(tmp_path / "r.csv")
    assert np.array_equal(back["vab"], WAVE)
    assert back.settings == {"a": [1.0]}
