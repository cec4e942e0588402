"""What the Rehearse stage shows: a scenario, what came of it, and the tightest moment; pure."""

import hashlib
import math
from dataclasses import dataclass

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.link import Progress
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.loops import LOOPS
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.figures import RehearsalFigures, figures_of
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Scenario, parse_scenario
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State

_TIGHT = 0.98  # of the current or the bus, from which a scenario is called tight


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RehearsePicture:
    """A scenario that was simulated."""

    run: Rehearsal
    figures: RehearsalFigures
    answer: str
    reasons: tuple[str, ...]
    tightest: float  # s, where least is left of current or voltage
    limit: float  # A


def usual_scenario(axis: Axis) -> str:
    """Return the text of a scenario to begin with: there and back, by what loops there are."""
    m = axis.machine
    top = m.max_speed.value / RPM
    rpm = float(f"{0.25 * top:.1g}")
    if axis.loops["position"].gains is not None:
        steep = float(f"{2.0 * rpm * RPM / 0.3:.1g}")
        return f"""name = "There and back"
control = "position"
duration = "3 s"

[[points]]
at = "0.2 s"
by = "4"
speed = "{rpm:g} rpm"
acceleration = "{steep:g} rad/s2"
jerk_time = "20 ms"

[[points]]
at = "1.6 s"
by = "-4"
speed = "{rpm:g} rpm"
acceleration = "{steep:g} rad/s2"
jerk_time = "20 ms"
"""
    if axis.loops["speed"].gains is not None:
        return f"""name = "Up, loaded, down"
control = "speed"
duration = "2 s"

[[points]]
at = "0.1 s"
speed = "{rpm:g} rpm"
acceleration = "{rpm:g} rad/s2"

[[points]]
at = "1.4 s"
speed = "0"
acceleration = "{rpm:g} rad/s2"

[[loads]]
at = "0.8 s"
torque = {0.5 * m.torque_constant * m.rated_current.value:.2g}
"""
    return f"""name = "A push"
control = "current"
duration = "50 ms"

[[points]]
at = "10 ms"
current = "{0.3 * m.rated_current.value:.2g} A peak"

[[points]]
at = "30 ms"
current = "0 A peak"
"""


def scenario_text(now: Snapshot) -> str:
    """Return the scenario of the axis as it was left, or one to begin with."""
    return now.screen.scenario or usual_scenario(now.axis)


def scenario_of(text: str) -> Scenario:
    """Return what a text asks for.

    Raises
    ------
    InputError : it makes no sense

    """
    return parse_scenario(text, place="scenario")


def simulated(
    scenario: Scenario,
    axis: Axis,
    *,
    progress: Progress | None = None,
    cancel: Cancel | None = None,
) -> RehearsePicture:  # fmt: skip
    """Return what a scenario comes to. Work for a job; errors as `rehearse`."""
    run = rehearse(scenario, axis, progress=progress, cancel=cancel)
    told = figures_of(run, axis)
    limit = axis.machine.peak_current.value
    used = np.maximum(_size(run, "volts") / run.v_max, np.hypot(
        _size(run, "id"), _size(run, "iq")) / limit)  # fmt: skip
    tightest = float(run.t[int(np.argmax(used))]) if run.t.size else 0.0
    answer, reasons = _said(told, limit, tightest)
    return RehearsePicture(run=run, figures=told, answer=answer, reasons=reasons,
                           tightest=tightest, limit=limit)  # fmt: skip


def _size(run: Rehearsal, name: str) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    return np.maximum(np.abs(run.most[name]), np.abs(run.least[name]))


def _said(told: RehearsalFigures, limit: float, tightest: float) -> tuple[str, tuple[str, ...]]:
    if told.ended != "done":
        return f"No: it ends after {digits(told.seconds, 2)} s, {told.ended}", (
            "What came before is shown. Ask for less, or look at the load.",)  # fmt: skip
    current = told.peak_current / limit
    where = f"at {tightest:.3g} s"
    room = (
        f"Most of all {where}: {100 * current:.0f} % of the peak current, "
        f"{100 * told.voltage:.0f} % of the bus."
    )
    if told.voltage >= _TIGHT:
        return f"The bus is at its limit for {100 * told.saturated:.1f} % of the time", (room,)
    if current >= _TIGHT:
        return f"The current is at its limit {where}", (room,)
    if not math.isnan(told.following_peak):
        behind = digits(math.degrees(told.following_peak), 2)
        return f"It gets there, {behind}° behind at most", (room,)
    return "It follows, with room left", (room,)


def fingerprint(axis: Axis, text: str) -> str:
    """Return what tells whether a rehearsal was of this axis and scenario."""
    return hashlib.sha256(f"{format_axis(axis)}\n{text}".encode()).hexdigest()[:16]


def kept(shown: RehearsePicture, axis: Axis, text: str, time: str) -> dict[str, str]:
    """Return what is kept of a rehearsal, for the rail."""
    return {"line": _line(shown.figures), "time": time, "of": fingerprint(axis, text),
            "ended": shown.figures.ended}  # fmt: skip


def _line(told: RehearsalFigures) -> str:
    if not math.isnan(told.following_peak):
        return f"{digits(math.degrees(told.following_peak), 2)}° behind"
    return f"{digits(told.peak_current, 2)} A at most"


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    told = now.screen.rehearsed
    line, basis, state = "no scenario yet", "", State.EMPTY
    if all(now.axis.loops[spec.key].gains is None for spec in LOOPS):
        line, basis = "no gains yet", "after the loops"
    elif told:
        line, basis = told.get("line", ""), f"simulated {told.get('time', '')}"
        state = State.VALID
        if told.get("ended") != "done":
            state, basis = State.ATTENTION, "ends early"
        elif told.get("of") != fingerprint(now.axis, scenario_text(now)):
            state, basis = State.STALE, "stale: new values"
    return Stage(key="rehearse", name="Rehearse", line=line, basis=basis, measured=False,
                 state=state)  # fmt: skip


def picked(shown: RehearsePicture, at: float) -> dict[str, float]:
    """Return each channel's mean at a time, SI."""
    n = int(np.clip(np.searchsorted(shown.run.t, at, side="right") - 1, 0, shown.run.t.size - 1))
    return {name: float(column[n]) for name, column in shown.run.mean.items()}
