"""What of this room is compiled: kernels that drags and searches call again and again.

Until `warm` has run (in a thread, after the window stands), the same source runs as plain
Python: slower, same numbers.
"""

import threading

from oarlock.control import _figures, _kernels, _sought, _speed_steps, _steps

_lock = threading.Lock()
_warm = False


def warm() -> None:
    """Compile all of it, or load it from the cache."""
    global _warm
    with _lock:
        if _warm:
            return
        from oarlock.jit import compile_all

        for module in (_figures, _kernels, _sought, _steps, _speed_steps):  # callees first
            compile_all(vars(module), module.arguments())
        _warm = True
