"""The stages rail: each stage's result, what it rests on, and whether it still holds."""

import math
from dataclasses import dataclass
from enum import StrEnum

from oarlock.control.design import loops_with
from oarlock.control.loop import margins
from oarlock.handover.values import handover_values
from oarlock.identify.readings import PATHS, QUANTITIES
from oarlock.machine import Axis, SensorKind
from oarlock.quantities.display import sentence, whole_degrees
from oarlock.quantities.kinds import RPM
from oarlock.session import sensing_view
from oarlock.session.session import Session


def identified(axis: Axis) -> int:
    """Return how many of the identified quantities are measured and in use."""
    return sum(axis.is_adopted(path) for path in PATHS.values())


class State(StrEnum):
    """How far a stage's result can be believed."""

    VALID = "valid"
    ATTENTION = "attention"
    STALE = "stale"
    EMPTY = "empty"


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """One item of the rail."""

    key: str
    name: str
    line: str
    basis: str
    measured: bool
    state: State


STAGE_KEYS = ("machine", "sensing", "identify", "current", "handover")


def stages(session: Session) -> list[Stage]:
    """Return the rail's items in the order of dependence."""
    axis = session.axis
    return [
        _machine(axis),
        _sensing(session),
        _identify(session),
        _current(session),
        _handover(session),
    ]


def _machine(axis: Axis) -> Stage:
    m = axis.machine
    measured = identified(axis)
    peak, top = sentence(m.peak_current.value, "A"), f"{m.max_speed.value / RPM:.0f} rpm"
    return Stage(
        key="machine",
        name="Machine",
        line=f"{peak}, {top}",
        basis=f"{measured} of {len(QUANTITIES)} measured" if measured else "datasheet values",
        measured=measured > 0,
        state=State.VALID,
    )


def _sensing(session: Session) -> Stage:
    made = sensing_view.steps(session, announced=False)
    axis = session.axis
    needed = [made[kind] for kind in sensing_view.needed_for(axis)]
    failed = next((s for s in made.values() if s.finding and not s.finding.holds), None)
    done = [step for step in needed if step.holds]
    newest = max((s.run.started for s in made.values() if s.run), default="")
    line = f"{len(done)} of {len(needed)} steps hold"
    basis, state = "nothing measured", State.EMPTY
    if len(done) == len(needed):
        state, basis = State.VALID, f"measured {newest[11:16]}"
        line = "table found" if axis.sensor.kind is SensorKind.HALL else "currents are right"
        if axis.sensor.kind in (SensorKind.RESOLVER, SensorKind.ENCODER):
            line = f"zero {math.degrees(axis.sensor.zero.value) % 360.0:.1f}°"
    elif any(step.stale for step in needed):
        state, basis = State.STALE, "stale: settings changed"
    elif newest:
        state, basis = State.EMPTY, f"begun {newest[11:16]}"
    if failed and failed.finding:
        state, basis = State.ATTENTION, failed.finding.failed[0].name
    return Stage(
        key="sensing",
        name="Sensing",
        line=line,
        basis=basis,
        measured=bool(newest),
        state=state,
    )


def _identify(session: Session) -> Stage:
    axis = session.axis
    adopted = identified(axis)
    found = [session.finding(quantity) for quantity in QUANTITIES]
    failed = sum(1 for item in found if item and not item[1].holds)
    newest = next((item[0] for item in reversed(found) if item), None)
    state = State.VALID if adopted == len(QUANTITIES) else State.EMPTY
    basis = f"measured {newest.started[11:16]}" if newest else "nothing measured"
    if failed:
        state, basis = State.ATTENTION, f"{failed} check{'s' * (failed > 1)} failed"
    elif newest and state is State.EMPTY:
        state = State.STALE
    sensed = (sensing_view.is_stale(i[0], axis, sensing_view.KEEPS_IDENTIFIED) for i in found if i)
    if any(sensed) and not failed:
        state, basis = State.STALE, "stale: sensing changed"
    if not newest and not adopted and not axis.sensor.is_found:
        basis = "waits for Sensing"
    return Stage(
        key="identify",
        name="Identify",
        line=f"{adopted} of {len(QUANTITIES)} adopted",
        basis=basis,
        measured=newest is not None,
        state=state,
    )


def _current(session: Session) -> Stage:
    axis = session.axis
    if axis.gains is None:
        return Stage(
            key="current",
            name="Current loop",
            line="no gains yet",
            basis="datasheet values",
            measured=False,
            state=State.EMPTY,
        )
    found = margins(loops_with(axis, axis.gains)[1])
    stable = found.stable and margins(loops_with(axis, axis.gains)[0]).stable
    hertz, left = found.crossover / math.tau, whole_degrees(math.degrees(found.phase_margin))
    shown = f"{hertz:.0f} Hz" if hertz < 999.5 else f"{hertz / 1e3:.3g} kHz"
    line = f"{shown}, {left}° margin"
    proofs = [p for p in (session.verification("q"), session.verification("d")) if p]
    if not proofs:
        old = session.latest("current step")
        state = State.STALE if old else State.EMPTY
        basis = "stale: gains changed" if old else "not verified"
    elif not all(step.agrees for _, step in proofs):
        state, basis = State.ATTENTION, "step differs from plan"
    elif _plant_moved(session):
        state, basis = State.STALE, "stale: machine changed"
    else:
        state, basis = State.VALID, f"verified {proofs[0][0].started[11:16]}"
    if not stable:
        state, basis = State.ATTENTION, "q unstable" if not found.stable else "d unstable"
    return Stage(
        key="current",
        name="Current loop",
        line=line,
        basis=basis,
        measured=state is State.VALID,
        state=state,
    )


def _plant_moved(session: Session) -> bool:
    found = session.verification("q") or session.verification("d")
    if not found:
        return False
    plant, m = found[0].settings.get("plant", {}), session.axis.machine
    now = {"R": m.R.value, "Ld": m.Ld.value, "Lq": m.Lq.value}
    return any(abs(plant.get(key, value) - value) > 1e-9 * value for key, value in now.items())


def _handover(session: Session) -> Stage:
    written = session.view.get("handover_written")
    gains = session.axis.gains
    if gains is None:
        line, basis, state = "no gains yet", "", State.EMPTY
    elif not written:
        line, basis, state = "nothing written", "", State.EMPTY
    else:
        line = f"{written.get('file', '')}"
        moved = [v.key for v in handover_values(session.axis) if written.get(v.key) != v.value]
        gain = any(key.startswith("current.K") for key in moved)
        why = "stale: gains changed" if gain else "stale: values changed"
        basis = why if moved else f"written {written.get('time', '')}"
        state = State.STALE if moved else State.VALID
    return Stage(
        key="handover", name="Handover", line=line, basis=basis, measured=False, state=state
    )
