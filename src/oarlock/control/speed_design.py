"""The speed loop of an axis: its plant by the best estimates, and the gains that its target asks.

What is asked for is decided here, by one of the ways of `control.speed`; filters are those that
stand in the axis.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from oarlock.control.current import loops_with
from oarlock.control.filters import section
from oarlock.control.limited import Room
from oarlock.control.shaft import Shaft, shaft_of
from oarlock.control.speed import SpeedLoop, loop_of
from oarlock.control.speed_gains import (
    PLAIN,
    crossing,
    stiffest,
    stiffest_observing,
    symmetrical,
    with_bandwidth,
    with_dip,
)
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.control.speed_survey import Wanted
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.machine.filters import Filter
from oarlock.machine.loop import Loop, Loops
from oarlock.machine.speed_loop import KEY, SpeedGains, SpeedTarget
from oarlock.machine.unknown import refuse_unknown
from oarlock.machine.with_loops import with_loops

MARGIN = math.radians(55.0)  # where none is asked for
LEAST_MARGIN = math.radians(30.0)
RIPPLE = 0.1  # of rated current: what the sensor's steps may shake
_EDGE, _LEAST_EDGE = math.radians(2.0), math.radians(0.5)  # electrical, of halls
_PLACE = "speed loop"


@dataclass(frozen=True, slots=True, kw_only=True)
class Turning:
    """Where the axis works while it is looked at."""

    speed: float = 0.0  # rad/s, mechanical: how often halls change, how a propeller damps


def usual_speed(axis: Axis) -> float:
    """Return a speed (rad/s) to look at a loop at: away from standstill, and from the top."""
    share = 0.3 if axis.sensor.kind is SensorKind.HALL else 0.1
    return share * axis.top_speed


def measuring_of(axis: Axis, turning: Turning = Turning()) -> Measuring:
    """Return how this axis's drive gets its speed.

    Halls give a speed from edge to edge: the mean over the last sector, which is held until the
    next edge. Both are half a sector late, on average.
    """
    divider = axis.inverter.divider
    late = 0.0
    hall = axis.sensor.kind is SensorKind.HALL
    if hall and turning.speed:
        sector = math.tau / (6.0 * axis.machine.pole_pairs.value)
        late = max(sector / abs(turning.speed) - 0.5 * divider * axis.inverter.Ts, 0.0)
    return Measuring(divider=divider, slope=0 if hall else axis.inverter.slope, late=late)


def plant_of(
    axis: Axis,
    *,
    turning: Turning = Turning(),
    filters: Sequence[Filter] | None = None,
    shaft: Shaft | None = None,
) -> SpeedPlant:
    """Return what the axis's speed controller sees.

    Parameters
    ----------
    filters : instead of those that stand in the axis
    shaft : instead of the one that was identified

    Raises
    ------
    InputError : no gains of the current loop, no inertia, or a filter out of range

    """
    if axis.gains is None:
        raise InputError("the current loop has no gains yet", place=_PLACE,
                         remedy="Tune and verify the current loop first")  # fmt: skip
    refuse_unknown(axis, ("machine.pole_pairs", "machine.psi"), _PLACE)
    Ts, divider = axis.inverter.Ts, axis.inverter.divider
    m = axis.machine
    placed = axis.loops[KEY].filters if filters is None else filters
    return SpeedPlant(
        shaft=shaft or shaft_of(axis, speed=turning.speed),
        current=loops_with(axis, axis.gains)[1],
        torque_constant=m.torque_constant,
        back_emf=m.pole_pairs.value * m.psi.value,
        measuring=measuring_of(axis, turning),
        torque_filters=tuple(section(one, Ts) for one in placed if one.path == "torque"),
        speed_filters=tuple(section(one, divider * Ts) for one in placed if one.path == "measured"),
    )


def count_of(axis: Axis) -> float:
    """Return the angle of one count of the sensor (rad, mechanical); 0: none is known."""
    sensor = axis.sensor
    if sensor.kind is SensorKind.ENCODER:
        return math.tau / sensor.counts.value
    if sensor.kind is SensorKind.RESOLVER:  # one step of a converter of 12 bits, at 0.8 of range
        return 1.0 / (2048.0 * 0.8 * sensor.pairs.value)
    return 0.0


def angle_step(axis: Axis) -> float:
    """Return the steps in which the sensor tells the angle, rad mechanical; 0: not known."""
    if axis.sensor.kind is SensorKind.HALL:
        return math.tau / (6.0 * axis.machine.pole_pairs.value)
    return count_of(axis)


@lru_cache(maxsize=16)
def speed_noise(axis: Axis, turning: Turning) -> float:
    """Return by how much (rad/s rms) the sensor's steps make the plain measured speed wrong.

    Of halls two edges bound each sector, and each is known to its own uncertainty.
    """
    if axis.sensor.kind is SensorKind.HALL:
        stds = [axis.parameter(f"sensor.hall_{n}").best.std for n in range(8)]
        edge = max((std for std in stds if std), default=_EDGE)
        return abs(turning.speed) * math.sqrt(2.0) * max(edge, _LEAST_EDGE) / (math.pi / 3.0)
    jumps = measuring_of(axis, turning).jumps(axis.inverter.Ts)
    return count_of(axis) / math.sqrt(12.0) * float(np.sqrt(np.sum(jumps**2)))


def wanted_of(axis: Axis, margin: float, turning: Turning) -> Wanted:
    """Return what a loop has to keep: its margins, and a torque that the sensor does not shake."""
    noise = speed_noise(axis, turning)
    most = RIPPLE * axis.rated
    return Wanted(margin=margin, most_Kp=most / noise if noise > 0.0 else math.inf)


def volts_left(axis: Axis, turning: Turning) -> float:
    """Return what the bus has left (V) over the back-EMF where the axis works."""
    m = axis.machine
    return axis.inverter.v_max - m.pole_pairs.value * m.psi.value * abs(turning.speed)


def room_of(axis: Axis, turning: Turning, current: float) -> Room:
    """Return what the limits leave where the axis works, friction's small share left out.

    Parameters
    ----------
    current : A, that the speed controller may ask for

    """
    m = axis.machine
    emf = m.pole_pairs.value * m.psi.value * turning.speed
    return Room(current=current, volts=axis.inverter.v_max - emf,
                volts_down=axis.inverter.v_max + emf)  # fmt: skip


def speed_target(axis: Axis) -> SpeedTarget:
    """Return what is asked of the axis's speed loop."""
    found = axis.loops[KEY].target
    return found if isinstance(found, SpeedTarget) else SpeedTarget(phase_margin=MARGIN)


def speed_gains(axis: Axis) -> SpeedGains | None:
    """Return the speed loop's gains in use."""
    found = axis.loops[KEY].gains
    return found if isinstance(found, SpeedGains) else None


def design_on(
    plant: SpeedPlant, target: SpeedTarget, rated: float, *, most_Kp: float = math.inf,
    beside: SpeedGains = PLAIN,
) -> SpeedLoop:  # fmt: skip
    """Return the loop that a target asks for on a plant.

    Parameters
    ----------
    rated : A, of the step of load that a dip is asked for
    most_Kp : A s/rad, which the stiffest loop of a margin does not exceed
    beside : with a load observer the loop is to have one in place of the integral

    Raises
    ------
    InputError : what the delays or the shaft forbid, with the nearest that can be

    """
    margin = target.phase_margin or MARGIN
    if not LEAST_MARGIN - 1e-9 <= margin < math.radians(85.0):
        raise InputError(f"a phase margin of {math.degrees(margin):.0f}°", place=_PLACE,
                         remedy="Ask for 30° to 84°")  # fmt: skip
    if target.crossover is not None:
        return crossing(plant, target.crossover, margin, beside)
    if target.bandwidth is not None:
        return with_bandwidth(plant, target.bandwidth, margin, beside)
    if target.dip is not None:
        return with_dip(plant, target.dip, rated, margin, beside)
    if target.symmetry is not None:
        return symmetrical(plant, target.symmetry)
    wanted = Wanted(margin=margin, most_Kp=most_Kp)
    observes = beside.observer > 0.0
    found = stiffest_observing(plant, wanted, beside) if observes else stiffest(plant, wanted)
    if found is None:
        cause = f"no gains leave {math.degrees(margin):.0f}° and 6 dB"
        raise InputError(cause, place=_PLACE, remedy="Ask for less margin, or add a notch")
    return found


def design_speed(
    axis: Axis, target: SpeedTarget | None = None, *, turning: Turning = Turning(),
    plant: SpeedPlant | None = None, beside: SpeedGains | None = None,
) -> SpeedLoop:  # fmt: skip
    """Return the speed loop for the axis's target, or for another one; all but the PI stays.

    Parameters
    ----------
    turning : where the axis works
    plant : the axis's own there, where it is at hand
    beside : gains that tell whether there is a load observer, instead of those in use

    Raises
    ------
    InputError : nothing to design on yet, or a target that cannot be met

    """
    old, asked = speed_gains(axis), target or speed_target(axis)
    most = math.inf if asked.is_fast else wanted_of(axis, MARGIN, turning).most_Kp
    loop = design_on(
        plant or plant_of(axis, turning=turning), asked, axis.rated, most_Kp=most,
        beside=observing(axis, beside or old),
    )  # fmt: skip
    return loop if old is None else SpeedLoop(loop.plant, with_pi(old, loop.gains))


def with_pi(gains: SpeedGains, pi: SpeedGains) -> SpeedGains:
    """Return gains with Kp, Ki and load observer of others.

    Where an observer stands in place of Ki all of the reference counts: a share of it would leave
    that share of the speed.
    """
    whole = pi.observer > 0.0 and not pi.Ki > 0.0
    return replace(gains, Kp=pi.Kp, Ki=pi.Ki, observer=pi.observer, inertia=pi.inertia,
                   weight=1.0 if whole else gains.weight)  # fmt: skip


def observing(axis: Axis, gains: SpeedGains | None) -> SpeedGains:
    """Return a plain controller, with a load observer where these gains have one.

    Raises
    ------
    InputError : it has one, and no inertia is known

    """
    if gains is None or not gains.observer > 0.0:
        return PLAIN
    return replace(PLAIN, observer=gains.observer, inertia=known_inertia(axis))


def known_inertia(axis: Axis) -> float:
    """Return the current for each rad/s² (A s²/rad) of all that turns.

    Raises
    ------
    InputError : no inertia is known

    """
    return shaft_of(axis).inertia / axis.machine.torque_constant


def loop_in_use(axis: Axis, *, turning: Turning = Turning()) -> SpeedLoop:
    """Return the speed loop with the gains in use.

    Raises
    ------
    InputError : there are none, or nothing is known to close them over

    """
    gains = speed_gains(axis)
    if gains is None:
        raise InputError("no gains are in use", place=_PLACE, remedy="Take the designed ones")
    return loop_of(plant_in_use(without_pi(axis), turning), gains)


@lru_cache(maxsize=16)
def without_pi(axis: Axis) -> Axis:
    """Return the axis with all that its speed plant rests on, and no more of its loops."""
    speed = Loop(filters=axis.loops[KEY].filters)
    return with_loops(axis, Loops((("current", axis.loops["current"]), (KEY, speed))))


@lru_cache(maxsize=16)
def plant_in_use(bare: Axis, turning: Turning) -> SpeedPlant:
    """Return what the speed controller of an axis sees; kept for an axis `without_pi`.

    Raises
    ------
    InputError : as `plant_of`

    """
    return plant_of(bare, turning=turning)
