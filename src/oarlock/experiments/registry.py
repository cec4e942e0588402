"""Every kind of experiment there is: one row each, in the room of its subject."""

from oarlock.experiments.common.kind import Kind
from oarlock.experiments.identify.kinds import IDENTIFY
from oarlock.experiments.loops.kinds import LOOPS
from oarlock.experiments.sensing.kinds import SENSING

KINDS: list[Kind] = [*IDENTIFY, *LOOPS, *SENSING]


def kind_of(key: str) -> Kind | None:
    """Return a kind by the key of its runs, or None: one that this program does not know."""
    return next((kind for kind in KINDS if kind.key == key), None)


def tested_by(key: str) -> str:
    """Return the loop that runs of this kind verify, or nothing."""
    kind = kind_of(key)
    return kind.loops[-1] if kind is not None and kind.tests_loop else ""


def loops_of(key: str) -> tuple[str, ...]:
    """Return the loops whose gains runs of this kind are played with."""
    kind = kind_of(key)
    return kind.loops if kind is not None else ()


def gives_nothing(key: str) -> bool:
    """Return whether runs of this kind prove, and give nothing to adopt or only a stand-in."""
    kind = kind_of(key)
    return kind is not None and kind.proves


def tells_early(key: str) -> bool:
    """Return whether what tripped on its way may still say why."""
    kind = kind_of(key)
    return kind is not None and kind.tells_early
