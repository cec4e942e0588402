"""What the rail says of the handover: it needs neither the file nor the compiler."""

from oarlock.handover.values import values_for
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    written = now.screen.handover_written
    gains = now.axis.gains
    if gains is None:
        line, basis, state = "no gains yet", "", State.EMPTY
    elif not written:
        line, basis, state = "nothing written", "", State.EMPTY
    else:
        line, values = written.file, written.values
        wanted = {v.key: v.value for v in values_for(now.axis, "", {key: key for key in values})}
        moved = [key for key, value in wanted.items() if values.get(key) != value]
        gain = any(key.startswith("current.K") for key in moved)
        why = "stale: gains changed" if gain else "stale: new values"
        basis = why if moved else f"written {written.time}"
        state = State.STALE if moved else State.VALID
    return Stage(
        key="handover", name="Handover", line=line, basis=basis, measured=False, state=state
    )
