"""Where a drive is, as one line of text: interface, address, bitrate, node.

    can0                                  a SocketCAN interface of this machine
    socketcan:can0 node 9
    slcan:/dev/ttyACM0@1000000
    socketcand:192.168.1.20:29536/can0
    udp_multicast:239.74.163.2
    /run/user/1000/oarlock/winch.sock     a local socket, as the practice drive makes one

Every interface that python-can knows can be named; what is left out has the usual value.
"""

import re
from dataclasses import dataclass

from oarlock.errors import InputError

BITRATE = 1_000_000  # bit/s
SOCKET, SOCKETCAN = "socket", "socketcan"
_SET_UP = (SOCKETCAN, "socketcand", "udp_multicast", "virtual")  # their bitrate is none of ours
_SOCKETCAND_PORT = 29536
_NODE = re.compile(r"(?:^|\s+)node\s+(\S+)\s*$", re.IGNORECASE)
_BITRATE = re.compile(r"@(\w+)$")
_PLACE = "link"


@dataclass(frozen=True, slots=True, kw_only=True)
class Channel:
    """A way to a drive."""

    interface: str  # of python-can, or `SOCKET`
    address: str
    bitrate: int = 0  # bit/s; 0: as the interface is set up
    node: int = 1

    @property
    def text(self) -> str:
        """It as one writes it."""
        name = self.address if self.interface == SOCKET else f"{self.interface}:{self.address}"
        rate = f"@{self.bitrate}" if self.bitrate else ""
        return f"{name}{rate}" + (f" node {self.node}" if self.node != 1 else "")

    @property
    def name(self) -> str:
        """What the drive there is called."""
        if self.interface == SOCKET:
            return "practice drive"
        where = self.address if self.interface == SOCKETCAN else f"{self.interface} {self.address}"
        return f"drive on {where}" + (f", node {self.node}" if self.node != 1 else "")

    def options(self) -> dict[str, str | int | bool]:
        """Return what `can.Bus` takes."""
        made: dict[str, str | int | bool] = {"interface": self.interface, "channel": self.address}
        if self.bitrate:
            made["bitrate"] = self.bitrate
        if self.interface == "socketcand":
            host, _, rest = self.address.partition(":")
            port, _, name = rest.partition("/") if rest else ("", "", "")
            if not name:
                host, _, name = self.address.partition("/")
            made = {"interface": "socketcand", "host": host, "channel": name or "can0",
                    "port": _whole(port, "port") if port else _SOCKETCAND_PORT}  # fmt: skip
        elif self.interface == "udp_multicast":
            address, _, port = self.address.partition(":") if "." in self.address else (
                self.address, "", "")  # fmt: skip
            made = {"interface": "udp_multicast", "channel": address, "fd": False}
            if port:
                made["port"] = _whole(port, "port")
        return made


def parse_channel(text: str) -> Channel:
    """Return the channel that a text names.

    Raises
    ------
    InputError : nothing, an interface that python-can does not know, a bitrate or node that is none

    """
    import can

    rest, node = _node(text.strip())
    if not rest:
        raise InputError("no interface is named", place=_PLACE, remedy="Write one such as 'can0'")
    if rest.startswith("/"):
        return Channel(interface=SOCKET, address=rest, node=node)
    interface, colon, address = rest.partition(":")
    if not colon:
        interface, address = SOCKETCAN, rest
    if interface not in can.VALID_INTERFACES:
        raise InputError(f"no interface is called '{interface}'", place=_PLACE,
                         remedy=f"Known: {', '.join(sorted(can.VALID_INTERFACES))}")  # fmt: skip
    address, bitrate = _bitrate(interface, address)
    if not address:
        raise InputError(f"{interface} of what?", place=_PLACE, remedy="Write one such as 'can0', "
                         "'slcan:/dev/ttyACM0' or 'udp_multicast:239.74.163.2'")  # fmt: skip
    return Channel(interface=interface, address=address, bitrate=bitrate, node=node)


def _node(text: str) -> tuple[str, int]:
    """Return what stands before the node's number, and the number."""
    found = _NODE.search(text)
    if not found:
        return text, 1
    node = _whole(found.group(1), "node")
    if not 1 <= node <= 126:  # 127 is this program's own
        raise InputError(f"node {node}", place=_PLACE, remedy="Nodes are 1 to 126")
    return text[: found.start()].strip(), node


def _bitrate(interface: str, address: str) -> tuple[str, int]:
    """Return the address without its bitrate, and the bitrate; 0: as the interface is set up."""
    rate = _BITRATE.search(address)
    if not rate:
        return address, 0 if interface in _SET_UP else BITRATE
    bitrate = _whole(rate.group(1), "bitrate")
    if not 10_000 <= bitrate <= 1_000_000:
        raise InputError(f"a bitrate of {bitrate}", place=_PLACE,
                         remedy="CAN has 10000 to 1000000 bit/s")  # fmt: skip
    return address[: rate.start()], bitrate


def _whole(text: str, what: str) -> int:
    try:
        return int(text)
    except ValueError as error:
        raise InputError(f"'{text}' is no {what}", place=_PLACE,
                         remedy="Write a whole number") from error  # fmt: skip
