"""Oarlock: identify, tune, prove and hand over the control of permanent-magnet motors."""

import os

__version__ = "0.1.0"

# Matrices here are small. Threads of the linear algebra would spin for one another on a busy
# machine, for 12 ms where one thread takes 0.04. NumPy reads this once, as it is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
