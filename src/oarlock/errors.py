"""Every error that a user can meet.

    OarlockError
      InputError          a value, a file or a command that cannot be used   exit 2
      LinkError           the way to the drive                               exit 3
        LinkTimeout       no answer in time
        LinkLost          the line broke, or the drive showed no sign of life
        LinkProtocolError an answer that makes no sense
        DriveRefused      the drive said no; carries its code
      Cancelled           the user asked to stop

Each carries cause, place and remedy, and prints as one line.
"""


class OarlockError(Exception):
    """Something the user can put right: what, where, and how."""

    def __init__(self, cause: str, *, place: str = "", remedy: str = "") -> None:
        super().__init__(cause)
        self.cause, self.place, self.remedy = cause, place, remedy

    def __str__(self) -> str:
        where = f"{self.place}: " if self.place else ""
        cure = f". {self.remedy}" if self.remedy else ""
        return f"{where}{self.cause}{cure}".replace("\n", " ")

    def at(self, place: str) -> "OarlockError":
        """Return the same error, told with the place that only the caller knows."""
        joined = f"{place}, {self.place}" if self.place else place
        return type(self)(self.cause, place=joined, remedy=self.remedy)


class InputError(OarlockError, ValueError):
    """A value, a file or a command that cannot be used."""


class LinkError(OarlockError, ConnectionError):
    """The way to the drive failed."""


class LinkTimeout(LinkError):
    """No answer in time."""


class LinkLost(LinkError):
    """The line broke, or the drive showed no sign of life."""


class LinkProtocolError(LinkError):
    """An answer that makes no sense."""


class DriveRefused(LinkError):
    """The drive said no."""


class Cancelled(OarlockError):
    """The user asked to stop."""

    def __init__(self, cause: str = "stopped", *, place: str = "", remedy: str = "") -> None:
        super().__init__(cause, place=place, remedy=remedy)
