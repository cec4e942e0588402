"""What every experiment tells on the demo's two axes, as plain values to be kept and compared.

`python -m tests.experiments.telling` writes the files of `tests/experiments/told/` anew: to be done
where a number is meant to move, and to be read before it is committed.
"""

import inspect
import json
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import fields, is_dataclass, replace
from enum import Enum
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import numpy as np
from benchmarks.machines import printed_axis, sensed

from oarlock.control.compiled import warm
from oarlock.control.current import CurrentLoop, design_current
from oarlock.control.position import PositionLoop
from oarlock.control.position_design import design_position
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import usual_speed
from oarlock.experiments.common.announce import announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.current_multisine import CurrentMultisine
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.speed_chirp import SpeedChirp
from oarlock.experiments.loops.speed_multisine import SpeedMultisine
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis, SensorKind
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.practice.truth import draw
from oarlock.records import Finding, Record
from oarlock.records.quantity import KEYS
from oarlock.session.perform import perform
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.speed import designed
from oarlock.views.speed_asked import aimed
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch

Plain = dict[str, Any] | list[Any] | str | float | int | bool | None
Made = Callable[[Axis], Experiment]
FOLDER = Path(__file__).parent / "told"
NAMES = ("winch", "thruster")


@cache
def plant_of(name: str) -> PlantParameters:
    """Return one practice drive's hidden parameters."""
    return draw(name, 0)


@cache
def axis_of(name: str) -> Axis:
    """Return an axis with its machine, sensors and all three loops known."""
    if name == "winch":
        axis = sensed(tuned_winch(plant_of(name)), plant_of(name))
    else:
        axis = _measured(name)
        axis = axis.with_gains(design_current(axis).gains)
        axis = axis.with_loop_gains(SPEED, designed(axis, aimed("even"), usual_speed(axis)))
    return axis.with_loop_gains(POSITION, design_position(axis).gains)


@cache
def _sensed(name: str) -> Axis:
    """Return an axis as printed, its sensors known: by the truth, halls as a turn finds them."""
    axis = printed_axis(name)
    if axis.sensor.kind is not SensorKind.HALL:
        return sensed(axis, plant_of(name))
    for made in (CurrentsAtRest(), StandingPulses(), TurnByHand(), ForcedTurn()):
        axis = _adopting(axis, made, name)
    return axis


@cache
def _measured(name: str) -> Axis:
    """Return an axis with what each experiment finds of its machine taken over."""
    axis = _sensed(name)
    for key in KEYS:
        axis = _adopting(axis, experiment_for(key, held=plant_of(name).brake > 0.0), name)
    return axis


def _adopting(axis: Axis, made: Experiment, name: str) -> Axis:
    link = ModelLink(plant_of(name), seed=2)
    done = perform(made, axis, link, lambda _f, _d: None, Hasty())
    assert isinstance(done.reading, Finding), done.run.remark
    if not done.reading.holds:
        return axis
    for path, found in done.reading.estimates.items():
        axis = axis.adopting(path, found)
    return axis


def _ramp(axis: Axis) -> SpeedRamp:
    steep = usual_move(axis).acceleration
    return SpeedRamp(speed=usual_speed(axis), amplitude=0.5 * usual_speed(axis),
                     acceleration=0.6 * steep, jerk_time=0.01)  # fmt: skip


def _move(axis: Axis) -> PositionMove:
    usual = usual_move(axis)
    return PositionMove(distance=usual.distance, speed=usual.speed,
                        acceleration=usual.acceleration, jerk_time=0.02)  # fmt: skip


LOOPS: dict[str, Made] = {
    "step d": lambda axis: usual_current_step(axis, "d"),
    "step q": lambda axis: usual_current_step(axis, "q"),
    "current sweep": lambda axis: CurrentSweep(
        axis_name="d", count=12, bias=0.4 * axis.rated, amplitude=0.08 * axis.rated
    ),
    "current multisine": lambda axis: CurrentMultisine(
        axis_name="q", bias=0.4 * axis.rated, amplitude=0.08 * axis.rated
    ),
    "speed step": lambda axis: SpeedStep(
        speed=usual_speed(axis), amplitude=usual_step(axis, usual_speed(axis))
    ),
    "load step": lambda axis: LoadStep(speed=usual_speed(axis), torque=usual_load(axis)),
    "speed ramp": _ramp,
    "speed sweep": lambda axis: SpeedSweep(
        speed=usual_speed(axis), torque=0.3 * usual_load(axis), count=14
    ),
    "speed chirp": lambda axis: SpeedChirp(
        speed=usual_speed(axis), torque=0.3 * usual_load(axis), seconds=(1.2, 1.2, 1.2)
    ),
    "speed multisine": lambda axis: SpeedMultisine(
        speed=usual_speed(axis), torque=0.3 * usual_load(axis)
    ),
    "position move": _move,
}


def _always(made: Experiment) -> Made:
    return lambda _axis: made


SENSING: dict[str, Made] = {
    made.name: _always(made)
    for made in (CurrentsAtRest(), StandingPulses(), TurnByHand(), ForcedTurn(), BoundedSearch(),
                 FourPushes(), ForcedSpin())
}  # fmt: skip
HELD: dict[str, Made] = {f"{key}, held": _always(experiment_for(key)) for key in KEYS}
FREE: dict[str, Made] = {
    f"{key}, free": _always(experiment_for(key, held=False))
    for key in ("resistance", "inductance_d", "inductance_q")
}
MADE = LOOPS | SENSING | HELD | FREE


def told(name: str, kind: str) -> Plain:
    """Return what an experiment announces, plans, and reads off a drive of known truth."""
    axis = axis_of(name)
    if kind in SENSING:
        axis = printed_axis(name) if kind in _FIRST else _sensed(name)
    if kind in HELD | FREE:
        axis = _sensed(name)
    made, plant = MADE[kind](axis), plant_of(name)
    if kind in FREE:
        plant = replace(plant, brake=0.0)
    attempts: list[str] = []
    done = perform(
        made, axis, ModelLink(plant, seed=1), lambda _f, _d: None, Hasty(),
        lambda other: attempts.append(other.run.remark),
    )  # fmt: skip
    return {
        "announced": announced(made, axis),
        "plan": plain(made.plan(axis)) if kind != BoundedSearch.name else None,
        "attempts": plain(attempts),
        "run": plain(replace(done.run, started="", settings={})),
        "settings": plain(dict(done.run.settings)),
        "reading": plain(done.reading),
        "told": _told(done.reading),
    }


def _told(reading: object) -> Plain:
    """Return what a reading tells beyond its fields."""
    return {
        name: plain(getattr(reading, name))
        for name, kind in inspect.getmembers(type(reading))
        if isinstance(kind, property | cached_property) and not name.startswith("_")
    }


_FIRST = (CurrentsAtRest.name, StandingPulses.name, TurnByHand.name)


def plain(value: Any) -> Plain:
    """Return a value as it is kept: arrays by what sums tell of them, objects by their fields."""
    if isinstance(value, np.ndarray):
        return _of_array(value)
    if isinstance(value, Enum):
        return value.name
    if isinstance(value, bool | str | int) or value is None:
        return value
    if isinstance(value, float | np.floating):
        return float(f"{value:.9g}") if np.isfinite(value) else str(value)
    if isinstance(value, complex):
        return [value.real, value.imag]
    if isinstance(value, Mapping):
        return {str(key): plain(one) for key, one in value.items()}
    if isinstance(value, tuple | list):
        return _of_many(value)
    if is_dataclass(value) and not isinstance(value, _LEFT_OUT):
        return {one.name: plain(getattr(value, one.name)) for one in fields(value)}
    return type(value).__name__


_LEFT_OUT = (Axis, Record, PositionLoop, SpeedLoop, CurrentLoop)


def _of_many(values: Sequence[Any]) -> Plain:
    """Return the items; of many numbers, or of many objects of one kind, what tells the columns."""
    kinds = {type(one) for one in values}
    if len(values) <= _FEW or len(kinds) > 1:
        return [plain(one) for one in values]
    if kinds <= {float, int, bool}:
        return _of_array(np.array(values))
    if is_dataclass(values[0]):
        return {one.name: _of_many([getattr(item, one.name) for item in values])
                for one in fields(values[0])}  # fmt: skip
    kept: list[Plain] = []
    for one in map(plain, values):
        if not kept or one != kept[-1]:
            kept.append(one)
    return kept


_FEW = 6  # items that are kept one by one


def _of_array(x: "np.ndarray[Any, Any]") -> Plain:
    """Return what tells an array: its size, and sums in which each place counts for itself."""
    if x.dtype.kind not in "fiubc":
        return [str(one) for one in x[:3]]
    flat = np.nan_to_num(x.astype(complex).ravel(), nan=1e3, posinf=1e6, neginf=-1e6)
    place = 1.0 + np.arange(flat.size) / max(flat.size, 1)
    sums = [flat.real.sum(), flat.real @ place, flat.imag @ place]
    return {
        "size": float(np.abs(flat).sum()),
        "shape": list(x.shape),
        "sums": list(map(float, sums)),
    }


def path_of(name: str, kind: str) -> Path:
    """Return where it is kept."""
    return FOLDER / f"{name}_{kind.replace(', ', '_').replace(' ', '_')}.json"


def cases() -> list[tuple[str, str]]:
    """Return (axis, experiment) of all that is kept."""
    return [(name, kind) for name in NAMES for kind in MADE if (name, kind) not in _NONE]


# Halls are no place to stand at, and too coarse for a first motion.
_NONE = {("thruster", "position move"), ("thruster", BoundedSearch.name)}


def main() -> None:
    """Write all of them."""
    warm()
    FOLDER.mkdir(exist_ok=True)
    for name, kind in cases():
        begun = time.monotonic()
        text = json.dumps(told(name, kind), indent=0, ensure_ascii=False)
        path_of(name, kind).write_text(text + "\n")
        print(f"{name:10}{kind:24}{time.monotonic() - begun:6.1f} s")  # noqa: T201


if __name__ == "__main__":
    main()
