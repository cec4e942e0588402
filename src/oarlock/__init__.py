"""Oarlock: identify, tune, prove and hand over the control of permanent-magnet motors."""

__version__ = "0.1.0"
