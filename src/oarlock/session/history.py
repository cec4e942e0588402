"""Undo and redo of frozen states."""

from dataclasses import dataclass
from typing import Generic, TypeVar

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class _Entry(Generic[T]):
    label: str
    before: T
    after: T


class History(Generic[T]):
    """A line of states; a new edit cuts off what was undone."""

    def __init__(self, depth: int = 200) -> None:
        self._done: list[_Entry[T]] = []
        self._undone: list[_Entry[T]] = []
        self._depth = depth

    def push(self, label: str, before: T, after: T) -> None:
        """Remember one edit."""
        self._done.append(_Entry(label, before, after))
        del self._done[: -self._depth]
        self._undone.clear()

    def undo(self) -> T | None:
        """Return the state before the last edit, or None at the beginning."""
        if not self._done:
            return None
        entry = self._done.pop()
        self._undone.append(entry)
        return entry.before

    def redo(self) -> T | None:
        """Return the state after the edit that was undone last, or None."""
        if not self._undone:
            return None
        entry = self._undone.pop()
        self._done.append(entry)
        return entry.after

    @property
    def undo_label(self) -> str:
        """What undo would take back; empty where there is nothing."""
        return self._done[-1].label if self._done else ""

    @property
    def redo_label(self) -> str:
        """What redo would do again; empty where there is nothing."""
        return self._undone[-1].label if self._undone else ""
