"""What follows from an axis's parameters: constants, limits and base values."""

import math
from dataclasses import dataclass

from oarlock.machine.axis import Axis
from oarlock.quantities.kinds import RPM


@dataclass(frozen=True, slots=True, kw_only=True)
class Derived:
    """One figure that follows from the parameters in use."""

    name: str
    value: float
    unit: str
    tip: str


_RESTS_ON = ("machine.pole_pairs", "machine.R", "machine.Ld", "machine.Lq", "machine.psi",
             "machine.rated_current", "machine.peak_current", "inverter.bus_voltage")  # fmt: skip


def derived(axis: Axis) -> tuple[Derived, ...]:
    """Return what a practitioner checks parameters by; see any text on drives (Leonhard 2001).

    Nothing where one of the values that it follows from is not known yet.
    """
    if not all(axis.parameter(path).is_known for path in _RESTS_ON):
        return ()
    m, v_max = axis.machine, axis.inverter.v_max
    p, psi = m.pole_pairs.value, m.psi.value
    Kt = m.torque_constant
    rows = [
        ("Kt, per A peak", Kt, "N m/A", "1.5 p ψ"),
        ("Kt, per A RMS", math.sqrt(2.0) * Kt, "N m/A", "1.5 √2 p ψ"),
        ("Ke, line to line", math.sqrt(3.0) * p * psi * 1e3 * RPM / math.sqrt(2.0), "V/krpm",
         "RMS, √3 p ψ"),
        ("Ld/R, Lq/R", m.Ld.value / m.R.value, "s", "electrical time constant, d; q is "
         f"{1e3 * m.Lq.value / m.R.value:.3g} ms"),
        ("Short-circuit current", m.characteristic_current, "A", "ψ/Ld"),
        ("No-load speed", v_max / (p * psi) / RPM, "rpm", "where back-EMF takes the bus"),
    ]  # fmt: skip
    if m.inertia is not None and m.inertia.value > 0.0:
        J = m.inertia.value
        torque = m.torque(0.0, m.peak_current.value)
        rows.append(("Acceleration at peak", torque / J, "rad/s²", "peak torque over inertia"))
        rows.append(("Mech. time constant", m.R.value * J / (1.5 * (p * psi) ** 2), "s",
                     "R J / (1.5 p² ψ²)"))  # fmt: skip
    rated = m.rated_current.value
    base = v_max / math.hypot(psi, m.Lq.value * rated)
    rows.append(("Base speed", base / p / RPM, "rpm", "where rated current meets the bus, id = 0"))
    rows.append(("Base impedance", v_max / rated, "ohm", "largest phase voltage, rated current"))
    return tuple(Derived(name=n, value=v, unit=u, tip=t) for n, v, u, t in rows)
