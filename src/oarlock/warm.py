"""`python -m oarlock.warm`: compile the kernels once, so that no start has to wait for it."""

import subprocess
import sys

from oarlock.control._kernels import warm
from oarlock.simulate import drive_model, side_by_side, tally

_BESIDE = "from oarlock.control._kernels import warm; warm()"


def main() -> int:
    """Compile, or load from the cache, every kernel: those of design beside those of the drive."""
    with subprocess.Popen([sys.executable, "-c", _BESIDE]) as beside:
        drive_model.warm_up()
        tally.warm_up()
        side_by_side.warm_up()
        failed = beside.wait()
    if not failed:
        warm()
    return failed


if __name__ == "__main__":
    sys.exit(main())
