"""What came back from a drive and what was made of it; immutable."""

from oarlock.records.record import Ask, Check, Finding, Reading, Record, Run

__all__ = ["Ask", "Check", "Finding", "Reading", "Record", "Run"]
