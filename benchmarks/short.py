"""`python -m benchmarks.short [part parts]`: a short pass of every benchmark: none of them rots.

What comes out is printed and not judged: the machine that runs this may be a busy one. Two cores
take a part each: `1 2` and `2 2`.
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


def main() -> None:
    """Run each for some seconds."""
    passes = (
        ("speeds", lambda: speeds.main(short=True)),
        ("kernel", lambda: kernel.main(short=True)),
        ("silence", lambda: silence.main(1)),
        ("foreign recordings", lambda: foreign.main(1, machines=(2,))),
        ("sensing", lambda: sensing.main(1, 3)),
        ("loops", lambda: loops.main(1, 1, 60)),
        ("commissioning", lambda: commissioning.main(1, 1)),
        ("coverage", lambda: coverage.main(2)),
        ("swept", lambda: swept.main(2, 1)),
        ("rehearse", lambda: rehearse.main(short=True)),
        ("own motor", lambda: own.main(1)),
        ("own motor, through the window", lambda: own_window.main(1)),
        ("links", lambda: links.main(short=True)),
        ("identify", lambda: identify.main(1, "small servo")),
    )
    part, parts = (int(word) for word in sys.argv[1:] or ("1", "1"))
    for name, run in passes[part - 1 :: parts]:
        begun = time.monotonic()
        sys.stdout.write(f"\n== {name}\n")
        run()
        sys.stdout.write(f"== {name}: {time.monotonic() - begun:.0f} s\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
