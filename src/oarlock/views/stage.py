"""What the rail says of a stage: its result, what it rests on, and whether it still holds."""

from dataclasses import dataclass
from enum import StrEnum

BEING_READ = "reading its runs"  # of a project that was just opened
READING = "Reading what was measured", "The project was opened a moment ago."


class State(StrEnum):
    """How far a stage's result can be believed."""

    VALID = "valid"
    ATTENTION = "attention"
    STALE = "stale"
    EMPTY = "empty"


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """One item of the rail."""

    key: str
    name: str
    line: str
    basis: str
    measured: bool
    state: State
