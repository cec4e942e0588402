"""Frozen data that is worth hashing once: large, shared by many states, asked for in every drag."""

from typing import TypeVar

T = TypeVar("T")
_KEPT = "_hash"


def hashed_once(cls: type[T]) -> type[T]:
    """Return a frozen dataclass (without slots) that keeps its hash once it is known.

    What is copied to another process works it out anew: texts hash differently there.
    """
    plain = cls.__hash__

    def kept_hash(self: object) -> int:
        kept = vars(self)
        found = kept.get(_KEPT)
        if found is None:
            found = kept[_KEPT] = plain(self)
        return int(found)

    def state(self: object) -> dict[str, object]:
        return {name: value for name, value in vars(self).items() if name != _KEPT}

    cls.__hash__ = kept_hash  # type: ignore[method-assign]
    cls.__getstate__ = state  # type: ignore[method-assign]
    return cls
