"""What came back from a drive and what was made of it; immutable."""

from oarlock.records.record import Ask, Check, Finding, Plain, Reading, Record, Run, Settings, Sums

__all__ = ["Ask", "Check", "Finding", "Plain", "Reading", "Record", "Run", "Settings", "Sums"]
