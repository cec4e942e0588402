"""Which kept records the screens need read, and reading them again."""

from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.reading import gains_of, read, runs_like
from oarlock.experiments.registry import KINDS
from oarlock.experiments.sensing.kinds import SENSING_KEYS
from oarlock.machine import Axis
from oarlock.machine.axis_file import parse_axis
from oarlock.records import Reading, Record, Run
from oarlock.records.quantity import KEYS
from oarlock.views.snapshot import Snapshot

OUTER = [kind.key for kind in KINDS if kind.tests_loop and len(kind.loops) > 1]


def wanted(now: Snapshot) -> list[Run]:
    """Return the runs whose readings the screens need and do not have yet."""
    newest = [now.latest(kind) for kind in (*KEYS, *SENSING_KEYS)]
    steps = [r for r in now.runs if r.kind == CurrentStep.name and r.ended == "done"]
    again = [r for kind in KEYS for r in now.runs
             if r.kind == kind and r.ended == "done"][-12:]  # fmt: skip
    needed = [*(run for run in newest if run), *again, *steps[-2:]]
    needed += [r for r in steps if r.pinned]
    for name in ("d", "q"):  # what the rail and the proof rest on, however old
        proof = [r for r in steps if r.settings.get("axis_name") == name
                 and runs_like(r, now.axis)]  # fmt: skip
        needed += proof[-1:]
    sweeps = [r for r in now.runs if r.kind == "current sweep" and r.ended == "done"]
    needed += [*sweeps[-2:], *(r for r in sweeps if r.pinned)]
    for kind in OUTER:
        tests = [r for r in now.runs if r.kind == kind and r.ended == "done"]
        needed += [*tests[-2:], *(r for r in tests if r.pinned)]
        needed += [r for r in tests if runs_like(r, now.axis)][-1:]
    return list({r.id: r for r in needed if r.id not in now.readings}.values())


def read_again(run: Run, record: Record, axis: Axis) -> Reading:
    """Return the reading of a kept record, against the axis it was made on; pure, for a job."""
    made_on = run.settings.get("made_on")
    if isinstance(made_on, str):
        axis = parse_axis(made_on, place=f"run {run.id}")
    gains = gains_of(run.gains)
    return read(record, axis.with_gains(gains) if gains else axis)
