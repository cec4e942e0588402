"""A run through several quantities in order: what is next, what was skipped, whether it waits."""

from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True, kw_only=True)
class Sequence:
    """What is still to be measured; the first is under way."""

    left: tuple[str, ...]
    done: tuple[str, ...] = ()
    skipped: tuple[str, ...] = ()
    paused: bool = False

    @property
    def current(self) -> str | None:
        """What is under way or next; None at the end."""
        return self.left[0] if self.left else None

    def finished(self) -> "Sequence":
        """Return the sequence after its first was measured and holds."""
        return replace(self, left=self.left[1:], done=(*self.done, *self.left[:1]))

    def skip(self) -> "Sequence":
        """Return the sequence without its first."""
        return replace(self, left=self.left[1:], skipped=(*self.skipped, *self.left[:1]))

    def pause(self, *, paused: bool) -> "Sequence":
        """Return the sequence, waiting before its next or going on."""
        return replace(self, paused=paused)
