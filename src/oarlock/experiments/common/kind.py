"""One kind of experiment: a row of the registry."""

from collections.abc import Callable
from dataclasses import dataclass

from oarlock.machine import Axis
from oarlock.records import Reading, Record


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """How records of one kind are read, and what their findings are good for."""

    key: str  # of its runs in the logbook
    read: Callable[[Record, Axis], Reading]
    turns: bool = False  # it turns the shaft with its loop closed on the sensor's angle
    proves: bool = False  # it gives nothing to adopt, or only a stand-in
    tells_early: bool = False  # what tripped on its way may still say why
