"""Parameters while the drive runs, and its own memory, by the object dictionary and by the wire."""

import json
import struct
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from canopen.sdo.exceptions import SdoAbortedError

from oarlock.cancel import Cancel
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.contract.entries import BY_NAME
from oarlock.drive.contract.numbers import COLUMNS
from oarlock.drive.runner import play
from oarlock.drive.steps import Frame, Limits, Plan, Shape, SpeedLoop, Step, Target, Wave
from oarlock.errors import DriveRefused, InputError
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis
from oarlock.practice.firmware import Firmware
from oarlock.practice.truth import draw
from oarlock.records import Record
from oarlock.simulate.drive_model import DriveModel


def write(firmware: Firmware, name: str, value: float) -> None:
    group, entry = BY_NAME[name]
    data = struct.pack(entry.type.form, value if entry.type.form == "<f" else int(value))
    firmware.values.set_data(group.index, group.sub(entry), data, check_writable=True)


def read(firmware: Firmware, name: str) -> float:
    group, entry = BY_NAME[name]
    data = firmware.values.get_data(group.index, group.sub(entry))
    return float(struct.unpack(entry.type.form, data)[0])


def command(firmware: Firmware, code: int) -> None:
    firmware.values.set_data(0x2001, 0, bytes([code]))


@pytest.fixture
def firmware() -> Firmware:
    made = Firmware(DriveModel(draw("winch", 0)))
    made.operational = True
    table = np.zeros(len(COLUMNS), dtype="<f4")
    table[0] = 1000
    made.values.set_data(0x2040, 0, table.tobytes())
    write(made, "Limits.Current", 5.0)
    return made


def test_live_parameters_wait_for_a_commit_and_others_are_refused(firmware: Firmware) -> None:
    write(firmware, "Speed controller.Kp", 0.25)
    command(firmware, 1)
    write(firmware, "Speed controller.Kp", 0.5)
    write(firmware, "Torque filter 2.b0", -0.5)
    assert read(firmware, "Speed controller.Kp") == 0.5  # what was written is read back
    assert read(firmware, "Changes.Pending") == 2
    with pytest.raises(SdoAbortedError):
        write(firmware, "Machine.Ld", 1e-3)
    with pytest.raises(SdoAbortedError):
        write(firmware, "Limits.Current", 50.0)
    with pytest.raises(SdoAbortedError):
        write(firmware, "Speed controller.Set-point weight", 1.5)
    command(firmware, 4)
    assert (read(firmware, "Changes.Pending"), read(firmware, "Changes.Commits")) == (0, 1)
    command(firmware, 5)
    assert read(firmware, "Speed controller.Kp") == 0.25
    assert read(firmware, "Changes.Put back") == 1
    command(firmware, 2)
    for code in (4, 5):  # nothing runs: there is nothing to take over
        with pytest.raises(SdoAbortedError):
            command(firmware, code)


def test_the_drive_s_memory_keeps_what_was_saved(firmware: Firmware, tmp_path: Path) -> None:
    assert read(firmware, "Changes.Unsaved") == 1  # the limit of current
    with pytest.raises(SdoAbortedError):
        firmware.values.set_data(0x1010, 1, b"evas")  # not the signature
    firmware.values.set_data(0x1010, 1, b"save")
    assert read(firmware, "Changes.Unsaved") == 0
    write(firmware, "Observer.Bandwidth", 300.0)
    write(firmware, "Position sensor.Zero", -1.25)
    data = firmware.values.get_data(0x2044, 0)
    found = {(i, s): v for i, s, v in struct.iter_unpack("<HBxf", data)}
    assert found == {(0x2015, 1): 0.0, (0x2013, 5): 0.0}
    firmware.values.set_data(0x1011, 1, b"load")
    assert read(firmware, "Observer.Bandwidth") == 0.0
    assert read(firmware, "Limits.Current") == 5.0


def test_the_memory_outlives_the_drive(tmp_path: Path) -> None:
    file = tmp_path / "memory.json"
    first = Firmware(DriveModel(draw("winch", 0)), file)
    write(first, "Current controller.Kp q", 12.5)
    assert not file.exists()
    first.values.set_data(0x1010, 1, b"save")
    again = Firmware(DriveModel(draw("winch", 0)), file)
    assert read(again, "Current controller.Kp q") == 12.5
    assert read(again, "Changes.Unsaved") == 0
    for text in ("{", "[1]", json.dumps({"Current controller.Kp z": 1.0}), '{"Command": 1}',
                 json.dumps({"Current controller.Kp q": "x"})):  # fmt: skip
        file.write_text(text)
        with pytest.raises(InputError, match="no memory of a practice drive"):
            Firmware(DriveModel(draw("winch", 0)), file)


def test_rows_that_are_recorded_can_be_fetched_while_it_runs(firmware: Firmware) -> None:
    table = np.zeros(len(COLUMNS), dtype="<f4")
    table[[0, 10]] = 40000, 1
    firmware.values.set_data(0x2040, 0, table.tobytes())
    for limit in ("Current", "Speed", "Travel", "Time"):
        write(firmware, f"Limits.{limit}", 10.0)
    write(firmware, "Recorder.Round", 1)
    command(firmware, 1)
    firmware.model.advance(100)
    with pytest.raises(SdoAbortedError):
        firmware.values.get_data(0x2041, 0)  # all of it: not while it runs
    write(firmware, "Recorder.First row", 90)
    write(firmware, "Recorder.Rows", 20)
    with pytest.raises(SdoAbortedError):
        firmware.values.get_data(0x2041, 0)  # not there yet
    firmware.model.advance(30000)
    with pytest.raises(SdoAbortedError):
        firmware.values.get_data(0x2041, 0)  # not there any more
    for first in (20000, 16380 + 16384 - 5):  # across the place where it goes round, too
        write(firmware, "Recorder.First row", min(first, 30080))
        rows = np.frombuffer(firmware.values.get_data(0x2041, 0), dtype="<f4")
        at = (min(first, 30080) + np.arange(20)) * firmware.model.plant.Ts
        assert rows == pytest.approx(at, abs=2e-6)
    assert read(firmware, "Drive.Recorded rows") == 30100
    assert firmware.model.trip == 0
    command(firmware, 2)
    write(firmware, "Recorder.Rows", 0)
    rows = np.frombuffer(firmware.values.get_data(0x2041, 0), dtype="<f4")
    assert rows.size == 16384
    assert rows[-1] == pytest.approx(30099 * firmware.model.plant.Ts, abs=2e-6)


def turning(axis: Axis, seconds: float) -> Plan:
    wave = Wave(shape=Shape.SINE, target=Target.I_D, amplitude=0.5, frequency=100.0)
    going = Step(duration=seconds, frame=Frame.FIXED, i_d=3.0, record=False)
    return Plan(
        name="turn",
        steps=(going, Step(duration=0.1, i_d=3.0, frame=Frame.FIXED, wave=wave, sums=True)),
        channels=("id", "vd"),
        limits=Limits(current=9.0, speed=60.0, travel=1.0, time=seconds + 1.0),
        gains=gentle_gains(axis, 800.0),
        speed=SpeedLoop(Kp=0.1, Ki=0.1),
        lines=((50.0, 1.0, 0.0), (150.0, 0.5, 1.0)),
    )


@pytest.mark.realtime
def test_changes_memory_and_sums_over_the_wire(link: CanopenLink, axis: Axis) -> None:
    done: list[Record] = []
    running = threading.Thread(
        target=lambda: done.append(
            play(turning(axis, 1.0), axis, link, settings={}, cancel=Cancel())
        )
    )
    running.start()
    until = time.monotonic() + 3.0
    while link.status().state != "running" and time.monotonic() < until:
        time.sleep(0.01)
    link.write({"Current controller.Kp d": 3.5})
    assert link.read(["Changes.Pending"]) == {"Changes.Pending": 1.0}
    with pytest.raises(DriveRefused, match="not in this state"):
        link.write({"Machine.Ld": 1e-3})
    link.commit()
    assert link.read(["Changes.Pending"]) == {"Changes.Pending": 0.0}
    link.put_back()
    assert link.read(["Changes.Put back"]) == {"Changes.Put back": 1.0}
    running.join(10.0)
    assert done[0].ended == "done"
    sums = done[0].sums
    assert sums is not None
    assert sums.samples().tolist() == [1600]
    assert sums.mean("id")[0] == pytest.approx(3.0, abs=0.1)
    assert abs(sums.gain("id")[0]) == pytest.approx(0.5, rel=0.15)
    with pytest.raises(DriveRefused):
        link.commit()  # nothing runs

    link.save()
    assert link.unsaved() == {}
    link.write({"Speed controller.Ki": 0.75, "Position sensor.Zero": 0.5})
    kept = link.unsaved()
    assert set(kept) == {"Speed controller.Ki", "Position sensor.Zero"}
    assert kept["Speed controller.Ki"] == pytest.approx(0.1)
    link.restore()
    assert link.read(["Speed controller.Ki"])["Speed controller.Ki"] == pytest.approx(0.1)
