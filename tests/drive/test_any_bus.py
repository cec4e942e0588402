"""A drive on a bus of python-can: reached, found, lost and found again, never left energised."""

import os
import signal
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

import can
import pytest

from oarlock.cancel import Cancel
from oarlock.drive.bridge import Bridge
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.channel import parse_channel
from oarlock.drive.contract.entries import CONTRACT
from oarlock.drive.finder import Way, describe, find
from oarlock.drive.runner import play
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.drive.unix_bus import pack, unpack
from oarlock.errors import Cancelled, LinkError, LinkLost, LinkTimeout
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.machine import Axis
from tests.drive.on_bus import drive_on, free_bus

pytestmark = pytest.mark.realtime


@pytest.fixture
def bus() -> str:
    """An empty bus."""
    return free_bus()


@pytest.fixture(scope="module")
def node() -> Iterator[str]:
    """A bus with one practice drive on it, for all tests here: whatever they do, it lives on."""
    made = free_bus()
    with drive_on(made):
        yield made


def wait_until(condition: Callable[[], bool], seconds: float) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not happen"
        time.sleep(0.02)


def test_frames_pass_a_bridge_both_ways(bus: str) -> None:
    bridge = Bridge(parse_channel(bus))
    other = can.Bus(**parse_channel(bus).options())
    try:
        bridge.socket.send(pack(0x601, b"12345678"))
        seen = other.recv(1.0)
        assert seen is not None
        assert (seen.arbitration_id, bytes(seen.data)) == (0x601, b"12345678")
        other.send(can.Message(arbitration_id=0x123456, is_extended_id=True, data=b"no"))
        other.send(can.Message(arbitration_id=0x581, is_extended_id=False, data=b"yes"))
        bridge.socket.settimeout(1.0)
        assert unpack(bridge.socket.recv(64)) == (0x581, b"yes")
    finally:
        other.shutdown()
        bridge.close()


@pytest.mark.parametrize("text", ["slcan:/dev/no-such-adapter", "kvaser:0"])
def test_a_bus_that_cannot_be_opened_names_the_remedy(text: str) -> None:
    with pytest.raises(LinkLost, match="cannot open") as caught:
        CanopenLink(text)
    assert caught.value.remedy
    assert "Traceback" not in str(caught.value)


def test_an_experiment_over_a_bus(node: str, axis: Axis) -> None:
    link = CanopenLink(node)
    try:
        test = CurrentsAtRest()
        record = play(test.plan(axis), axis, link, settings=test.settings(axis), cancel=Cancel())
        assert record.ended == "done"
        assert record.rows > 5000
        assert link.status().state != "running"
    finally:
        link.close()


def test_nobody_there_and_another_number(node: str) -> None:
    with pytest.raises(LinkTimeout, match="nobody answers as node 5"):
        CanopenLink(f"{node} node 5", timeout=0.2)
    other = CanopenLink(node)
    other.close()


def test_a_second_program_on_the_bus_is_refused(node: str) -> None:
    first = CanopenLink(node)
    try:
        with pytest.raises(LinkLost, match="another program commands"):
            CanopenLink(node)
        assert first.read(["Facts.Control frequency"])["Facts.Control frequency"] == 16000.0
    finally:
        first.close()
    CanopenLink(node).close()


def test_a_drive_is_waited_for_on_the_bus_as_it_stands(
    bus: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Asked in vain three times, then there: found at once, over the one bridge."""
    opened: list[Bridge] = []
    plain = Bridge.__init__

    def counted(self: Bridge, *args: object) -> None:
        opened.append(self)
        plain(self, *args)  # type: ignore[arg-type]

    monkeypatch.setattr(Bridge, "__init__", counted)
    tried: list[float] = []

    def asks_again() -> bool:
        tried.append(time.monotonic())
        if len(tried) == 3:
            stack.enter_context(drive_on(bus))
            tried.append(time.monotonic())
        return True

    with ExitStack() as stack:
        link = CanopenLink(bus, timeout=0.2, asks_again=asks_again)
        try:
            assert time.monotonic() - tried[3] < 1.5
            assert len(opened) == 1
            assert link.read(["Facts.Control frequency"])["Facts.Control frequency"] == 16000.0
            assert link.status().state == "de-energised"
        finally:
            link.close()


def test_waiting_for_a_drive_ends_when_it_is_not_wanted(bus: str) -> None:
    cancel = Cancel()

    def asks_again() -> bool:
        cancel.set()
        cancel.check()
        return True

    with pytest.raises(Cancelled):
        CanopenLink(bus, timeout=0.2, asks_again=asks_again)
    with pytest.raises(AssertionError, match="no bridge"):
        _bridge_of(os.getpid())


def test_somebody_who_came_while_a_drive_was_waited_for_is_respected(bus: str) -> None:
    with ExitStack() as stack:

        def asks_again() -> bool:
            if not others:
                stack.enter_context(drive_on(bus))
                others.append(CanopenLink(bus))
                stack.callback(others[0].close)
            return True

        others: list[CanopenLink] = []
        with pytest.raises(LinkLost, match="another program commands"):
            CanopenLink(bus, timeout=0.2, asks_again=asks_again)
        assert others[0].status().state == "de-energised"


def test_a_bridge_that_dies_ends_in_a_drive_without_current(node: str) -> None:
    link = CanopenLink(node)
    try:
        bridge = _bridge_of(os.getpid())
        os.kill(bridge, signal.SIGKILL)
        wait_until(lambda: link.age() > 0.5, 3.0)
        with pytest.raises(LinkError):
            link.read(["Facts.Control frequency"])
    finally:
        link.close()
    again = CanopenLink(node)
    assert again.status().state == "de-energised"
    again.close()


def _bridge_of(parent: int) -> int:
    """Return the process that holds a bus for this one."""
    for process in Path("/proc").glob("[0-9]*"):
        try:
            command = (process / "cmdline").read_bytes()
            owner = int((process / "stat").read_bytes().rpartition(b")")[2].split()[1])
        except (OSError, IndexError, ValueError):
            continue
        if b"oarlock.drive.bridge" in command and owner == parent:
            return int(process.name)
    raise AssertionError("no bridge runs")


# Finding


def found_on(bus: str) -> Way:
    ways = find(Cancel(), [parse_channel(bus)])
    return next(way for way in ways if way.channel and way.channel.interface == "udp_multicast")


def test_a_drive_is_found(node: str) -> None:
    began = time.monotonic()
    way = found_on(node)
    assert time.monotonic() - began < 10.0  # the bar of 2 s is the benchmark's
    assert way.said == "1 node answers"
    assert [(n.channel.node, n.usable) for n in way.nodes] == [(1, True)]


def test_an_empty_bus(bus: str) -> None:
    assert found_on(bus).said == "no node answers"


def test_two_nodes_of_one_number_and_other_devices(bus: str) -> None:
    with _answering(bus, {4: (9, 1), 7: (1, 2)}), _answering(bus, {4: (9, 1)}):
        way = found_on(bus)
    said = {n.channel.node: (n.said, n.usable) for n in way.nodes}
    assert said[4] == ("two nodes have this number: give one of them another", False)
    assert said[7] == (f"a drive of contract version 2, this program needs {CONTRACT}", False)


def test_what_is_said_of_a_node() -> None:
    assert describe(1, CONTRACT, 417, twice=False) == ("drive no. 417", True)
    assert describe(1, CONTRACT, 0, twice=False) == ("drive", True)
    silent, usable = describe(None, None, None, twice=False)
    assert not usable
    assert silent == "answers, but not who it is: look again"
    assert describe(77, 3, 1, twice=False)[0].startswith("another device")


class _answering:  # noqa: N801 - reads as a verb where it is used
    """Nodes that answer to questions of identity: (product, revision) by number."""

    def __init__(self, bus: str, nodes: dict[int, tuple[int, int]]) -> None:
        self._bus = can.Bus(**parse_channel(bus).options())
        self._nodes, self._ending = nodes, threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def __enter__(self) -> None:
        self._thread.start()

    def __exit__(self, *_: object) -> None:
        self._ending.set()
        self._thread.join(2.0)
        self._bus.shutdown()

    def _serve(self) -> None:
        while not self._ending.is_set():
            message = self._bus.recv(0.05)
            if message is None or message.arbitration_id - 0x600 not in self._nodes:
                continue
            node = message.arbitration_id - 0x600
            index, sub = struct.unpack("<HB", bytes(message.data[1:4]))
            product, revision = self._nodes[node]
            value = {(0x1018, 2): product, (0x1018, 3): revision}.get((index, sub), 0)
            data = struct.pack("<BHBI", 0x43, index, sub, value)
            answer = can.Message(arbitration_id=0x580 + node, data=data, is_extended_id=False)
            self._bus.send(answer)


def test_a_socket_that_is_left_over_does_not_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    from oarlock.drive.unix_bus import runtime_folder

    path = runtime_folder() / "left-over.sock"
    left = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    left.bind(str(path))
    left.close()
    try:
        ways = find(Cancel())
        way = next(way for way in ways if way.name == path.name)
        assert way.said.startswith("does not answer")
        assert way.nodes == ()
    finally:
        path.unlink()


def _hold(axis: Axis, seconds: float) -> Plan:
    return Plan(
        name="hold", steps=(Step(duration=seconds, i_d=1.0),), channels=("t", "id"),
        decimation=max(round(seconds / 62.5e-6 / 4000), 1),
        limits=Limits(current=8.0, speed=10.0, travel=1.0, time=seconds + 1.0),
        gains=gentle_gains(axis, 800.0),
    )  # fmt: skip


def test_an_adapter_pulled_in_mid_run_leaves_no_current(node: str, axis: Axis) -> None:
    link = CanopenLink(node)
    failed: list[Exception] = []

    def run() -> None:
        try:
            play(_hold(axis, 20.0), axis, link, settings={}, cancel=Cancel())
        except LinkError as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    wait_until(lambda: link.status().state == "running", 3.0)
    os.kill(_bridge_of(os.getpid()), signal.SIGKILL)
    thread.join(5.0)
    assert len(failed) == 1
    assert "\n" not in str(failed[0])
    link.close()
    again = CanopenLink(node)
    try:
        assert again.status().state != "running"
        assert abs(again.read(["Drive.Current"])["Drive.Current"]) < 0.5
    finally:
        again.close()


def test_an_adapter_pulled_in_mid_upload_is_told_and_the_record_fetched_anew(
    node: str, axis: Axis
) -> None:
    link = CanopenLink(node)
    record = play(_hold(axis, 0.25), axis, link, settings={}, cancel=Cancel())
    killed = threading.Event()

    def pull(fraction: float, _doing: str) -> None:
        if fraction > 0.2 and not killed.is_set():
            killed.set()
            os.kill(_bridge_of(os.getpid()), signal.SIGKILL)

    with pytest.raises(LinkError):
        for _ in range(20):  # a bus that is fast may have it all before it is pulled
            link.upload(record.rows, 2, pull, Cancel())
    link.close()
    again = CanopenLink(node)
    assert again.status().state != "running"
    again.close()
