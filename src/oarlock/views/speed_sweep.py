"""A measured response over the predicted one: points with the gains and filters in use."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.fitted_shaft import FittedShaft, Told
from oarlock.control.measured_loop import crossing, loop_points
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.machine import Axis
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.display import digits, with_std
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed import SpeedPicture

Array = NDArray[np.float64]
SWEEP = "speed sweep"
_SAME = 1e-3  # of a resonance: closer is the same one


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Swept:
    """The open loop at measured points; frequencies in Hz, angles in degrees."""

    when: str
    preview: bool  # the plant was measured with other gains or filters
    f: Array
    gain: Array  # dB
    phase: Array
    trusted: NDArray[np.bool_]
    crossover: float  # 0: it does not cross among the points
    margin: float
    shaft: str  # its resonance and Q as measured; empty: the points do not tell them


def swept(now: Snapshot, shown: SpeedPicture) -> Swept | None:
    """Return the newest sweep with the gains that are shown, or None: none was made.

    What was measured is the plant, so that a change of gains or filters is previewed on it.
    """
    for run in reversed(now.runs):
        reading = now.readings.get(run.id) if run.kind == SWEEP and run.ended == "done" else None
        if isinstance(reading, SweepResult):
            same = now.tested(SWEEP)
            preview = same is None or same[0] is not run
            return _swept(reading, shown, run.started[11:16], preview=preview)
    return None


def _swept(reading: SweepResult, shown: SpeedPicture, when: str, *, preview: bool) -> Swept:
    points = reading.points
    measured = loop_points(points, shown.loop)
    opened, found = measured.opened, crossing(measured, shown.margins.crossover)
    # The phase goes on from the model's own turn at each point.
    model = np.interp(points.omega, math.tau * shown.f, np.radians(shown.phase))
    phase = model + np.angle(opened * np.exp(-1j * model))
    return Swept(
        when=when, preview=preview, f=points.omega / math.tau,
        gain=20.0 * np.log10(np.maximum(np.abs(opened), 1e-9)),
        phase=np.degrees(phase), trusted=points.trusted,
        crossover=found[0] / math.tau if found else 0.0,
        margin=math.degrees(found[1]) if found else 0.0,
        shaft=_shaft_text(reading.fitted),
    )  # fmt: skip


def _shaft_text(fitted: FittedShaft | None) -> str:
    if fitted is None:
        return ""
    at, q = fitted.resonance, fitted.quality
    number, plus, _ = with_std(at.value / math.tau, at.std / math.tau, "")
    return f"shaft {number} ± {plus} Hz, Q {digits(q.value, 2)}"


def other_shaft(now: Snapshot) -> tuple[Axis, str] | None:
    """Return (the axis with the shaft of the newest sweep, what that is); None: no other one.

    Inertia stays as it is: a sweep tells it only as well as the torque constant is known.
    """
    axis = now.axis
    for run in reversed(now.runs):
        reading = now.readings.get(run.id) if run.kind == SWEEP and run.ended == "done" else None
        if not isinstance(reading, SweepResult):
            continue
        if reading.fitted is None or axis.machine.inertia is None:
            return None
        resonance = reading.fitted.resonance
        known = axis.mechanics.resonance
        if abs(resonance.value - known.value) <= max(2.0 * resonance.std, _SAME * known.value):
            return None
        source = f"run {run.id}, {run.started[11:16]}"
        for path, told, unit in _told(reading.fitted, axis):
            found = Estimate(value=told.value, std=told.std, unit=unit, origin=Origin.MEASURED,
                             source=source)  # fmt: skip
            axis = axis.adopting(path, found)
        return axis, f"{digits(resonance.value / math.tau, 4)} Hz"
    return None


def _told(fitted: FittedShaft, axis: Axis) -> list[tuple[str, Told, str]]:
    """Return path, figure and unit of what a fitted shaft says, its damping for the axis's own J.

    Masses and damping are known up to one factor, that of the torque constant.
    """
    assert axis.machine.inertia is not None
    scale = axis.machine.inertia.value / fitted.shaft.inertia
    damping = scale * fitted.shaft.damping
    share = fitted.quality.std / max(fitted.quality.value, 1e-9)
    return [
        ("mechanics.anti_resonance", fitted.anti_resonance, "rad/s"),
        ("mechanics.resonance", fitted.resonance, "rad/s"),
        ("mechanics.shaft_damping", Told(value=damping, std=share * damping), "N m s/rad"),
    ]
