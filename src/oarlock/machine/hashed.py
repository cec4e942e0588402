"""Frozen data that is worth hashing once: large, shared by many states, asked for in every drag."""

from typing import Any, TypeVar

T = TypeVar("T")
_KEPT = "_hash"


def hashed_once(cls: type[T]) -> type[T]:
    """Return a frozen dataclass (without slots) that keeps its hash once it is known.

    What is copied to another process works it out anew: texts hash differently there.
    """
    plain = cls.__hash__

    def kept_hash(self: Any) -> int:
        kept = self.__dict__
        found = kept.get(_KEPT)
        if found is None:
            found = kept[_KEPT] = plain(self)
        return int(found)

    def state(self: Any) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != _KEPT}

    cls.__hash__ = kept_hash  # type: ignore[method-assign]
    cls.__getstate__ = state  # type: ignore[method-assign]
    return cls
