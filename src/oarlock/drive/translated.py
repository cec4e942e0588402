"""What the CANopen library raises, as this program's own errors."""

import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from canopen.sdo.exceptions import SdoAbortedError, SdoCommunicationError

from oarlock.errors import DriveRefused, LinkProtocolError, LinkTimeout, OarlockError

# What the library raises where an answer is too short, of a wrong size, or out of order.
_SENSELESS = (
    struct.error, ValueError, TypeError, IndexError, KeyError, AttributeError, OverflowError,
)  # fmt: skip
_ABORTS = {
    0x08000022: "not in this state: another experiment may be running",
    0x06090030: "the value is out of range",
    0x06040043: "the step table makes no sense to it",
    0x06020000: "it does not know this parameter",
    0x06010002: "this parameter is read-only",
    0x060A0023: "there is nothing recorded",
}


@contextmanager
def translated(place: str, what: str, alive: Callable[[], None]) -> Iterator[None]:
    """Translate what goes wrong with one transfer.

    Parameters
    ----------
    what : the object asked for
    alive : raises why the line broke, where it did

    """
    try:
        yield
    except OarlockError:
        raise
    except SdoAbortedError as error:
        cause = _ABORTS.get(error.code, str(error))
        raise DriveRefused(f"the drive refused: {cause}", place=f"{place}, {what}") from error
    except SdoCommunicationError as error:
        alive()
        if "CRC" in str(error) or "Unexpected" in str(error):
            raise LinkProtocolError(str(error), place=place) from error
        remedy = "Is the drive running? Connect again"
        raise LinkTimeout(f"no answer to {what}", place=place, remedy=remedy) from error
    except _SENSELESS as error:
        cause = f"the answer to {what} makes no sense"
        remedy = "Does this drive keep to docs/drive-interface.md?"
        raise LinkProtocolError(cause, place=place, remedy=remedy) from error
