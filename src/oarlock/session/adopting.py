"""Taking over what a run found: pure."""

from dataclasses import replace

from oarlock.machine import Axis
from oarlock.machine.axis import rederived
from oarlock.machine.unknown import guessed_again
from oarlock.records import Finding, Run


def with_finding(axis: Axis, finding: Finding, run: Run) -> Axis:
    """Return the axis with what a finding estimates in use, each naming its run."""
    for path, estimate in finding.estimates.items():
        told = replace(estimate, source=f"run {run.id}, {run.started[11:16]}")
        axis = axis.adopting(path, told)
    return rederived(guessed_again(axis))
