"""Where compiled kernels are cached, and how they are compiled.

A cached function knows its own file, not those of what it calls. The cache's folder is named by a
hash over all sources that hold kernels: a change in any of them begins a new one.
"""

import hashlib
import os
from collections.abc import Callable, Mapping
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

F = TypeVar("F", bound=Callable[..., object])
_ROOMS = ("simulate", "control", "lanes")  # that hold kernels, or what they are made by
_CHOSEN = "NUMBA_CACHE_DIR"


def kernel_sources() -> list[Path]:
    """Return every source file that the compiled code may come from."""
    here = Path(__file__).parent
    return [Path(__file__), *sorted(p for room in _ROOMS for p in (here / room).glob("*.py"))]


@cache
def kernel_folder() -> Path:
    """Return the folder of the compiled code, within the user's own choice where there is one."""
    digest = hashlib.sha256()
    for source in kernel_sources():
        digest.update(source.read_bytes())
    chosen = os.environ.get(_CHOSEN)
    if chosen:
        base = Path(chosen)
    else:
        from platformdirs import user_cache_path

        base = user_cache_path("oarlock") / "kernels"
    name = digest.hexdigest()[:16]
    folder = base if base.name == name else base / name  # as told by the process that began this
    folder.mkdir(parents=True, exist_ok=True)
    os.environ[_CHOSEN] = str(folder)
    return folder


def njit(*, inline: bool = False) -> Callable[[F], F]:
    """Return numba's compiler, set to this program's rules and cache.

    No contraction of a·b + c: a float32 controller must round as the firmware does.

    Parameters
    ----------
    inline : put the function into those that call it: parts of one loop cost no calls. Such a part
        allocates nothing, so that no array's references are counted, which costs an atomic
        operation each

    """
    kernel_folder()
    import numba

    decorator: Callable[[F], F] = numba.njit(
        cache=True, nogil=True, error_model="numpy", forceinline=inline, _nrt=not inline
    )
    return decorator


def compile_all(names: dict[str, Any], arguments: Mapping[str, tuple[object, ...]]) -> None:
    """Compile functions of a module, or load them from the cache.

    Each name is bound anew, callees first: what calls it finds the compiled one from then on.

    Parameters
    ----------
    names : the module's own
    arguments : what each is compiled for

    """
    for name, some in arguments.items():
        names[name] = njit()(names[name])
        names[name](*some)
