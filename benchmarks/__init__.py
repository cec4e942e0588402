"""Speeds and sizes against their bars; run with `make bench`."""
