"""What the stages' pictures tell on the demo's two axes, as plain values to be kept and compared.

`make told` writes the files of `tests/views/told/` anew.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path

from benchmarks.loops import case

from oarlock.control.compiled import warm
from oarlock.control.current import design_current
from oarlock.control.dead_time import along_current, stirred
from oarlock.control.load_observer import load_observer
from oarlock.control.position_design import design_position
from oarlock.control.speed_design import loop_in_use, speed_gains, usual_speed
from oarlock.control.speed_survey import Wanted
from oarlock.control.speed_ways import proposed_notches, slower, stiffer_shaft
from oarlock.demo.project import SCENARIOS, demo_text
from oarlock.machine import Axis
from oarlock.machine.current_loop import CurrentTarget, IntegralRule, TargetKind
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.limits import clipped
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.position_loop import PositionTarget
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedTarget
from oarlock.rehearse.scenario import Scenario
from oarlock.rehearse.vary import tolerances
from oarlock.simulate.plant_parameters import Modulation
from oarlock.views import current, machine, position, speed
from oarlock.views.rehearsal import scenario_of, simulated, split, varied
from oarlock.views.rehearse import usual_scenario
from oarlock.views.screen import MoveSettings, SpeedSettings
from oarlock.views.speed_asked import with_filters, with_observer
from oarlock.views.speed_ramp import ramp_picture
from oarlock.views.speed_ways import question, ways
from tests.experiments.telling import NAMES, axis_of
from tests.kept import Plain, keep, plain, told_by

FOLDER = Path(__file__).parent / "told"


def _both(shown: object) -> dict[str, Plain]:
    return {"fields": plain(shown), "more": told_by(shown)}


# The current loop: what is asked of it.

CURRENT: dict[str, CurrentTarget] = {
    "crossover": CurrentTarget(kind=TargetKind.CROSSOVER, value=math.tau * 500.0),
    "bandwidth": CurrentTarget(kind=TargetKind.BANDWIDTH, value=math.tau * 900.0),
    "margin": CurrentTarget(kind=TargetKind.PHASE_MARGIN, value=math.radians(50.0)),
    "time constant": CurrentTarget(kind=TargetKind.TIME_CONSTANT, value=4e-4),
    "poles": CurrentTarget(
        kind=TargetKind.NATURAL_FREQUENCY, value=math.tau * 400.0, damping=0.8
    ),
}  # fmt: skip


def _current(name: str, target: CurrentTarget, rule: IntegralRule) -> Plain:
    axis = axis_of(name).with_target(target)
    axis = replace(axis, inverter=replace(axis.inverter, integral=rule))
    axis = axis.with_gains(replace(design_current(axis).gains, weight=0.8))
    shown = {along: current.picture(axis, along, 0.1 * axis.peak, 0.01) for along in ("d", "q")}
    q = shown["q"]
    return {along: _both(one) for along, one in shown.items()} | {
        "costs": plain(current.costs(q, axis)),
        "texts": plain(current.target_texts(q)),
        "why": plain(current.why_Kp(q)),
        "limits": plain(current.speed_limits(axis.inverter.Ts)),
    }


# The speed loop: what is asked of it, and what else is about the axis.

ASKED: dict[str, SpeedTarget] = {
    "stiffest at 45°": SpeedTarget(phase_margin=math.radians(45.0)),
    "crossover": SpeedTarget(crossover=math.tau * 9.0, phase_margin=math.radians(50.0)),
    "bandwidth": SpeedTarget(bandwidth=math.tau * 14.0),
    "dip": SpeedTarget(dip=12.0),
    "symmetrical": SpeedTarget(symmetry=3.0),
}
PLACED: dict[str, tuple[Filter, ...]] = {
    "low pass": (Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=1500.0, poles=2),),
    "lead": (Filter(path="torque", kind=FilterKind.LEAD_LAG, frequency=300.0, ratio=2.0),),
    "two": (
        Filter(path="torque", kind=FilterKind.NOTCH, frequency=900.0, width=0.7, depth=0.05),
        Filter(path="measured", kind=FilterKind.LOW_PASS, frequency=2500.0),
    ),
}  # fmt: skip


def _tuned(axis: Axis, target: SpeedTarget) -> Axis:
    axis = replace(axis, loops=axis.loops.with_target(SPEED, target))
    axis = axis.with_loop_gains(SPEED, speed.designed(axis, target, usual_speed(axis)))
    return axis.with_loop_gains(POSITION, design_position(axis).gains)


def _asked(name: str, asked: str) -> Axis:
    return _tuned(axis_of(name), ASKED[asked])


def _filtered(name: str, placed: str) -> Axis:
    return _tuned(with_filters(axis_of(name), PLACED[placed]), SpeedTarget())


def _observing(name: str) -> Axis:
    axis, gains = axis_of(name), speed_gains(axis_of(name))
    assert gains is not None
    axis = with_observer(axis, gains, on=True, speed=usual_speed(axis))
    return axis.with_loop_gains(POSITION, design_position(axis).gains)


def _with_options(name: str) -> Axis:
    axis, gains = axis_of(name), speed_gains(axis_of(name))
    assert gains is not None
    given = replace(gains, weight=0.6, reference=0.004, friction=0.3, acceleration=0.01)
    return axis.with_loop_gains(SPEED, given)


AXES: dict[str, Callable[[str], Axis]] = {
    "as it is": axis_of,
    **{f"asked {asked}": partial(_asked, asked=asked) for asked in ASKED},
    **{f"with {placed}": partial(_filtered, placed=placed) for placed in PLACED},
    "observing": _observing,
    "with options": _with_options,
}


def _outer(name: str, made: Callable[[str], Axis]) -> Plain:
    axis, settings = made(name), SpeedSettings()
    loop, gains = loop_in_use(axis), speed_gains(axis)
    faster = PositionTarget(crossover=1.4 * position.picture(axis, MoveSettings()).loop.gains.Kp)
    quick = replace(axis, loops=axis.loops.with_target(POSITION, faster))
    quick = quick.with_loop_gains(POSITION, position.designed(quick, faster))
    volts = along_current(axis.inverter.dead_voltage.value)
    return {
        "speed": _both(speed.picture(axis, settings)),
        "at another speed": _both(speed.picture(axis, SpeedSettings(speed=60.0, torque=0.4))),
        "ramp": _both(ramp_picture(axis, settings)),
        "position": _both(position.picture(axis, MoveSettings())),
        "quicker": _both(position.picture(quick, MoveSettings(distance=3.0, jerk_time=0.01))),
        "stirred": plain(stirred(loop, volts, 0.4, 1.0).margins),
        "observer": plain(load_observer(gains, loop.plant.T) if gains and gains.observer else None),
    }


def _ways(name: str) -> Plain:
    asked = question(axis_of(name), SpeedSettings())
    assert asked is not None
    return plain(ways(asked))


def _ways_of_another(number: int) -> Plain:
    """Return the ways round the resonance of a shaft of the benchmark."""
    bare, wanted = case(number).plant, Wanted(margin=math.radians(45.0))
    notch, plain_way = proposed_notches(bare, wanted), slower(bare, wanted)
    target = notch or plain_way
    shaft = stiffer_shaft(bare, wanted, target.load.dip) if target else None
    return plain([notch, plain_way, shaft])


# The machine, and what its numbers come to.


def _machine(name: str) -> Plain:
    axis = axis_of(name)
    return {
        "axis": told_by(axis),
        "machine": told_by(axis.machine),
        "inverter": told_by(axis.inverter),
        "bounds": plain(clipped(axis)),
        "tolerances": plain(tolerances(axis)),
        **{f"at {share}": _both(machine.machine_picture(axis, share * axis.top_speed))
           for share in (0.1, 0.5, 0.9)},
    }  # fmt: skip


# Rehearsals.

_HAPPENS = """
[[events]]
at = "0.3 s"
bus = "{bus:g} V"
[[events]]
at = "0.9 s"
slip = "3 deg"
[[events]]
at = "1.1 s"
offset_a = "0.3 A peak"
[[events]]
at = "1.2 s"
gain_b = 1.04
[[events]]
at = "1.3 s"
runout = "0.4 deg"
[[events]]
at = "1.5 s"
brake = {brake:g}
"""


def _scenario(axis: Axis, *, more: str = "") -> Scenario:
    return scenario_of(usual_scenario(axis) + more)


def _rehearsed(name: str, bridge: Modulation) -> Plain:
    axis = axis_of(name)
    return _both(simulated(_scenario(axis), axis, bridge=bridge))


def _troubled(name: str) -> Plain:
    axis = axis_of(name)
    more = _HAPPENS.format(bus=0.8 * axis.inverter.bus_voltage.value,
                           brake=0.2 * axis.machine.torque_constant * axis.rated)  # fmt: skip
    return _both(simulated(_scenario(axis, more=more), axis))


_WAVES = {
    "position": 'amplitude = "0.2"\nwave = "sine"\nfrequency = "3 Hz"',
    "speed": 'speed = "200 rpm"\namplitude = "40 rpm"\nwave = "chirp"\nfrequency = "2 Hz"\n'
             'until = "60 Hz"',
    "current": 'current = "1 A peak"\namplitude = "1 A peak"\nwave = "random"',
}  # fmt: skip


def _waving(name: str, control: str) -> Plain:
    asked = f'name = "w"\ncontrol = "{control}"\nduration = "0.8 s"\n[[points]]\nat = "0 s"\n'
    return _both(simulated(scenario_of(asked + _WAVES[control]), axis_of(name)))


def _inner(name: str, *loops: str) -> Plain:
    axis = axis_of(name)
    axis = replace(axis, loops=axis.loops.only(loops))
    return _both(simulated(_scenario(axis), axis))


def _many(name: str) -> Plain:
    axis = axis_of(name)
    return _both(varied(_scenario(axis), axis, 12))


def _split(name: str) -> Plain:
    axis = axis_of(name)
    return _both(split(_scenario(axis), axis))


def _lift(name: str) -> Plain:
    return _both(simulated(scenario_of(demo_text(SCENARIOS[name])), axis_of(name)))


def cases() -> Mapping[str, Callable[[], Plain]]:
    """Return what is kept of each picture, by the names of its files."""
    every: dict[str, Callable[[], Plain]] = {}
    for name in NAMES:
        for n, (asked, target) in enumerate(CURRENT.items()):
            rule = list(IntegralRule)[n % 3]
            every[f"{name} current {asked}"] = partial(_current, name, target, rule)
        for about, made in AXES.items():
            every[f"{name} outer {about}"] = partial(_outer, name, made)
        every[f"{name} machine"] = partial(_machine, name)
        for bridge in Modulation:
            every[f"{name} rehearsed {bridge}"] = partial(_rehearsed, name, bridge)
        every[f"{name} troubled"] = partial(_troubled, name)
        every[f"{name} current alone"] = partial(_inner, name, "current")
        every[f"{name} speed and current"] = partial(_inner, name, "speed", "current")
        every[f"{name} many"] = partial(_many, name)
        every[f"{name} split"] = partial(_split, name)
    for number in (4, 10, 19, 28):
        every[f"ways of shaft {number}"] = partial(_ways_of_another, number)
    for control in _WAVES:
        every[f"winch waving {control}"] = partial(_waving, "winch", control)
    every["winch ways"] = partial(_ways, "winch")
    every["winch lift"] = partial(_lift, "winch")
    return every


def main() -> None:
    """Write all of them."""
    warm()
    keep(FOLDER, cases())


if __name__ == "__main__":
    main()
