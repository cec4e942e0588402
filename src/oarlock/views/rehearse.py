"""Which scenario an axis is rehearsed with, and what the rail says of it; pure and light."""

import hashlib
from functools import lru_cache

from oarlock.machine import Axis, SensorKind
from oarlock.machine.loops import LOOPS
from oarlock.machine.position_loop import PositionTarget
from oarlock.quantities.kinds import RPM
from oarlock.simulate.plant_parameters import Modulation
from oarlock.views.screen import Screen
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State


def usual_scenario(axis: Axis) -> str:
    """Return the text of a scenario to begin with: there and back, by what loops there are."""
    m = axis.machine
    top = axis.top_speed / RPM
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
        ramp, slow, begins = _ramp_lines(axis, rpm), "0", ""
        if axis.sensor.kind is SensorKind.HALL:  # near standstill they hardly tell the speed
            slow = f"{0.5 * rpm:g} rpm"
            begins = f'[start]\nspeed = "{slow}"\n\n[[points]]\nspeed = "{slow}"\n\n'
        return f"""name = "Up, loaded, down"
control = "speed"
duration = "2 s"

{begins}[[points]]
at = "0.1 s"
speed = "{rpm:g} rpm"
{ramp}

[[points]]
at = "1.4 s"
speed = "{slow}"
{ramp}

[[loads]]
at = "0.8 s"
torque = {0.5 * m.torque_constant * axis.rated:.2g}
"""
    return f"""name = "A push"
control = "current"
duration = "50 ms"

[[points]]
at = "10 ms"
current = "{0.3 * axis.rated:.2g} A peak"

[[points]]
at = "30 ms"
current = "0 A peak"
"""


def _ramp_lines(axis: Axis, otherwise: float) -> str:
    """Return the axis's own ramp as it stands in a scenario, or one of `otherwise` rad/s²."""
    target = axis.loops["position"].target
    ramp = target.ramp if isinstance(target, PositionTarget) else {}
    lines = [f'acceleration = "{ramp.get("acceleration", otherwise):.6g} rad/s2"']
    if ramp.get("jerk_time"):
        lines.append(f'jerk_time = "{1e3 * ramp["jerk_time"]:.6g} ms"')
    return "\n".join(lines)


def scenario_text(now: Snapshot) -> str:
    """Return the scenario of the axis as it was left, or one to begin with."""
    return now.screen.scenario or usual_scenario(now.axis)


def bridge_of(screen: Screen) -> Modulation:
    """Return the bridge that was chosen; averaged where none was, or none that is known."""
    known = {one.value: one for one in Modulation}
    return known.get(screen.bridge, Modulation.AVERAGED)


@lru_cache(maxsize=8)
def fingerprint(axis: Axis, text: str, bridge: Modulation) -> str:
    """Return what tells whether a rehearsal was of this axis, scenario and bridge."""
    return hashlib.sha256(f"{axis!r}\n{bridge}\n{text}".encode()).hexdigest()[:16]


def unseen(now: Snapshot, *, running: bool) -> tuple[str, str]:
    """Return the answer, and what it rests on, while no curves are shown."""
    told = now.screen.rehearsed
    if not running and told.get("line"):
        return (
            f"Simulated at {told.get('time', '')}: {told['line']}",
            "Curves are not kept with the project: simulate again to see them.",
        )
    return (
        "Simulating…" if running else "Not simulated yet",
        "The scenario at the right is played through the loops in use, on the machine as it is "
        "known.",
    )


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    told = now.screen.rehearsed
    line, basis, state = "not simulated yet", "", State.EMPTY
    if all(now.axis.loops[spec.key].gains is None for spec in LOOPS):
        line, basis = "no gains yet", "after the loops"
    elif told:
        line, basis = told.get("line", ""), f"simulated {told.get('time', '')}"
        state = State.VALID
        if told.get("ended") != "done":
            state, basis = State.ATTENTION, "ends early"
        elif told.get("of") != fingerprint(now.axis, scenario_text(now), bridge_of(now.screen)):
            state, basis = State.STALE, "stale: new values"
    return Stage(key="rehearse", name="Rehearse", line=line, basis=basis, measured=False,
                 state=state)  # fmt: skip
