"""What came back from a drive and what was made of it; immutable."""

from oarlock.records.record import Ask, Check, Finding, Reading, Record, Run, Sums
from oarlock.records.settings import Plain, Settings

__all__ = ["Ask", "Check", "Finding", "Plain", "Reading", "Record", "Run", "Settings", "Sums"]
