"""What the Sensing stage shows: the steps in their order, what each waits for, and the answer.

The order is the safety: nothing turns before the currents are sound, and no loop closes on an
angle before its direction and zero are.
"""

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass

from oarlock.experiments.common.angles import wrap
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.sensing.evidence import TurnError
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate
from oarlock.records import Finding, Run
from oarlock.records.settings import number, table
from oarlock.views.said import said
from oarlock.views.sensing_experiments import (
    HAND,
    PULSES,
    PUSH,
    REST,
    SEARCH,
    SPIN,
    START,
    TURN,
    SensorExperiment,
    bare,
    breakaway,
    is_stale,
    known_starts,
    made_for,
    movement_of,
    start_is_known,
    start_key,
)
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import BEING_READ, READING, Stage, State

_RESTS_ON: Mapping[str, tuple[str, ...]] = {
    REST: (), PULSES: (REST,), HAND: (REST,), TURN: (REST, PULSES, HAND),
    SEARCH: (REST, PULSES, HAND), PUSH: (REST, PULSES, HAND, TURN), SPIN: (REST, PULSES, HAND),
    START: (REST, PULSES, SPIN),
}  # fmt: skip
# What must not have changed since a step was done: names of the snapshot, and by how much.
_ANGLE = {"kind": 0.0, "pairs": 0.0, "counts": 0.0, "pole_pairs": 0.0}
_FIT = {"sine_ratio": 0.002, "skew": 0.003, "sine_offset": 0.003, "cosine_offset": 0.003}
_SENSE = {"offset_a": 3.0, "offset_b": 3.0, "offset_c": 3.0, "full_scale": 0.0, "unsensed": 0.0}
_ZERO = {"side": 0.0, "zero": 0.012, **{f"hall_{n}": 0.03 for n in range(8)}}
_KEEPS: Mapping[str, Mapping[str, float]] = {
    REST: {"full_scale": 0.0, "unsensed": 0.0}, PULSES: _SENSE, HAND: _ANGLE,
    TURN: {**_SENSE, **_ANGLE, **_FIT}, SEARCH: {**_SENSE, **_ANGLE, **_FIT},
    PUSH: {**_SENSE, **_ANGLE, **_FIT, **_ZERO}, SPIN: {"pole_pairs": 0.0},
    START: {"pole_pairs": 0.0},
}  # fmt: skip
TITLES = {
    REST: "Currents at rest", PULSES: "Phases in order", HAND: "Turned by hand",
    TURN: "One turn each way, forced", SEARCH: "If it may hardly move",
    PUSH: "The zero, proven", SPIN: "First forced spin", START: "Without a sensor",
}  # fmt: skip
_NUMBERS = {REST: "1", PULSES: "2", HAND: "3", TURN: "4", PUSH: "5"}
_RANK = {TURN: 3, SEARCH: 2, PULSES: 1}  # of the zero's sources


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SensingStep:
    """One step: what came of it, and whether it may be done."""

    kind: str
    title: str
    run: Run | None
    finding: Finding | None
    stale: bool
    waits_for: str  # the title of what must hold first; empty: it may be done
    movement: Movement | None
    announced: str  # what it will move, in the units that were chosen
    trouble: str  # why it cannot be planned
    details: tuple[str, ...] = ()  # the settings that it would be done with

    @property
    def holds(self) -> bool:
        """Whether it was done, held, and still does."""
        return self.finding is not None and self.finding.holds and not self.stale


@dataclass(frozen=True, slots=True, kw_only=True)
class ZeroSource:
    """One way by which the electrical zero was found; rad, electrical."""

    name: str
    value: float | None
    plus: float  # two standard uncertainties
    in_use: bool


def kinds_for(axis: Axis) -> tuple[str, ...]:
    """Return the steps that make sense with the axis's sensor, in their order."""
    if axis.sensor.kind is SensorKind.NONE:
        return (REST, PULSES, SPIN, START)
    if axis.sensor.kind is SensorKind.HALL:
        return (REST, PULSES, HAND, TURN, PUSH, SPIN, START)
    return (REST, PULSES, HAND, TURN, PUSH, SEARCH, SPIN, START)


def needed_for(axis: Axis) -> tuple[str, ...]:
    """Return the steps without which sensing is not done."""
    if axis.sensor.kind is SensorKind.NONE:
        return (REST, PULSES, SPIN)
    return (REST, PULSES, HAND, TURN, PUSH)


def experiment_of(kind: str, now: Snapshot) -> SensorExperiment:
    """Return the experiment of a step, sized by what is known.

    Raises
    ------
    InputError : something that sizes it is not known

    """
    return made_for(kind, bare(now.axis), breakaway(now))


KEEPS_IDENTIFIED = {**_SENSE, **_ANGLE, **_ZERO}


def _done(now: Snapshot, kind: str) -> tuple[Run | None, Finding | None, bool]:
    found = now.finding(kind)
    run, finding = found if found else (now.latest(kind), None)
    stale = run is not None and is_stale(run, now.axis, _after(kind, finding))
    return run, finding, stale


def _after(kind: str, finding: Finding | None) -> Mapping[str, float]:
    """Return what must have stayed, less what the run itself changed by being adopted."""
    keeps = dict(_KEEPS[kind])
    for path in finding.estimates if finding else ():
        keeps.pop(path.split(".")[1], None)
    return keeps


def steps(now: Snapshot, *, announced: bool = True) -> dict[str, SensingStep]:
    """Return all steps that make sense for the axis, by kind, in their order.

    Parameters
    ----------
    announced : tell what each would move as well

    """
    kinds = kinds_for(now.axis)
    done = {kind: _done(now, kind) for kind in (*kinds, TURN, SEARCH)}
    holds = {
        kind: finding is not None and finding.holds and not stale
        for kind, (_, finding, stale) in done.items()
    }
    holds[TURN] = now.axis.sensor.is_found and (
        holds[TURN] or holds.get(SEARCH, False) or _typed_zero(now.axis)
    )
    made = {}
    for kind in kinds:
        run, finding, stale = done[kind]
        wanted = [k for k in _RESTS_ON[kind] if k in kinds]
        missing = [k for k in wanted if not holds[k]]
        movement, trouble = None, ""
        if announced and kind == START and not start_is_known(now):
            trouble = "Its settings are being worked out"
        elif announced:
            movement, trouble = movement_of(kind, bare(now.axis), breakaway(now))
        made[kind] = SensingStep(
            kind=kind,
            title=f"{_NUMBERS.get(kind, '')} {_title(kind, now.axis)}".strip(),
            run=run,
            finding=finding,
            stale=stale,
            waits_for=_title(missing[0], now.axis) if missing else "",
            movement=movement,
            announced=said(movement.sentence, now.axis, now.screen) if movement else "",
            trouble=trouble,
            details=known_starts.get(start_key(now), ()) if kind == START else (),
        )
    return made


def _typed_zero(axis: Axis) -> bool:
    return axis.sensor.zero.adopted is None and axis.sensor.is_found


def _title(kind: str, axis: Axis) -> str:
    if kind == HAND:
        return {
            SensorKind.RESOLVER: "Sine and cosine",
            SensorKind.ENCODER: "Counts and index",
            SensorKind.HALL: "Hall states",
        }.get(axis.sensor.kind, TITLES[kind])
    return TITLES[kind]


def may_adopt(now: Snapshot, run: Run, finding: Finding) -> bool:
    """Return whether a finding that holds should be taken into use at once.

    A zero from a weaker method never replaces one from a stronger.
    """
    if not finding.holds or not finding.estimates:
        return False
    if run.kind not in _RANK or "sensor.zero" not in finding.estimates:
        return True
    source = zero_source(now)
    return source is None or _RANK[run.kind] >= _RANK.get(source.kind, 0)


def zero_source(now: Snapshot) -> Run | None:
    """Return the run that the zero in use came from."""
    adopted = now.axis.sensor.zero.adopted
    if adopted is None or not adopted.source.startswith("run "):
        return None
    number = adopted.source.removeprefix("run ").split(",")[0]
    return now.run(int(number)) if number.isdigit() else None


def zero_sources(now: Snapshot) -> list[ZeroSource]:
    """Return the zero by every method that gave one, and whether they agree."""
    axis, used = now.axis, zero_source(now)
    found = []
    for kind, name in ((TURN, "forced turn"), (PULSES, "pulses"), (SEARCH, "search")):
        if kind not in kinds_for(axis) or axis.sensor.kind is SensorKind.HALL:
            continue
        estimate = _zero_of(now, kind)
        run = now.latest(kind)
        found.append(
            ZeroSource(
                name=name,
                value=estimate.value if estimate else None,
                plus=2.0 * (estimate.std or 0.0) if estimate else 0.0,
                in_use=bool(used and run and used.id == run.id),
            )
        )
    pushes = now.finding(PUSH)
    if pushes and "astray" in pushes[1].extra and axis.sensor.kind is not SensorKind.HALL:
        run, finding = pushes
        then = number(table(run.settings, "sensing"), "zero", axis.sensor.zero.value)
        value = wrap(then - finding.extra["astray"].value)
        found.append(ZeroSource(name="pushes", value=value,
                                plus=finding.extra["hidden"].value, in_use=False))  # fmt: skip
    return found


def _zero_of(now: Snapshot, kind: str) -> Estimate | None:
    found = now.finding(kind)
    if found is None or not found[1].holds:
        return None
    run, finding = found
    if is_stale(run, now.axis, {**_FIT, **_ANGLE}):
        return None  # it was read off the sensor as it was before its correction
    return finding.estimates.get("sensor.zero") or finding.extra.get("sensor.zero")


def disagreement(sources: list[ZeroSource]) -> float | None:
    """Return by how much the two farthest methods differ beyond their ±, rad; None: agree."""
    known = [s for s in sources if s.value is not None]
    worst = None
    for i, one in enumerate(known):
        for other in known[i + 1 :]:
            apart = abs(wrap((one.value or 0.0) - (other.value or 0.0)))
            if apart > one.plus + other.plus + math.radians(1.0):
                worst = max(worst or 0.0, apart)
    return worst


def answer(now: Snapshot, made: dict[str, SensingStep]) -> tuple[str, str]:
    """Return the stage's answer and what it rests on."""
    axis = now.axis
    failed = [s for s in made.values() if s.finding and not s.finding.holds]
    needed = [made[kind] for kind in needed_for(axis)]
    if failed and failed[0].finding:
        check = failed[0].finding.failed[0]
        rest = "Nothing turns until it does." if failed[0].kind in (REST, PULSES, HAND) else ""
        return f"Not yet: {_short(check.sentence)}", f"{check.sentence}. {rest}".strip()
    stale = next((s for s in needed if s.stale), None)
    if stale:
        return f"Not any more: {stale.title} is stale", "What it was found under has changed."
    left = [s for s in needed if not s.holds]
    if now.is_unread(*[step.kind for step in left]):
        return READING
    if left:
        count = f"{len(needed) - len(left)} of {len(needed)} steps hold"
        started = len(left) < len(needed)
        head = f"Not yet: {count}" if started else "Nothing is known of the sensors yet"
        return head, f"Next: {left[0].title}."
    apart = disagreement(zero_sources(now))
    if apart:
        return (
            f"Not sure: methods differ by {math.degrees(apart):.1f}°",
            "Repeat the forced turn, or the pulses after the sensor was corrected.",
        )
    return _proven(now, made)


def _short(sentence: str) -> str:
    """Return what a check says first, to go on with in the middle of a sentence."""
    first = re.split(r"[;:(]", sentence)[0].strip()
    return first[:1].lower() + first[1:]


def _proven(now: Snapshot, made: dict[str, SensingStep]) -> tuple[str, str]:
    axis = now.axis
    if axis.sensor.kind is SensorKind.NONE:
        spin = made[SPIN].finding
        down = f"down to {spin.extra['least current'].value:.2g} A" if spin else ""
        return f"Yes: the currents are right, and it turns {down}", "There is no angle to trust."
    turn = made[TURN].finding
    way = "forward is forward"
    if axis.sensor.kind is SensorKind.HALL and turn:
        left = math.degrees(turn.extra["left error"].value)
        even = math.degrees(turn.extra["even error"].value)
        plus = 2.0 * math.degrees(axis.sensor.zero.std)
        return (
            f"Yes: the hall edges are known to ±{plus:.0f}°; {way}",
            f"Pole pairs differ by up to {left:.1f}°; even steps would add {even:.1f}°. "
            "Cogging may shift all edges alike. Degrees are electrical.",
        )
    zero, std = math.degrees(axis.sensor.zero.value) % 360.0, math.degrees(axis.sensor.zero.std)
    reason = "Degrees are electrical."
    if turn and "friction" in turn.extra:
        apart = math.degrees(turn.extra["friction"].value)
        reason = (
            f"Friction holds the rotor back by {apart:.1f}° each way; the mean of both is free of "
            f"it. {reason}"
        )
    left = 2.0 * std + _sensor_error(turn, made[HAND].finding)
    return f"Yes: the angle is right to {left:.1f}°, zero at {zero:.1f}°; {way}", reason


def _sensor_error(turn: Finding | None, hand: Finding | None) -> float:
    """Return what the sensor's own orders add up to over the turn, degrees electrical."""
    if turn is None or not isinstance(turn.evidence, TurnError):
        return 0.0
    rounds = round(hand.extra["rounds"].value) if hand and "rounds" in hand.extra else 1
    own = {1, rounds, 2 * rounds}
    return math.degrees(sum(float(turn.evidence.orders[n - 1]) for n in own if n))


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    made = steps(now, announced=False)
    axis = now.axis
    needed = [made[kind] for kind in needed_for(axis)]
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
        state, basis = State.STALE, "stale: new settings"
    elif now.is_unread(*[step.kind for step in needed if not step.holds]):
        line, basis = "measured before", BEING_READ
    elif newest:
        state, basis = State.EMPTY, f"begun {newest[11:16]}"
    if failed and failed.finding:
        state, basis = State.ATTENTION, failed.finding.failed[0].code
    return Stage(
        key="sensing",
        name="Sensing",
        line=line,
        basis=basis,
        measured=bool(newest),
        state=state,
    )
