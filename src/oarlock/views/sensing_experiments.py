"""The experiments of Sensing as the stage plays them: made, announced, and when they are stale."""

import contextlib
import math
from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.kinds import snapshot
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import (
    StartSettings,
    StartWithoutSensor,
    propose,
    simulated_error,
)
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.machine.loop import Loops
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Run
from oarlock.views.snapshot import Snapshot

SensorExperiment = (
    CurrentsAtRest | StandingPulses | TurnByHand | ForcedTurn | BoundedSearch | FourPushes
    | ForcedSpin | StartWithoutSensor
)  # fmt: skip


REST, PULSES, HAND, TURN, SEARCH, PUSH, SPIN, START = (
    CurrentsAtRest.name, StandingPulses.name, TurnByHand.name, ForcedTurn.name,
    BoundedSearch.name, FourPushes.name, ForcedSpin.name, StartWithoutSensor.name,
)  # fmt: skip


def start_key(now: Snapshot) -> tuple[Axis, float]:
    """Return what the settings for running without a sensor follow from."""
    return bare(now.axis), breakaway(now)


known_starts: dict[tuple[Axis, float], tuple[str, ...]] = {}  # each with its settings in words


def start_is_known(now: Snapshot) -> bool:
    """Return whether these settings were worked out already."""
    return start_key(now) in known_starts


def work_out_start(key: tuple[Axis, float]) -> None:
    """Work out settings for running without a sensor, which simulates: work for a job."""
    told: tuple[str, ...] = ()
    with contextlib.suppress(InputError):  # told where it is announced
        made = made_for(START, *key)
        told = _start_in_words(key[0], made.start) if isinstance(made, StartWithoutSensor) else ()
    known_starts[key] = told


def _start_in_words(axis: Axis, start: StartSettings) -> tuple[str, ...]:
    """Return the settings, and what the observer is wrong by at several speeds."""
    rpm = 1.0 / axis.machine.pole_pairs.value / RPM
    shares = (start.hand_back / start.hand_over, 1.0)
    errors = simulated_error(axis, start, np.array(shares) * start.hand_over)
    over, back = start.hand_over * rpm, start.hand_back * rpm
    wrong = ", ".join(
        f"{math.degrees(e):.0f}° at {s * over:.0f} rpm" for s, e in zip(shares, errors, strict=True)
    )
    return (
        f"{digits(start.current, 2)} A, up in {start.ramp:.1f} s",
        f"over at {over:.0f} rpm, back at {back:.0f} rpm",
        f"dwell {start.dwell:.1f} s, observer {start.bandwidth / math.tau:.0f} Hz",
        f"simulated error {wrong}",
    )


def bare(axis: Axis) -> Axis:
    """Return the axis without what its loops ask for: no step here depends on it."""
    return replace(axis, loops=Loops())


@lru_cache(maxsize=64)
def made_for(kind: str, axis: Axis, torque: float) -> SensorExperiment:
    """Return the experiment of a step for an axis and the breakaway torque (N·m) found so far."""
    if kind == PUSH:
        return FourPushes(friction=torque)
    if kind == START:
        return StartWithoutSensor(start=propose(axis, breakaway=torque))
    plain: dict[str, type[Any]] = {
        REST: CurrentsAtRest, PULSES: StandingPulses, HAND: TurnByHand, TURN: ForcedTurn,
        SEARCH: BoundedSearch, SPIN: ForcedSpin,
    }  # fmt: skip
    made: SensorExperiment = plain[kind]()
    return made


def breakaway(now: Snapshot) -> float:
    """Return the torque (N·m) at which the shaft breaks away, as found; 0 where it was not."""
    for kind in (TURN, SEARCH):
        found = now.finding(kind)
        if found and "breakaway" in found[1].extra:
            return found[1].extra["breakaway"].value
    return 0.0


def is_stale(run: Run, axis: Axis, keeps: Mapping[str, float]) -> bool:
    """Return whether what a run was taken under has changed since."""
    then, now = run.settings.get("sensing"), snapshot(axis)
    if not isinstance(then, dict):
        return False  # of a time when nothing was kept of the sensors
    count = axis.inverter.current_count
    for name, play in keeps.items():
        old, new = then.get(name), now[name]
        if isinstance(new, str) or not isinstance(old, int | float):
            if old != new:
                return True
            continue
        if name in ("pairs", "pole_pairs") and 0.0 in (old, new):
            continue  # nobody had said so: it did not rest on it
        allowed = play * count if name.startswith("offset_") else play
        off = wrap(old - new) if name == "zero" or name.startswith("hall_") else old - new
        if abs(off) > allowed + 1e-9:
            return True
    return False


@lru_cache(maxsize=64)
def movement_of(kind: str, axis: Axis, torque: float) -> tuple[Movement | None, str]:
    """Return what a step would move, or why it cannot be planned."""
    try:
        return made_for(kind, axis, torque).movement(axis), ""
    except InputError as error:
        return None, f"{error.cause}. {error.remedy}"
