"""Open the bus that a channel names."""

from collections.abc import Callable

import can

from oarlock.drive.channel import SOCKET, SOCKETCAN, Channel
from oarlock.drive.unix_bus import UnixBus
from oarlock.errors import LinkLost


def open_bus(channel: Channel, on_lost: Callable[[str], None]) -> can.BusABC:
    """Return a bus on whose descriptor whole frames can be written.

    A local socket and SocketCAN are opened as they are; every other interface is held by a process
    of its own, with a socket between.

    Raises
    ------
    LinkLost : it cannot be opened; the remedy says what mends it

    """
    from oarlock.drive.bridge import Bridge, mend

    if channel.interface not in (SOCKET, SOCKETCAN):
        bridge = Bridge(channel)
        return UnixBus(channel.text, on_lost, joined=bridge.socket, on_shutdown=bridge.close)
    try:
        if channel.interface == SOCKET:
            return UnixBus(channel.address, on_lost)
        standard = [{"can_id": 0, "can_mask": 0, "extended": False}]
        return can.Bus(channel=channel.address, interface=SOCKETCAN, can_filters=standard)
    except (OSError, can.CanError) as error:
        raise LinkLost(f"cannot open {channel.text}: {error}", place="link",
                       remedy=mend(channel, str(error)).line) from error  # fmt: skip
