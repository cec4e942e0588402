"""Where compiled kernels are cached, and how they are compiled."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

F = TypeVar("F", bound=Callable[..., object])


def njit() -> Callable[[F], F]:
    """Return numba's compiler, set to this program's rules and cache.

    No contraction of a·b + c: a float32 controller must round as the firmware does.
    """
    if "NUMBA_CACHE_DIR" not in os.environ:
        from platformdirs import user_cache_path

        folder: Path = user_cache_path("oarlock") / "kernels"
        folder.mkdir(parents=True, exist_ok=True)
        os.environ["NUMBA_CACHE_DIR"] = str(folder)
    import numba

    decorator: Callable[[F], F] = numba.njit(cache=True, nogil=True, error_model="numpy")
    return decorator
