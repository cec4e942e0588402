"""What every experiment tells on the demo's two axes, as plain values to be kept and compared.

`make told` writes the files of `tests/experiments/told/` anew: to be done
where a number is meant to move, and to be read before it is committed.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cache, partial
from pathlib import Path
from typing import Any

from benchmarks.foreign import BAD, GOOD, Outcome, outcomes
from benchmarks.machines import printed_axis, sensed

from oarlock.control.compiled import warm
from oarlock.control.current import design_current
from oarlock.control.position_design import design_position
from oarlock.control.speed_design import usual_speed
from oarlock.experiments.common.announce import announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.current_multisine import CurrentMultisine
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.repeating import Repeatable
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
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis, SensorKind
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.practice.truth import draw
from oarlock.records import Finding
from oarlock.records.quantity import KEYS
from oarlock.session.perform import Performed, perform
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.speed import designed
from oarlock.views.speed_asked import aimed
from tests.kept import Plain, assert_stays, can_compare, keep, plain, told_by
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import tuned_winch

Made = Callable[[Axis], Experiment]
FOLDER = Path(__file__).parent / "told"
NAMES = ("winch", "thruster")
GOOD_ONES = tuple((case, which) for case in GOOD for which in (0, 2))  # recordings, machines
BAD_ONES = tuple((case, 2 * (n % 2)) for n, case in enumerate(BAD))


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
SENSING[StartWithoutSensor.name] = lambda axis: StartWithoutSensor(
    start=propose(axis, breakaway=0.05)
)
MADE = LOOPS | SENSING | HELD | FREE

# Drives and machines with something about them: (axis, experiment, what is different).
ODD: dict[str, tuple[str, str, dict[str, Any]]] = {
    "an offset at its end": ("winch", CurrentsAtRest.name, {"offsets": (41.0, 0.0, 0.0)}),
    "a brake that has let go": ("winch", CurrentsAtRest.name, {"brake": 0.0, "load": 2.0}),
    "noisy currents": ("winch", CurrentsAtRest.name, {"noise": 0.4}),
    "sensors exchanged": ("winch", StandingPulses.name, {"sense": (1, 0, 2)}),
    "an open phase": ("thruster", StandingPulses.name, {"open_phase": 1}),
    "a gain that differs": ("winch", StandingPulses.name, {"gains": (1.0, 0.69, 1.0)}),
    "a sensor the other way round": ("winch", StandingPulses.name, {"gains": (1.0, -1.0, 1.0)}),
    "no cosine": ("winch", TurnByHand.name, {"cosine_gain": 0.0}),
    "a converter at its end": ("winch", TurnByHand.name, {"sine_gain": 1.2, "cosine_gain": 1.2}),
    "a hall that sticks": ("thruster", TurnByHand.name, {"hall_stuck": 1}),
    "halls that touch": ("thruster", TurnByHand.name, {"hall_short": True}),
    "halls at 60°": ("thruster", ForcedTurn.name, {"hall_step": math.pi / 3.0}),
    "leads exchanged": ("winch", ForcedTurn.name, {"wires": (1, 0, 2)}),
    "a heavy load": ("winch", ForcedTurn.name, {"load": 4.0}),
    "friction": ("winch", ForcedTurn.name, {"coulomb": 0.6}),
    "a brake that sticks": ("winch", ForcedTurn.name, {"brake_stuck": True}),
    "friction one way": ("winch", BoundedSearch.name, {"coulomb_back": 0.5}),
    "a load that pulls": ("winch", BoundedSearch.name, {"load": 1.1}),
    "a push against a load": ("winch", FourPushes.name, {"load": 1.1}),
    "a push of a light shaft": ("winch", FourPushes.name, {"inertia": 1e-3}),
    "a push against friction": ("winch", FourPushes.name, {"coulomb": 0.8}),
    "a spin against a load": ("winch", ForcedSpin.name, {"load": 2.0}),
    "a winding that warms": ("winch", "resistance, held", {"heating": 2.0, "cooling": 0.02}),
    "a resistance that is twice": ("winch", "resistance, held", {"R": 1.7}),
    "a dead time that is thrice": ("winch", "resistance, held", {"dead_voltage": 6.0}),
    "saturation along d": ("winch", "inductance_d, held", {"Ld_bend": 0.5, "i_bend": 4.0}),
    "a rotor that is free": ("winch", "inductance_q, held", {"brake": 0.0}),
    "iron loss": ("winch", "inductance_q, held", {"iron": 2e-3}),
    "a flux that is half": ("winch", "flux, held", {"psi": 0.17}),
    "a bus that sags": ("winch", "flux, held", {"sag_at": 2.0, "sag_to": 120.0}),
    "a bridge that is late": ("winch", "flux, held", {"output_late": 0.5}),
    "an inertia ten times": ("winch", "inertia, held", {"inertia": 0.05}),
    "friction and a load": ("winch", "inertia, held", {"coulomb": 0.8, "load": 0.8}),
    "a square load": ("thruster", "inertia, held", {"load_square": 2e-5}),
    "play in the shaft": ("winch", "resonance, held", {"backlash": 0.01}),
    "a damped shaft": ("winch", "resonance, held", {"shaft_damping": 0.4}),
    "a step at another inductance": ("winch", "step q", {"Lq": 9e-3}),
    "a sweep at another resistance": ("winch", "current sweep", {"R": 1.7, "Ld": 5e-3}),
    "a step of another inertia": ("winch", "speed step", {"inertia": 0.012}),
    "a load step of another inertia": ("winch", "load step", {"load_inertia": 0.02}),
    "a ramp against friction": ("winch", "speed ramp", {"coulomb": 1.0, "stribeck": 0.4}),
    "a sweep of a noisy sensor": ("winch", "speed sweep", {"sensor_noise": 5e-3}),
    "a sweep of another shaft": ("winch", "speed sweep", {"stiffness": 150.0}),
    "a chirp against play": ("winch", "speed chirp", {"backlash": 0.01}),
    "a multisine against friction": ("winch", "speed multisine", {"coulomb": 0.8}),
    "a move that sticks": ("winch", "position move", {"coulomb": 0.8, "stiction": 1.6}),
    "a move against a load": ("winch", "position move", {"load": 1.0}),
}


def told(name: str, kind: str) -> Plain:
    """Return what an experiment announces, plans, and reads off a drive of known truth."""
    made, axis = _made(name, kind)
    plant = replace(plant_of(name), brake=0.0) if kind in FREE else plant_of(name)
    return {
        "announced": announced(made, axis),
        "plan": plain(made.plan(axis)) if kind != BoundedSearch.name else None,
        "over and over": _over_and_over(made, axis),
        **_performed(made, axis, plant),
    }


def _over_and_over(made: Experiment, axis: Axis) -> Plain:
    """Return how an experiment is repeated, and the plan with other gains; None: it cannot be."""
    if not isinstance(made, Repeatable):
        return None
    again = made.repeating(axis)
    slower = replace(axis.gains, Kp_q=0.8 * axis.gains.Kp_q) if axis.gains else None
    other = again.with_gains_of(again.plan, axis.with_gains(slower) if slower else axis)
    return {"how": plain(again), "with other gains": plain(other),
            "began": again.began(3), "answered": again.answered(5 * again.rows + 1)}  # fmt: skip


def told_of_odd(case: str) -> Plain:
    """Return what an experiment reads where a drive or a machine is not as it should be."""
    name, kind, changes = ODD[case]
    return _performed(*_made(name, kind), replace(plant_of(name), **changes))


def told_of_foreign(outcome: Outcome) -> Plain:
    """Return what is read off a recording that another bench might have made."""
    return _of(outcome.done) if outcome.done else {"refused": outcome.why}


def _made(name: str, kind: str) -> tuple[Experiment, Axis]:
    """Return an experiment, and the axis that it is played on."""
    axis = axis_of(name)
    if kind in SENSING:
        axis = printed_axis(name) if kind in _FIRST else _sensed(name)
    if kind in HELD | FREE:
        axis = _sensed(name)
    return MADE[kind](axis), axis


def _performed(made: Experiment, axis: Axis, plant: PlantParameters) -> dict[str, Plain]:
    attempts: list[str] = []
    done = perform(
        made, axis, ModelLink(plant, seed=1), lambda _f, _d: None, Hasty(),
        lambda other: attempts.append(other.run.remark),
    )  # fmt: skip
    return {"attempts": plain(attempts), **_of(done)}


def foreign(case: str, which: int) -> Outcome:
    """Return what comes of a recording of one kind, of one of three machines."""
    return outcomes({case: (GOOD | BAD)[case]}, 1, (which,))[case][0][1]


def _of(done: Performed) -> dict[str, Plain]:
    return {
        "run": plain(replace(done.run, started="", settings={})),
        "settings": plain({k: v for k, v in done.run.settings.items() if k != "made_on"}),
        "reading": plain(done.reading),
        "told": told_by(done.reading),
    }


_FIRST = (CurrentsAtRest.name, StandingPulses.name, TurnByHand.name)


# Halls are no place to stand at, and too coarse for a first motion.
_NONE = {("thruster", "position move"), ("thruster", BoundedSearch.name)}


def cases() -> Mapping[str, Callable[[], Plain]]:
    """Return what is kept of experiments that are played, by the names of its files."""
    usual = {f"{name} {kind}": partial(told, name, kind)
             for name in NAMES for kind in MADE if (name, kind) not in _NONE}  # fmt: skip
    odd = {f"odd {case}": partial(told_of_odd, case) for case in ODD}
    return usual | odd


def _foreign(case: str, which: int) -> Plain:
    return told_of_foreign(foreign(case, which))


def assert_told(case: str, now: Plain) -> None:
    """Fail where something differs from what is kept of a case; on the same kind of processor."""
    if can_compare(FOLDER):
        assert_stays(FOLDER, case, now)


def main() -> None:
    """Write all of them."""
    warm()
    outside = {f"foreign {which} {case}": partial(_foreign, case, which)
               for case, which in (*GOOD_ONES, *BAD_ONES)}  # fmt: skip
    keep(FOLDER, {**cases(), **outside})


if __name__ == "__main__":
    main()
