"""What came back from a drive and what was made of it; immutable."""

from oarlock.records.record import Check, Finding, Record, Run

__all__ = ["Check", "Finding", "Record", "Run"]
