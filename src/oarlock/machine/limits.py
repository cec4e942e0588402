"""Who bounds current, speed and voltage: the motor's ratings, the drive's, or what it senses."""

from oarlock.machine.axis import SENSED, Axis
from oarlock.quantities.display import sentence
from oarlock.quantities.kinds import RPM


def clipped(axis: Axis) -> list[str]:
    """Return where one of motor and drive bounds the other, one sentence each."""
    m, inv, found = axis.machine, axis.inverter, _by_voltage(axis)
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


def _by_voltage(axis: Axis) -> list[str]:
    m, inv, found = axis.machine, axis.inverter, []
    bus = inv.bus_voltage
    for who, most in (("winding", m.max_voltage), ("drive", inv.max_voltage)):
        if most is not None and bus.is_known and bus.value > most.value:
            found.append(f"The bus of {sentence(bus.value, 'V')} is above the "
                         f"{sentence(most.value, 'V')} that the {who} bears")  # fmt: skip
    if axis.top_speed < m.max_speed.value:
        lower = inv.max_voltage is None or axis.borne_voltage < inv.max_voltage.value
        who = "winding" if lower else "drive"
        found.append(f"{axis.top_speed / RPM:.0f} rpm at most: with the gates off the magnet "
                     f"induces {sentence(axis.borne_voltage, 'V')} there, which is what the {who} "
                     "bears")  # fmt: skip
    return found


def too_hot(axis: Axis, stage: float) -> str:
    """Return why the drive may not go on; nothing where it may.

    Parameters
    ----------
    stage : °C, of the power stage, as the drive tells it

    """
    most = axis.inverter.max_temperature
    if most is None or stage < most.value:
        return ""
    return f"The power stage is at {stage:.0f} °C and may reach {most.value:.0f} °C: let it cool"


def _who(axis: Axis) -> str:
    inv = axis.inverter
    told = inv.max_current is not None and inv.most_current == inv.max_current.value
    return "The drive's limit" if told else f"{100 * SENSED:.0f} % of the current sense"
