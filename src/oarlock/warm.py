"""`python -m oarlock.warm`: compile the kernels once, so that no start has to wait for it."""

import hashlib
import subprocess
import sys
from importlib.metadata import version
from pathlib import Path

from oarlock.jit import kernel_folder, kernel_sources

_BESIDE = """
from oarlock.control.compiled import warm
from oarlock.simulate import side_by_side
side_by_side.warm_up()
warm()
"""


def done() -> Path:
    """Return the file that tells that all kernels are compiled.

    What is compiled is kept by its source's place and date, and by the compiler: another copy of
    the program has its own, and what was written anew is compiled anew.
    """
    sources = [(str(path.resolve()), path.stat().st_mtime_ns) for path in kernel_sources()]
    kept_by = repr((version("numba"), sources)).encode()
    return kernel_folder() / f"compiled-{hashlib.sha256(kept_by).hexdigest()[:16]}"


def main() -> int:
    """Compile every kernel where that has not been done, about half of them in a process beside."""
    if done().exists():
        return 0
    from oarlock.control.compiled import warm
    from oarlock.simulate import drive_model, side_by_side, tally

    with subprocess.Popen([sys.executable, "-c", _BESIDE]) as beside:
        drive_model.warm_up()
        tally.warm_up()
        failed = beside.wait()
    if not failed:
        side_by_side.warm_up()
        warm()
        done().touch()
    return failed


if __name__ == "__main__":
    sys.exit(main())
