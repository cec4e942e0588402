"""Recordings from any bench: names, units and looks; what is refused, and at which line."""

import math
from pathlib import Path

import numpy as np
import pint
import pytest

from oarlock.errors import InputError
from oarlock.records.imports.columns import wanted
from oarlock.records.imports.recording import UNITS, Mapping, Source, guess, preview, recording


def file(folder: Path, text: str) -> Path:
    path = folder / "bench.csv"
    path.write_text(text)
    return path


def rows(names: str, *columns: object, mark: str = ",") -> str:
    table = np.column_stack([np.asarray(c, dtype=float) for c in columns])
    return names + "\n" + "\n".join(mark.join(f"{v:.9g}" for v in row) for row in table) + "\n"


T = np.arange(200) * 1e-3
WAVE = 10.0 * np.sin(math.tau * 25.0 * T)


def test_names_and_units_are_found(tmp_path: Path) -> None:
    seen = preview(file(tmp_path, rows("Time [ms],EMF (mV),speed [rpm]", 1e3 * T, 1e3 * WAVE,
                                       300 + 0 * T)))  # fmt: skip
    assert seen.names == ("Time", "EMF", "speed")
    assert seen.units == ("ms", "mV", "rpm")
    mapping = guess(seen, "flux", wanted("flux"))
    record = recording(seen, mapping)
    assert record["t"] == pytest.approx(T)
    assert record["vab"] == pytest.approx(WAVE, abs=1e-6)
    assert record["speed"] == pytest.approx(np.full(200, 300 * math.tau / 60))
    assert record.sample_time == pytest.approx(1e-3)


def test_without_names_it_goes_by_unit_and_by_look(tmp_path: Path) -> None:
    seen = preview(file(tmp_path, rows("", WAVE, T, mark="\t").lstrip("\n")))
    assert seen.names == ("column 1", "column 2")
    mapping = guess(seen, "flux", wanted("flux"))
    assert mapping.sources["t"].column == "column 2"  # it alone rises evenly
    told = Mapping(experiment="flux", sources={**mapping.sources, "vab": Source("1", "V")})
    assert recording(seen, told)["vab"] == pytest.approx(WAVE, abs=1e-6)


def test_decimal_commas_between_semicolons(tmp_path: Path) -> None:
    text = rows("t;vab", T, WAVE, mark=";").replace(".", ",")
    seen = preview(file(tmp_path, text))
    assert seen.decimal_comma
    record = recording(seen, guess(seen, "flux", wanted("flux")))
    assert record["vab"] == pytest.approx(WAVE, abs=1e-6)


def test_degrees_and_counts_become_radians(tmp_path: Path) -> None:
    seen = preview(file(tmp_path, rows("t,a,b", T, 360.0 * T, np.floor(4096 * T))))
    made = Mapping(
        experiment="inertia", counts=4096.0,
        sources={"t": Source("t", "s"), "theta_m": Source("a", "deg"),
                 "theta_e": Source("b", "counts")},
    )  # fmt: skip
    record = recording(seen, made)
    assert record["theta_m"] == pytest.approx(math.tau * T)
    assert record["theta_e"] == pytest.approx(math.tau * np.floor(4096 * T) / 4096)


@pytest.mark.parametrize(
    ("text", "sources", "words"),
    [
        ("t,v\n0,1\n1,2\n1,3\n2,4\n", {}, "stands twice"),
        ("t,v\n0,1\n1,2\n0.5,3\n2,4\n", {}, "runs backward"),
        ("t,v\n0,1\n1,nan\n2,3\n3,4\n", {}, "not a number"),
        ("t,v\n0,1\n1,2\n2,3\n3\n", {}, "cannot be read"),
        ("t,v\n0,1\n1,2\n", {"vab": Source("w", "V")}, "no column 'w'"),
        ("t,v\n0,1\n1,2\n", {"vab": Source("v", "A")}, "is in A"),
        ("t,v\n0,1\n1,2\n", {"vab": Source("v", "furlong")}, "not known"),
        ("t,v\n0,1\n1,2\n", {"theta_m": Source("v", "counts")}, "counts make a turn"),
    ],
)
def test_what_is_wrong_is_said_with_its_place(
    tmp_path: Path, text: str, sources: dict[str, Source], words: str
) -> None:
    path = file(tmp_path, text)
    seen = preview(path)
    made = {"t": Source("t", "s"), "vab": Source("v", "V"), **sources}
    with pytest.raises(InputError, match=words) as caught:
        recording(seen, Mapping(experiment="flux", sources=made))
    assert str(path) in caught.value.place


def test_a_file_without_numbers_or_time(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="no row of numbers"):
        preview(file(tmp_path, "a letter\nto nobody\n"))
    seen = preview(file(tmp_path, rows("v", WAVE)))
    made = Mapping(experiment="flux", sources={"vab": Source("v", "V")})
    with pytest.raises(InputError, match="no column of time"):
        recording(seen, made)
    from dataclasses import replace

    assert recording(seen, replace(made, sample_time=1e-3)).sample_time == 1e-3


def test_a_record_of_our_own_is_known_by_its_head(tmp_path: Path) -> None:
    head = '# experiment = "flux"\n# sample_time = 1e-3\nt [s],vab [V]\n'
    assert preview(file(tmp_path, head + "0,1\n1,2\n")).experiment == "flux"


_SPELT = {
    "µs": "us", "°": "deg", "degrees": "deg", "turns": "turn", "rev": "turn", "sec": "s",
    "N m": "N*m", "Nm": "N*m", "N·m": "N*m", "N.m": "N*m", "mNm": "mN*m", "mN m": "mN*m",
    "mN·m": "mN*m", "RPM": "rpm", "U/min": "rpm", "1/min": "rpm", "min-1": "rpm", "r/min": "rpm",
    "1/s": "turn/s", "Volt": "V", "Ampere": "A", "Amp": "A",
}  # fmt: skip
_SI = {"s": "s", "A": "A", "V": "V", "rad": "rad", "rad/s": "rad/s", "N m": "N*m"}


@pytest.fixture(scope="module")
def registry() -> "pint.UnitRegistry[float]":
    return pint.UnitRegistry()


@pytest.mark.parametrize("name", sorted(UNITS))
def test_every_unit_is_worth_what_the_units_package_says(
    registry: "pint.UnitRegistry[float]", name: str
) -> None:
    si, worth = UNITS[name]
    if si not in _SI:  # degrees Celsius, counts, plain numbers: taken as they are
        assert worth == 1.0
        return
    one = registry.Quantity(1.0, _SPELT.get(name, name))
    assert one.to(_SI[si]).magnitude == pytest.approx(worth, rel=1e-12)


def test_time_is_what_rises_evenly(tmp_path: Path) -> None:
    path = tmp_path / "bare.csv"
    t = np.arange(20) * 1e-3
    uneven = t + 3e-4 * (np.arange(20) % 2)
    falling = 1.0 - t
    rows = zip(uneven, falling, t, np.cos(400.0 * t), strict=True)
    path.write_text("\n".join(",".join(f"{x:.6f}" for x in row) for row in rows) + "\n")
    assert guess(preview(path), "flux", ("t", "vab")).sources["t"].column == "column 3"


def test_the_last_row_of_a_short_file_is_seen_that_of_a_cut_beginning_is_not(
    tmp_path: Path,
) -> None:
    path = tmp_path / "few.csv"
    path.write_text("t [s],current [A]\n0.0,1.5\n0.1,2.5\n0.2,3.5\n")
    assert preview(path).rows[:, 1].tolist() == [1.5, 2.5, 3.5]
    whole = "t [s],current [A]\n" + "0.125,1.375\n" * 2 + "0.25,2.0\n" * 200_000
    path.write_text(whole)
    assert preview(path).rows[-1].tolist() == [0.25, 2.0]
