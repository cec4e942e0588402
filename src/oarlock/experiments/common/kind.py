"""One kind of experiment: a row of the registry."""

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module

from oarlock.machine import Axis
from oarlock.machine.current_loop import KEY as CURRENT_KEY
from oarlock.records import Reading, Record


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """How records of one kind are read, and what their findings are good for."""

    key: str  # of its runs in the logbook
    read: Callable[[Record, Axis], Reading]
    turns: bool = False  # it turns the shaft with its loop closed on the sensor's angle
    proves: bool = False  # it gives nothing to adopt, or only a stand-in
    tells_early: bool = False  # what tripped on its way may still say why
    loops: tuple[str, ...] = (CURRENT_KEY,)  # it runs with the gains of these, the outermost last
    tests_loop: bool = False  # it verifies the outermost of them


def later(place: str) -> Callable[[Record, Axis], Reading]:
    """Return a reader that is imported when a record is first read: a window stands without.

    Parameters
    ----------
    place : "module:function"

    """

    def read(record: Record, axis: Axis) -> Reading:
        module, _, name = place.partition(":")
        found: Callable[[Record, Axis], Reading] = getattr(import_module(module), name)
        return found(record, axis)

    return read
