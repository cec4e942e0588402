"""How many threads the linear algebra takes."""

import os
import subprocess
import sys

THREADS = """
import os
{first}
import numpy as np
np.linalg.solve(np.eye(300), np.ones((300, 300)))
print(len(os.listdir("/proc/self/task")))
"""


def threads(first: str, **given: str) -> int:
    """Return how many threads a process has after some linear algebra."""
    plain = {name: value for name, value in os.environ.items() if "THREADS" not in name}
    command = [sys.executable, "-c", THREADS.format(first=first)]
    done = subprocess.run(command, env=plain | given, check=True, capture_output=True, text=True)
    return int(done.stdout)


def test_it_takes_one_thread_unless_the_user_chose_otherwise() -> None:
    assert threads("import oarlock") == 1
    assert threads("import oarlock", OPENBLAS_NUM_THREADS="2") == 2
