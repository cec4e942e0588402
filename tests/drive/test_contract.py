"""One table from which the data sheet, the page, the practice drive and the runner follow."""

import math
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.drive.canopen_link import dictionary
from oarlock.drive.contract.eds import eds
from oarlock.drive.contract.entries import BY_NAME, BY_PLACE, GROUPS, Type, name_at, problem
from oarlock.drive.contract.numbers import CHANNELS, COLUMNS, SUMS, SUMS_HEAD, Frame, Shape, Target
from oarlock.drive.contract.page import filled_in, tables
from oarlock.drive.contract.trips import TRIPS
from oarlock.drive.dry_run import problems
from oarlock.drive.link import emergency_name
from oarlock.drive.parameters import controllers, parameters
from oarlock.drive.steps import Limits, Plan, PositionLoop, SpeedLoop, Step
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import CAPACITY, MAX_ROWS

ROOT = Path(__file__).parents[2]


def plan_for(axis: Axis, **changes: object) -> Plan:
    made = Plan(
        name="x",
        steps=(Step(duration=0.1),),
        channels=("t", "id"),
        limits=Limits(current=5.0, speed=10.0, travel=1.0, time=1.0),
        gains=gentle_gains(axis, 500.0),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def test_the_data_sheet_and_the_page_are_as_written_from_the_table() -> None:
    """After a change of the table: python -m oarlock.drive.contract."""
    assert (ROOT / "src/oarlock/drive/oarlock.eds").read_text() == eds()
    page = (ROOT / "docs/drive-interface.md").read_text()
    assert filled_in(page) == page


def test_a_page_without_a_place_for_a_table_is_not_passed_over() -> None:
    with pytest.raises(ValueError, match="no place for the table of parameters"):
        filled_in("nothing here")
    assert all(table.count("\n") > 5 for table in tables().values())


def test_the_library_reads_the_data_sheet_as_the_table_says() -> None:
    od = dictionary(1)
    for name, (group, entry) in BY_NAME.items():
        variable = od[group.index] if group.single else od[group.index][group.sub(entry)]
        assert variable.data_type == entry.type.code, name
        assert variable.access_type == entry.access, name
        if entry.type is not Type.DOMAIN:
            assert float(variable.default) == pytest.approx(entry.default), name
        assert name_at(group.index, group.sub(entry)) == name


def test_no_index_name_or_place_is_given_twice() -> None:
    assert len({g.index for g in GROUPS}) == len(GROUPS) == len({g.name for g in GROUPS})
    assert len(BY_PLACE) == sum(len(g.entries) for g in GROUPS) == len(BY_NAME)
    for group in GROUPS:
        assert len({e.name for e in group.entries}) == len(group.entries)
    with pytest.raises(KeyError):
        name_at(0x2999, 1)


def test_the_practice_drive_s_kernel_counts_the_same_way() -> None:
    assert k.CHANNELS == CHANNELS
    assert len(COLUMNS) == k.ROW_SIZE
    assert (len(SUMS), len(SUMS_HEAD)) == (k.SUMS_EACH, k.SUMS_HEAD)
    names = list(COLUMNS)
    for word, place in (("samples", k.SAMPLES), ("mode", k.MODE), ("record", k.RECORD),
                        ("speed", k.REF_W), ("release", k.RELEASE), ("distance", k.DISTANCE),
                        ("end frequency", k.END_FREQUENCY), ("jerk time", k.JERK_TIME),
                        ("acceleration", k.ACCELERATION), ("sums", k.SUMS)):  # fmt: skip
        assert names[place] == word
    assert {m.name: int(m) for m in Frame} == {
        "ROTOR": k.MODE_ROTOR, "FIXED": k.MODE_FIXED, "SPEED": k.MODE_SPEED,
        "VOLTAGE": k.MODE_VOLTAGE, "OFF": k.MODE_OFF, "OBSERVED": k.MODE_SENSORLESS,
        "CARRIED": k.MODE_CARRIED, "POSITION": k.MODE_POSITION, "PATH": k.MODE_PATH,
    }  # fmt: skip
    waves = [getattr(k, f"WAVE_{m.name}") for m in Shape]
    assert waves == [int(m) for m in Shape]
    targets = [getattr(k, f"ON_{m.name.replace('_', '')}") for m in Target if m]
    assert targets == [int(m) for m in Target if m]
    assert [t.number for t in TRIPS] == list(range(len(TRIPS)))
    for key, number in (("over-current", k.TRIP_OVERCURRENT), ("heartbeat", k.TRIP_HEARTBEAT),
                        ("under-voltage", k.TRIP_UNDERVOLTAGE), ("recorder", k.TRIP_RECORDER_FULL),
                        ("limit-current", k.TRIP_LIMIT_CURRENT), ("limit-time", k.TRIP_LIMIT_TIME),
                        ("limit-speed", k.TRIP_LIMIT_SPEED), ("oscillation", k.TRIP_OSCILLATION),
                        ("limit-travel", k.TRIP_LIMIT_TRAVEL)):  # fmt: skip
        assert TRIPS[number].key == key
    assert (MAX_ROWS, CAPACITY) == (512, 16384)


def test_every_parameter_has_its_place_in_the_drive_and_is_written(axis: Axis) -> None:
    """What a drive can be told is told before each play: nothing of an earlier one is left."""
    writable = {n for n, (_, e) in BY_NAME.items() if e.access == "rw" and e.type.form}
    writable -= {"Command"}
    written = set(parameters(plan_for(axis), axis))
    unused = {f"Recorder.Channel {n}" for n in range(3, 9)}
    assert written == writable - unused
    recorder = {n for n in writable if n.startswith("Recorder.Channel")}
    window = {"Recorder.First row", "Recorder.Rows"}
    assert set(k.PLACES) == writable - recorder - window
    assert len(set(k.PLACES.values())) == len(k.PLACES)


def test_what_may_change_while_it_runs_is_what_controllers_are_made_of(axis: Axis) -> None:
    live = {name for name, (_, entry) in BY_NAME.items() if entry.live}
    assert live <= set(controllers(plan_for(axis)))
    assert not any(name.startswith(("Limits", "Trip", "Position sensor")) for name in live)


@given(st.sampled_from(sorted(BY_NAME)), st.floats(allow_nan=True, allow_infinity=True))
def test_a_value_out_of_its_range_is_told(name: str, value: float) -> None:
    entry = BY_NAME[name][1]
    inside = math.isfinite(value) and entry.low <= value <= entry.high
    assert (problem(name, value) == "") == inside


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"speed": SpeedLoop(Kp=1.0, weight=1.5)}, "Set-point weight = 1.5"),
        ({"speed": SpeedLoop(Kp=1.0, divider=0)}, "Divider = 0"),
        ({"speed": SpeedLoop(Kp=1.0, lag=-0.1)}, "Lag = -0.1"),
        ({"speed": SpeedLoop(Kp=1.0, limit=9.0)}, "more than the experiment's current"),
        ({"position": PositionLoop(Kp=math.nan)}, "Kp is no number"),
        ({"torque_filters": ((1.0, 0.0, 0.0, -2.1, 1.0),)}, "torque path that is unstable"),
        ({"torque_filters": ((1.0, 0.0, 0.0, 0.0, 0.0),) * 5}, "5 filters in the torque path"),
        ({"speed_filters": ((math.inf, 0.0, 0.0, 0.0, 0.0),)}, "speed path that is no numbers"),
        ({"lines": ((10.0, 1.0, 0.0),) * 65}, "more than 64 lines"),
    ],
)
def test_the_dry_run_knows_the_ranges(axis: Axis, changes: dict[str, object], words: str) -> None:
    found = [p.sentence for p in problems(plan_for(axis, **changes), axis)]
    assert any(words in sentence for sentence in found), found
    assert problems(plan_for(axis), axis) == []


@pytest.mark.parametrize(
    ("code", "said"),  # CiA 301, table 26
    [(0x2000, "current"), (0x2110, "input current"), (0x2220, "current inside the device"),
     (0x2310, "output current"), (0x3000, "voltage"), (0x3110, "mains voltage"),
     (0x3220, "voltage of the bus"), (0x3310, "output voltage"), (0x4000, "temperature"),
     (0x4110, "ambient temperature"), (0x4210, "temperature of the device"),
     (0x5000, "hardware"), (0x6010, "software"), (0x6100, "internal software"),
     (0x6200, "user software"), (0x6320, "data set"), (0x7000, "additional module"),
     (0x8000, "monitoring"), (0x8110, "communication"), (0x8210, "protocol"),
     (0x8611, "position or speed"), (0x9000, "external fault"), (0xF001, "additional functions")],
)  # fmt: skip
def test_emergencies_have_the_names_of_the_standard(code: int, said: str) -> None:
    assert emergency_name(code) == f"emergency 0x{code:04X} ({said})"
