"""`python -m oarlock.warm`: compile the kernels once, so that no start has to wait for it."""

import subprocess
import sys

from oarlock.control._kernels import warm
from oarlock.simulate.drive_model import warm_up

_BESIDE = "from oarlock.control._kernels import warm; warm()"


def main() -> int:
    """Compile, or load from the cache, every kernel: those of design beside those of the drive."""
    with subprocess.Popen([sys.executable, "-c", _BESIDE]) as beside:
        warm_up()
        failed = beside.wait()
    if not failed:
        warm()
    return failed


if __name__ == "__main__":
    sys.exit(main())
