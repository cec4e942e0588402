"""Who bounds the current: the motor's ratings, the drive's, or what the drive can sense."""

from oarlock.machine.axis import SENSED, Axis
from oarlock.quantities.display import sentence


def clipped(axis: Axis) -> list[str]:
    """Return where the drive gives less than the motor bears, one sentence each."""
    m, inv, found = axis.machine, axis.inverter, []
    if axis.peak < m.peak_current.value:
        found.append(f"{_who(axis)}: {sentence(axis.peak, 'A')} at most, where the motor bears "
                     f"{sentence(m.peak_current.value, 'A')}")  # fmt: skip
    if axis.rated < m.rated_current.value:
        steady = inv.steady_current
        told = steady is not None and axis.rated == steady.value
        by = "The drive gives" if told else "That leaves"
        found.append(f"{by} {sentence(axis.rated, 'A')} for long, where the motor bears "
                     f"{sentence(m.rated_current.value, 'A')}")  # fmt: skip
    return found


def _who(axis: Axis) -> str:
    inv = axis.inverter
    told = inv.max_current is not None and inv.most_current == inv.max_current.value
    return "The drive's limit" if told else f"{100 * SENSED:.0f} % of the current sense"
