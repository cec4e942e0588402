"""What the Machine stage shows while not all of the machine is known: what comes first, and why."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment, Moving
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.machine import Axis
from oarlock.machine.unknown import NEEDED, in_words, listed, missing
from oarlock.quantities.display import digits
from oarlock.records.quantity import BY_KEY
from oarlock.views.sensing import experiment_of, needed_for, steps
from oarlock.views.sensing_experiments import HAND, PULSES, PUSH, REST, SPIN, TURN
from oarlock.views.snapshot import Snapshot

# Which measurement finds a value, where its field is empty.
FINDS = {
    "machine.pole_pairs": "one forced turn",
    "machine.R": "direct current",
    "machine.Ld": "sine along d",
    "machine.Lq": "sine along q",
    "machine.psi": "spin both ways",
    "machine.inertia": "speed ramps",
    "sensor.side": "one forced turn",
    "sensor.zero": "one forced turn",
    "sensor.pairs": "a turn by hand",
}
TOLD = (
    "inverter.bus_voltage", "inverter.control_frequency", "inverter.pwm_frequency",
    "inverter.current_full_scale",
)  # fmt: skip
_FINDINGS = {
    REST: "offset and noise of each current",
    PULSES: "order of phases, R and L roughly",
    HAND: "whether the sensor counts",
    TURN: "direction, pole pairs, zero",
    PUSH: "the zero proven, inertia roughly",
    SPIN: "whether it turns, and with how much",
    "resistance": "R with cable, dead time",
    "inductance_d": "Ld, and how iron saturates",
    "inductance_q": "Lq, and how iron saturates",
    "flux": "magnet flux",
    "inertia": "inertia and friction",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Coming:
    """One measurement that comes: what is asked, what it finds, how far it moves."""

    what: str
    finds: str
    moves: str
    current: str
    seconds: str
    done: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Begun:
    """What is known so far, and what comes."""

    answer: str
    reasons: tuple[str, ...]
    coming: tuple[Coming, ...]
    waits: str  # why the first one cannot be played yet; empty: it can


def hint_of(axis: Axis, path: str) -> str:
    """Return what an empty field says of itself."""
    if path in FINDS:
        return FINDS[path]
    if path in TOLD and path in NEEDED:
        return "the drive tells it"
    return "needed first" if path in missing(axis) else "not known"


def begun(now: Snapshot, *, connected: bool) -> Begun:
    """Return what the stage shows before there is an operating map.

    Parameters
    ----------
    connected : whether a drive answers

    """
    axis = now.axis
    left = missing(axis)
    typed = [path for path in left if path not in TOLD]
    told = [path for path in left if path in TOLD]
    answer, reasons = _said(typed, told, connected=connected)
    waits = f"waits for {in_words(left[0])}" if left else "" if connected else "waits for a drive"
    return Begun(answer=answer, reasons=reasons, coming=_coming(now, able=not left), waits=waits)


def _said(typed: list[str], told: list[str], *, connected: bool) -> tuple[str, tuple[str, ...]]:
    if typed:
        count = {1: "one number", 2: "two numbers", 3: "three numbers"}[len(typed)]
        named = listed([in_words(path) for path in typed])
        verb = "is" if len(typed) == 1 else "are"
        more = "A drive tells bus voltage and clock itself." if told else ""
        return (
            f"Unknown yet: {count} to the first measurement",
            (f"{named[:1].upper()}{named[1:]} {verb} needed. All else is measured, or entered as "
             "printed.", more),
        )  # fmt: skip
    if told:
        named = listed([in_words(path) for path in told])
        return (
            "Connect the drive: it tells the rest",
            (f"Still missing: {named}. They can be entered as well.",),
        )
    if not connected:
        return "Connect the drive: it can be measured", ("Then Sensing comes first.",)
    return "It can be measured now", ("Sensing comes first, then Identify. Ctrl+2 goes there.",)


def _coming(now: Snapshot, *, able: bool) -> tuple[Coming, ...]:
    made = steps(now, announced=False)
    rows = []
    for kind in (REST, HAND, PULSES, TURN, PUSH, SPIN):
        if kind in needed_for(now.axis):
            played = _made(partial(experiment_of, kind, now)) if able else None
            title = made[kind].title.lstrip("12345 ")
            rows.append(_row(title, _FINDINGS[kind], played, now.axis, done=made[kind].holds))
    for key in ("resistance", "inductance_d", "inductance_q", "flux", "inertia"):
        played = _made(partial(experiment_for, key, held=False)) if able else None
        name = BY_KEY[key].name
        rows.append(_row(f"{name[:1].upper()}{name[1:]}", _FINDINGS[key], played, now.axis,
                         done=now.axis.is_adopted(BY_KEY[key].path)))  # fmt: skip
    return tuple(rows)


def _made(make: Callable[[], Experiment]) -> Experiment | None:
    try:
        return make()
    except InputError:
        return None


def _row(what: str, finds: str, played: Experiment | None, axis: Axis, *, done: bool) -> Coming:
    moves = current = seconds = "–"
    try:
        if played is not None:
            plan = played.plan(axis)
            told = played.movement(axis) if isinstance(played, Moving) else None
            amperes = told.current if told else plan.largest_current
            current = f"{digits(amperes, 2)} A" if amperes else "0 A"
            seconds = f"{digits(told.seconds if told else plan.duration, 2)} s"
            moves = "may stir" if told is None else told.what or "nothing turns"
    except InputError:
        pass  # what sizes it is measured before: nothing is said of it yet
    return Coming(what=what, finds=finds, moves=moves, current=current, seconds=seconds, done=done)
