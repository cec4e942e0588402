"""`python -m benchmarks.short [PART]`: a short pass of all: none of them rots.

What comes out is printed and not judged: the machine that runs this may be a busy one. A link that
such a machine lets fall silent is tried once more. The part `timed` has those that talk to a
drive in real time, `first-half` and `second-half` those that compute; without one all run.
"""

import sys
import time

from benchmarks import __main__ as speeds
from benchmarks import (
    commissioning,
    coverage,
    foreign,
    identify,
    kernel,
    links,
    loops,
    own,
    own_window,
    rehearse,
    sensing,
    silence,
    swept,
)
from oarlock.errors import LinkLost, LinkTimeout

TIMED = (
    ("speeds", lambda: speeds.main(short=True)),
    ("links", lambda: links.main(short=True)),
    ("silence", lambda: silence.main(1)),
)
COMPUTED = (
    ("kernel", lambda: kernel.main(short=True)),
    ("foreign recordings", lambda: foreign.main(1, machines=(2,))),
    ("sensing", lambda: sensing.main(1, 3)),
    ("loops", lambda: loops.main(1, 1, 60)),
    ("commissioning", lambda: commissioning.main(1, 1)),
    ("coverage", lambda: coverage.main(2)),
    ("swept", lambda: swept.main(2, 1)),
    ("rehearse", lambda: rehearse.main(short=True)),
    ("own motor", lambda: own.main(1)),
    ("own motor, through the window", lambda: own_window.main(1)),
    ("identify", lambda: identify.main(1, "small servo")),
)


PARTS = {
    "all": TIMED + COMPUTED,
    "timed": TIMED,
    "first-half": COMPUTED[::2],
    "second-half": COMPUTED[1::2],
}


def main() -> None:
    """Run each for some seconds."""
    for name, run in PARTS[sys.argv[1] if len(sys.argv) > 1 else "all"]:
        begun = time.monotonic()
        sys.stdout.write(f"\n== {name}\n")
        try:
            run()
        except (LinkTimeout, LinkLost) as late:
            sys.stdout.write(f"== {name}, once more: {late}\n")
            run()
        sys.stdout.write(f"== {name}: {time.monotonic() - begun:.0f} s\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
