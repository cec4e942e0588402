"""What there is to connect to: interfaces, serial adapters, and the nodes that answer on each bus.

Nothing is commanded: nodes are asked who they are (CiA 301, objects 1000 and 1018), which a drive
answers in any state.
"""

import json
import os
import socket
import struct
import subprocess
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from oarlock.cancel import Cancel
from oarlock.drive.bridge import PERMISSION, Mending, mend, up_command
from oarlock.drive.channel import SOCKET, SOCKETCAN, Channel
from oarlock.drive.contract.entries import CONTRACT
from oarlock.drive.open_bus import open_bus
from oarlock.drive.unix_bus import descriptor, pack, runtime_folder, unpack
from oarlock.errors import LinkError

_CAN_TYPE = "280"  # ARPHRD_CAN
_ASK, _ANSWER = 0x600, 0x580
_NODES = range(1, 127)
_WAIT, _ROUND = 0.25, 0.4  # s for answers of a whole bus; of one object of the nodes found
_DEVICE_TYPE, _VENDOR, _PRODUCT, _REVISION, _SERIAL = (
    (0x1000, 0), (0x1018, 1), (0x1018, 2), (0x1018, 3), (0x1018, 4),
)  # fmt: skip
PRODUCT = 1  # of a drive that keeps to the contract


@dataclass(frozen=True, slots=True, kw_only=True)
class Node:
    """A node that answers."""

    channel: Channel
    said: str  # what it is, and what it lacks
    usable: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """An interface or an adapter, and what was found behind it."""

    name: str
    said: str
    mending: Mending | None = None
    channel: Channel | None = None  # to type on from
    nodes: tuple[Node, ...] = ()


def find(cancel: Cancel, more: Sequence[Channel] = ()) -> tuple[Way, ...]:
    """Return all ways. Work for a job, under 2 s.

    Parameters
    ----------
    more : channels to look behind that the machine does not list, such as one used before

    """
    found: list[Way] = []

    def add(way: Way) -> None:
        found.append(way)
        cancel.check()

    for name in _can_interfaces():
        add(_interface(name, cancel))
    for path in _serial_adapters():
        add(_adapter(path))
    for path in _sockets():
        add(_socket(path))
    for channel in more:
        if channel.interface not in (SOCKET, SOCKETCAN):
            add(_behind(channel, cancel))
    return tuple(found)


# Interfaces of the machine


def _can_interfaces(root: Path = Path("/sys/class/net")) -> list[str]:
    found = []
    for folder in sorted(root.iterdir()) if root.is_dir() else []:
        try:
            if (folder / "type").read_text().strip() == _CAN_TYPE:
                found.append(folder.name)
        except OSError:
            continue  # it went away meanwhile
    return found


def state_of(details: str) -> tuple[bool, str, Mending | None]:
    """Return (up, what is said of it, what mends it) from `ip -json -details link show`."""
    try:
        link = json.loads(details)[0]
    except (ValueError, LookupError):
        return True, "", None
    data = link.get("linkinfo", {}).get("info_data", {})
    rate = data.get("bittiming", {}).get("bitrate", 0)
    state, name = data.get("state", ""), str(link.get("ifname", "can0"))
    if "UP" not in link.get("flags", []):
        return False, "is down", Mending("This brings it up", up_command(name))
    if state == "BUS-OFF":
        again = f"sudo ip link set {name} down; {up_command(name, rate or 1_000_000)}"
        return False, "is off the bus: too many errors", Mending("This starts it again", again)
    if state in ("ERROR-PASSIVE", "ERROR-WARNING"):
        said = f"{rate / 1e6:g} Mbit/s, sees errors: another bitrate, no terminator, or no node"
        other = f"sudo ip link set {name} down; {up_command(name, 500_000)}"
        return True, said, Mending("This tries another bitrate", other)
    return True, f"{rate / 1e6:g} Mbit/s" if rate else "up", None


def _interface(name: str, cancel: Cancel) -> Way:
    channel = Channel(interface=SOCKETCAN, address=name)
    try:
        done = subprocess.run(["ip", "-json", "-details", "link", "show", name],
                              capture_output=True, text=True, timeout=1.0, check=False)  # fmt: skip
        up, said, mending = state_of(done.stdout)
    except (OSError, subprocess.TimeoutExpired):
        up, said, mending = True, "", None
    if not up:
        return Way(name=name, said=said, mending=mending, channel=channel)
    way = _behind(channel, cancel)
    told = ", ".join(text for text in (said, way.said) if text)
    return Way(name=name, said=told, mending=mending or way.mending, channel=channel,
               nodes=way.nodes)  # fmt: skip


def _serial_adapters() -> list[Path]:
    named = sorted(Path("/dev/serial/by-id").glob("*"))
    plain = [*sorted(Path("/dev").glob("ttyACM*")), *sorted(Path("/dev").glob("ttyUSB*"))]
    known = {path.resolve() for path in named}
    return [*named, *(path for path in plain if path not in known)]


def _adapter(path: Path) -> Way:
    channel = Channel(interface="slcan", address=str(path), bitrate=1_000_000)
    if not os.access(path, os.R_OK | os.W_OK):
        return Way(name=path.name, said="no permission to use it", channel=channel,
                   mending=PERMISSION)  # fmt: skip
    return Way(name=path.name, said="serial adapter, not asked: choose it to try", channel=channel)


def _sockets() -> list[Path]:
    """Return the sockets of practice drives that were started by hand."""
    return [path for path in sorted(runtime_folder().glob("*.sock"))
            if not path.name.startswith("practice-")]  # fmt: skip


def _socket(path: Path) -> Way:
    channel = Channel(interface=SOCKET, address=str(path))
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as tried:
        tried.settimeout(0.3)
        try:
            tried.connect(str(path))
        except OSError as error:
            return Way(name=path.name, said=f"does not answer: {error.strerror}", channel=channel)
    node = Node(channel=channel, said="practice drive", usable=True)
    return Way(name=path.name, said="a practice drive listens", channel=channel, nodes=(node,))


# Nodes on a bus


def _behind(channel: Channel, cancel: Cancel) -> Way:
    name = channel.address if channel.interface == SOCKETCAN else channel.text
    lost: list[str] = []
    try:
        bus = open_bus(channel, lost.append)
    except LinkError as error:
        return Way(name=name, said=error.cause, mending=mend(channel, error.cause), channel=channel)
    try:
        nodes = _nodes(descriptor(bus), channel, cancel)
    except OSError as error:
        return Way(name=name, said=str(error), mending=mend(channel, str(error)), channel=channel)
    finally:
        bus.shutdown()
    many = {0: "no node answers", 1: "1 node answers"}.get(len(nodes), f"{len(nodes)} nodes answer")
    return Way(name=name, said=many, channel=channel, nodes=nodes)


def _nodes(line: int, channel: Channel, cancel: Cancel) -> tuple[Node, ...]:
    present = _answers(line, _NODES, _DEVICE_TYPE, _WAIT, cancel)
    if not present:
        return ()
    asked = {what: _answers(line, tuple(present), what, _ROUND, cancel)
             for what in (_VENDOR, _PRODUCT, _REVISION, _SERIAL)}  # fmt: skip
    found = []
    for node in sorted(present):
        twice = len(present[node]) > 1
        product, revision, serial = (
            next(iter(asked[what].get(node, ())), None) for what in (_PRODUCT, _REVISION, _SERIAL)
        )
        said, usable = describe(product, revision, serial, twice=twice)
        at = Channel(interface=channel.interface, address=channel.address,
                     bitrate=channel.bitrate, node=node)  # fmt: skip
        found.append(Node(channel=at, said=said, usable=usable))
    return tuple(found)


def describe(
    product: int | None, revision: int | None, serial: int | None, *, twice: bool
) -> tuple[str, bool]:
    """Return what is said of a node by its identity, and whether it can be used."""
    if twice:
        return "two nodes have this number: give one of them another", False
    if product is None:
        return "answers, but not who it is: look again", False
    if product != PRODUCT:
        return "another device: it does not keep to this program's contract", False
    if revision != CONTRACT:
        return f"a drive of contract version {revision}, this program needs {CONTRACT}", False
    return f"drive no. {serial}" if serial else "drive", True


def _answers(
    line: int, nodes: Sequence[int], what: tuple[int, int], seconds: float, cancel: Cancel
) -> dict[int, list[int]]:
    """Return what each node answers to an expedited upload; several answers: several nodes."""
    request = struct.pack("<BHB4x", 0x40, *what)
    for node in nodes:
        os.write(line, pack(_ASK + node, request))
        if node % 16 == 0:
            time.sleep(0.002)  # a bus carries so many in that time
    found: dict[int, list[int]] = {}
    until = time.monotonic() + seconds
    few = len(nodes) < len(_NODES)
    while (left := until - time.monotonic()) > 0.0:
        cancel.check()
        frame = _frame(line, left)
        if frame is None:
            continue
        can_id, data = frame
        node = can_id - _ANSWER
        if node in nodes and len(data) == 8 and data[1:4] == request[1:4]:
            value = struct.unpack("<I", data[4:])[0] if data[0] & 0xE0 == 0x40 else -1
            found.setdefault(node, []).append(value)
            if few and len(found) == len(nodes):
                return found  # all of them; who is there twice has shown before
    return found


def _frame(line: int, seconds: float) -> tuple[int, bytes] | None:
    import select

    ready, _, _ = select.select([line], [], [], min(seconds, 0.05))
    if not ready:
        return None
    try:
        return unpack(os.read(line, 64))
    except ValueError:
        return None
