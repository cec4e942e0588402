"""The speed loop's part of the demo's job: a way round the resonance, gains, both tests."""

import math
from collections.abc import Callable
from dataclasses import replace

from oarlock.control.speed_design import Turning, loop_in_use
from oarlock.control.speed_ways import Way
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.machine import Axis, SensorKind
from oarlock.machine.speed_loop import KEY
from oarlock.quantities.display import digits, fixed, whole_degrees
from oarlock.quantities.kinds import RPM
from oarlock.records import Reading, Run
from oarlock.session.session import Session
from oarlock.views.speed import designed, settled
from oarlock.views.speed_asked import aimed, filter_title, with_filters
from oarlock.views.speed_ways import question, ways

Say = Callable[[str], None]
Play = Callable[[Experiment, str], tuple[Run, Reading | None]]


def tune_speed(session: Session, play: Play, say: Say) -> list[str]:
    """Design the speed loop, try it on the drive, and return what does not hold."""
    axis = session.axis
    if axis.machine.inertia is None:
        return ["speed loop: no inertia"]
    speed = settled(session.screen.speed, axis)[0]
    way = _way(session)
    if way is not None:
        axis = with_filters(axis, way.filters)
    target = aimed("even")
    loops = axis.loops.with_target(KEY, target).with_gains(KEY, designed(axis, target, speed))
    axis = replace(axis, loops=loops)
    session.edit("Take the designed gains of the speed loop", axis)
    _tell_design(axis, speed, way, say)
    say(f"{'':10}{'rise ms':>10}{'overshoot %':>13}{'dip rpm':>10}{'back ms':>10}")
    _, step, torque = settled(session.screen.speed, axis)
    failures: list[str] = []
    results: list[SpeedResult] = []
    for experiment, name in ((SpeedStep(speed=speed, amplitude=step), "speed-step"),
                             (LoadStep(speed=speed, torque=torque), "load-step")):  # fmt: skip
        run, result = play(experiment, name)
        if not isinstance(result, SpeedResult):
            failures.append(f"{name}: {run.ended}")
            continue
        results.append(result)
        failures += [f"{name}: {c.sentence}" for c in result.checks if not c.passed]
    _tell(results, say)
    return failures + _sweep(session, play, say, speed, torque)


def _sweep(session: Session, play: Play, say: Say, speed: float, torque: float) -> list[str]:
    """Measure the loop's response in frequency, where the sensor tells enough of it."""
    if session.axis.sensor.kind is SensorKind.HALL:
        return []
    sweep = SpeedSweep(speed=speed, torque=torque)
    run, result = play(sweep, "speed-sweep")
    if not isinstance(result, SweepResult):
        return [f"sweep: {run.ended}"]
    if result.found is not None:
        f = result.found
        hertz = f"{f.crossover / math.tau:.1f} ± {f.crossover_std / math.tau:.1f} Hz"
        say(f"sweep   crossover {hertz}, "
            f"margin {math.degrees(f.phase_margin):.1f} ± "
            f"{math.degrees(f.phase_margin_std):.1f}°, Ms {fixed(f.Ms, 2)}")  # fmt: skip
    return [f"sweep: {c.sentence}" for c in result.checks if not c.passed]


def _way(session: Session) -> Way | None:
    """Return the way with a filter, where the shaft twists and one is better."""
    asked = question(session.axis, session.screen.speed)
    found = ways(asked) if asked is not None else ()
    return next((way for way in found if way.filters), None)


def _tell_design(axis: Axis, speed: float, way: Way | None, say: Say) -> None:
    loop = loop_in_use(axis, turning=Turning(speed=speed))
    m, g = loop.margins, loop.gains
    say("")
    said = f", {filter_title(way.filters[0])}" if way is not None else ""
    say(f"speed   Kp {g.Kp:.4g} A s/rad  Ki {g.Ki:.4g} A/rad{said}")
    say(f"loop    crossover {digits(m.crossover / math.tau, 3)} Hz, margin "
        f"{whole_degrees(math.degrees(m.phase_margin), 1)}°, "
        f"{20 * math.log10(m.gain_margin):.1f} dB, Ms {m.Ms:.2f}")  # fmt: skip


def _tell(results: list[SpeedResult], say: Say) -> None:
    for word in ("predicted", "measured"):
        cells = [f"{word:10}"]
        for result in results:
            step = result.step if word == "measured" else result.step_predicted
            load = result.load if word == "measured" else result.load_predicted
            if step is not None:
                cells.append(f"{1e3 * step.rise:10.2f}{100 * step.overshoot:13.1f}")
            if load is not None:
                cells.append(f"{load.dip / RPM:10.1f}{1e3 * load.recovery:10.0f}")
        say("".join(cells))
