"""What the Machine stage shows: the operating map and what binds where; pure functions."""

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import Axis
from oarlock.machine.axis import concerns
from oarlock.machine.limits import clipped
from oarlock.machine.operating_map import Envelope, Limits, ellipse, envelope, limits_of, mtpa
from oarlock.machine.unknown import FOUND_LATER, NEEDED, is_known, missing
from oarlock.quantities import Origin
from oarlock.quantities.display import digits, sentence
from oarlock.quantities.kinds import RPM
from oarlock.quantities.preferred import at_least
from oarlock.records.quantity import KEYS
from oarlock.views.identify import identified
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MachinePicture:
    """The operating map at a speed cursor; SI, mechanical rad/s."""

    limits: Limits
    best: Envelope
    printed: Envelope | None  # the datasheet's map, where it differs
    omega: float  # the cursor
    at_cursor: tuple[float, float, float]  # torque, i_d, i_q
    mtpa: tuple[Array, Array]
    ellipses: tuple[tuple[float, Array, Array], ...]  # (omega, i_d, i_q)
    cursor_ellipse: tuple[Array, Array]
    weakening: tuple[Array, Array]  # i_d, i_q along the envelope beyond the base speed
    contours: tuple[tuple[float, Array, Array], ...]  # (N·m, i_d, i_q)
    characteristic: float  # A
    answer: str
    reasons: tuple[str, ...]

    @property
    def electrical_hertz(self) -> float:
        """Electrical frequency at the cursor."""
        return self.limits.p * self.omega / math.tau


_MAPPED = (*FOUND_LATER, "machine.peak_current", "machine.max_speed", "inverter.bus_voltage")


def can_be_mapped(axis: Axis) -> bool:
    """Return whether all is known that an operating map rests on."""
    return all(is_known(axis, path) for path in _MAPPED)


def _is_printed(axis: Axis) -> bool:
    return all(axis.parameter(path).printed.origin is Origin.DATASHEET for path in FOUND_LATER)


@lru_cache(maxsize=32)
def _envelope(limits: Limits) -> Envelope:
    return envelope(limits)


def machine_picture(axis: Axis, omega: float) -> MachinePicture:
    """Return the map of an axis with its cursor at `omega`."""
    limits = limits_of(axis)
    printed = limits_of(axis, printed=True) if _is_printed(axis) else limits
    best = _envelope(limits)
    omega = min(max(omega, 0.0), limits.omega_max)
    beyond = best.omega >= best.base_speed
    power = float(best.power.max())
    base = best.base_speed / RPM
    top = f"{digits(float(best.torque[0]), 3)} N·m"
    if base < limits.omega_max / RPM * 0.999:
        answer = f"{top} up to {base:.0f} rpm, then {digits(power / 1e3, 2)} kW at most"
    else:
        answer = f"{top} up to the top speed of {base:.0f} rpm"
    return MachinePicture(
        limits=limits,
        best=best,
        printed=_envelope(printed) if printed != limits else None,
        omega=omega,
        at_cursor=best.at(omega),
        mtpa=mtpa(limits),
        ellipses=tuple((w, *ellipse(limits, w)) for w in _speeds(limits, best.base_speed)),
        cursor_ellipse=ellipse(limits, max(omega, 1.0)),
        weakening=(best.i_d[beyond], best.i_q[beyond]),
        contours=_contours(limits, float(best.torque[0])),
        characteristic=limits.psi / limits.Ld,
        answer=answer,
        reasons=_reasons(axis, limits),
    )


def _speeds(limits: Limits, base: float) -> list[float]:
    """Return round speeds (rad/s) for the ellipses, from the base speed to the top."""
    top, low = limits.omega_max / RPM, base / RPM
    step = next((s for s in (100, 200, 500, 1000, 2000, 5000) if (top - low) / s <= 4), 10000)
    rounds = [n * step for n in range(1, 60) if low * 1.12 < n * step <= top]
    return [base, *(n * RPM for n in rounds)]


def _contours(limits: Limits, most: float) -> tuple[tuple[float, Array, Array], ...]:
    step = at_least(most / 5.0)
    i_d = np.linspace(-1.25 * limits.i_max, 0.3 * limits.i_max, 80)
    found = []
    for n in range(1, 6):
        torque = n * step
        flux = limits.psi + (limits.Ld - limits.Lq) * i_d
        with np.errstate(divide="ignore"):
            i_q = torque / (1.5 * limits.p * flux)
        good = flux > 1e-6
        found.append((torque, i_d[good], i_q[good]))
    return tuple(found)


def _reasons(axis: Axis, limits: Limits) -> tuple[str, ...]:
    found = [*concerns(axis), *clipped(axis)]
    if found:
        return (f"{found[0]}.",)
    bus, phase = axis.inverter.bus_voltage.value, limits.v_max
    return (f"On {bus:.0f} V the phase gets {phase:.0f} V at most; R is kept in the ellipses.",)


def characteristic_why(shown: MachinePicture) -> tuple[str, str]:
    """Return what the characteristic current means here."""
    inside = shown.characteristic < shown.limits.i_max
    where = "inside" if inside else "outside"
    meaning = "torque never runs out with speed" if inside else "torque ends at a finite speed"
    return f"= ψ/L~d~, {where} the {digits(shown.limits.i_max, 3)} A circle:", meaning


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    axis = now.axis
    measured = identified(axis)
    if not can_be_mapped(axis):
        return _begun(axis)
    peak, top = sentence(axis.peak, "A"), f"{axis.top_speed / RPM:.0f} rpm"
    return Stage(
        key="machine",
        name="Machine",
        line=f"{peak}, {top}",
        basis=f"{measured} of {len(KEYS)} measured" if measured else "datasheet values",
        measured=measured > 0,
        state=State.VALID,
    )


def _begun(axis: Axis) -> Stage:
    """Return what the rail says while not all of the machine is known."""
    paths = (*NEEDED[:4], *FOUND_LATER)
    known = sum(is_known(axis, path) for path in paths)
    left = sum(path in missing(axis) for path in NEEDED[:3])
    told = "the drive tells the rest" if missing(axis) else "the rest is measured"
    return Stage(
        key="machine",
        name="Machine",
        line=f"{known} of {len(paths)} known",
        basis=f"{left} needed first" if left else told,
        measured=False,
        state=State.EMPTY,
    )
