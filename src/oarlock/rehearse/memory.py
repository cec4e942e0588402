"""Whether what a scenario keeps fits into memory: asked before anything is simulated."""

import math
from pathlib import Path

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.rehearse.bins import bytes_of
from oarlock.rehearse.scenario import Scenario

_FIGURES = 1.5  # of what is kept: what figures and pictures make of it comes on top
_SHARE = 0.8  # of the free memory, that may be taken
_GIGA = 1e9


def refuse_too_large(scenario: Scenario, axis: Axis, many: int = 1) -> None:
    """Raise where a scenario on so many machines at a time is more than memory holds.

    Raises
    ------
    InputError : it is too long

    """
    each = _FIGURES * bytes_of(scenario.duration, axis)
    room = _SHARE * free()
    if many * each <= room:
        return
    machines = f", {many} machines at a time" if many > 1 else ""
    longest = scenario.duration * room / (many * each)
    raise InputError(
        f"{scenario.duration:g} s take {many * each / _GIGA:.2g} GB{machines}; "
        f"{room / _GIGA:.2g} GB are free for it",
        place=scenario.name,
        remedy=f"Rehearse at most {longest:.2g} s of it",
    )


def free(told: Path = Path("/proc/meminfo")) -> float:
    """Return how much memory (bytes) is free; infinite where the system does not say."""
    try:
        lines = told.read_text(encoding="ascii").splitlines()
    except OSError:
        return math.inf
    found = [line.split()[1] for line in lines if line.startswith("MemAvailable:")]
    return 1024.0 * float(found[0]) if found else math.inf
