"""Speeds and sizes against their bars; run with `make bench`."""

import oarlock  # noqa: F401  # first: it sets the threads of the linear algebra before NumPy loads
