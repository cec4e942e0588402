"""What is seen before a drive is commanded: nobody else does, and it keeps to the contract."""

import threading
import time
from collections.abc import Callable, Mapping, Sequence

import canopen

from oarlock.drive.contract.entries import CONTRACT
from oarlock.errors import LinkLost, LinkProtocolError, LinkTimeout

CLIENT_ID = 0x7F  # node number of whoever commands
HEARTBEAT = 0x700  # and the node's number: identifier of its heartbeat, CiA 301
_LISTEN = 0.05  # s in which another program's heartbeat is heard
_REVISION = "Identity.Revision number"


def see_alone(network: canopen.Network, lose: Callable[[str], None], place: str) -> None:
    """Refuse a bus on which another program commands already; `lose` is told first.

    Raises
    ------
    LinkLost : its heartbeat is heard

    """
    heard = threading.Event()
    network.subscribe(HEARTBEAT + CLIENT_ID, lambda *_: heard.set())
    if heard.wait(_LISTEN):
        cause = "another program commands drives on this bus"
        lose(cause)
        raise LinkLost(cause, place=place, remedy="Disconnect there first")
    network.unsubscribe(HEARTBEAT + CLIENT_ID)


def see_contract(
    read: Callable[[Sequence[str]], Mapping[str, float]], asks_again: Callable[[], bool], place: str
) -> bool:
    """Refuse a drive that keeps to another version of the contract; return whether it was late.

    Parameters
    ----------
    asks_again : called where nobody answers; whether to ask once more

    Raises
    ------
    LinkTimeout : nobody answers
    LinkProtocolError : it keeps to another version

    """
    late = False
    while True:
        try:
            version = int(read([_REVISION])[_REVISION])
            break
        except LinkTimeout:
            if not asks_again():
                raise
            late = True
    if late:
        time.sleep(_LISTEN)  # answers to what was asked before come in
    if version != CONTRACT:
        cause = f"the drive keeps to version {version} of the contract, this program needs "
        raise LinkProtocolError(f"{cause}{CONTRACT}", place=place,
                                remedy="Bring the older of the two up to date")  # fmt: skip
    return late
