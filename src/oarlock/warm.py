"""`python -m oarlock.warm`: compile the kernels once, so that no start has to wait for it."""

from oarlock.control._kernels import warm
from oarlock.simulate.drive_model import warm_up


def main() -> None:
    """Compile, or load from the cache, every kernel."""
    warm()
    warm_up()


if __name__ == "__main__":
    main()
