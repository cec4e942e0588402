"""What is identified: a row for each quantity."""

from oarlock.experiments.common.kind import Kind, later
from oarlock.experiments.identify.standstill import InductanceSine
from oarlock.records import Record
from oarlock.records.quantity import BY_KEY, KEYS


def record_kind(record: Record) -> str:
    """Return which quantity a record is of, or its experiment's name."""
    if record.experiment == InductanceSine.name:
        return f"{record.experiment}_{record.settings.get('axis_name', '')}"
    return record.experiment


_read = later("oarlock.experiments.identify.estimate:estimate")
IDENTIFY = tuple(Kind(key=key, read=_read, turns=BY_KEY[key].turns) for key in KEYS)
