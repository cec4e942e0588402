"""`python -m oarlock.warm`: compile the kernels once, so that no start has to wait for it."""

import subprocess
import sys

from oarlock.jit import kernel_folder

_BESIDE = """
from oarlock.control.compiled import warm
from oarlock.simulate import side_by_side
side_by_side.warm_up()
warm()
"""


def main() -> int:
    """Compile every kernel where that has not been done, about half of them in a process beside."""
    done = kernel_folder() / "all-compiled"
    if done.exists():
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
        done.touch()
    return failed


if __name__ == "__main__":
    sys.exit(main())
