"""A modest speed controller for experiments that turn: gains, ramps, and how far they go."""

import math
from dataclasses import replace

from oarlock.drive.steps import SpeedLoop, Step
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind

_ROW, _MOST_ROWS = 0.02, 24  # s, of one step of a ramp; steps of it: a drive has room for few
_LEAST_PACE = 12.0  # rad/s, of the crossover by halls: slower, a plateau would take seconds
_OF_EDGES = 0.24  # rad/s of crossover, for each edge of halls a second at the slowest plateau
_SETTLED = 12.0  # time constants of a speed controller, that it takes to settle by halls
MOST_SHARE = 0.9  # of the rated current, that an experiment which turns the shaft needs at most


def rough_inertia(axis: Axis) -> float:
    """Return the inertia (kg m2) that movements are sized by.

    Raises
    ------
    InputError : none is known

    """
    if axis.machine.inertia is None:
        remedy = "Prove the zero in Sensing, which finds one roughly, or enter one in Machine"
        raise InputError("no inertia is known, not even roughly", place="machine", remedy=remedy)
    return axis.machine.inertia.value


def speed_loop(axis: Axis, crossover: float) -> SpeedLoop:
    """Return a speed controller whose load is inertia.

    Parameters
    ----------
    crossover : rad/s

    """
    Kp = rough_inertia(axis) * crossover / axis.machine.torque_constant
    return SpeedLoop(Kp=Kp, Ki=0.25 * Kp * crossover)


def pace_by_edges(axis: Axis, crossover: float, slowest: float) -> float:
    """Return the speed controller's crossover, rad/s: by halls no faster than edges come.

    Parameters
    ----------
    crossover : rad/s, with any other sensor
    slowest : rad/s, mechanical, of the plateaus

    """
    if axis.sensor.kind is not SensorKind.HALL:
        return crossover
    edges = 6.0 * axis.machine.pole_pairs.value * slowest / math.tau  # a second
    return min(crossover, max(_OF_EDGES * edges, _LEAST_PACE))


def settling_by_edges(pace: float, crossover: float) -> float:
    """Return how long (s) a plateau lasts before it counts, where edges slow the controller."""
    return _SETTLED / pace if pace < crossover else 0.0


def most_by_edges(axis: Axis) -> float:
    """Return the most that a speed controller may ask for, A; 0: as its limit allows.

    The angle of halls is guessed from edge to edge, and set right at each: what the current
    controllers make of that needs room below the experiment's limit.
    """
    return MOST_SHARE * axis.rated if axis.sensor.kind is SensorKind.HALL else 0.0


def no_load_speed(axis: Axis) -> float:
    """Return the speed (rad/s, mechanical) at which back-EMF takes the whole bus."""
    m = axis.machine
    return axis.inverter.v_max / (m.pole_pairs.value * m.psi.value)


def ramp_time(axis: Axis, change: float, torque: float) -> float:
    """Return how long (s) a change of speed (rad/s) takes at a share of rated torque."""
    m = axis.machine
    return rough_inertia(axis) * abs(change) / (torque * m.torque_constant * axis.rated)


def ramp(step: Step, start: float, end: float, seconds: float) -> list[Step]:
    """Return steps of 20 ms, longer where it lasts, from one reference to another, rad/s."""
    rows = min(max(math.ceil(seconds / _ROW), 1), _MOST_ROWS)
    each = seconds / rows
    change = (end - start) / rows
    return [replace(step, duration=each, speed=start + change * (n + 0.5)) for n in range(rows)]


def excursion(steps: list[Step]) -> float:
    """Return the largest distance (turns) from the start that these speeds lead to."""
    at = most = 0.0
    for step in steps:
        at += step.speed * step.duration / math.tau
        most = max(most, abs(at))
    return most


def within_travel(axis: Axis, turns: float, *, least: float = 0.1) -> float:
    """Return by what to scale speeds so that the shaft stays within its travel, at most 1.

    Parameters
    ----------
    turns : how far the shaft would go
    least : the scale below which the experiment tells nothing

    Raises
    ------
    InputError : too little travel to tell anything

    """
    most = axis.mechanics.max_turns
    if most is None or turns <= 0.9 * most.value:
        return 1.0
    scale = 0.9 * most.value / turns
    if scale < least:
        cause = f"it needs {turns:.1f} turns, the shaft may turn {most.value:g}"
        raise InputError(cause, place="travel", remedy="Give more travel, or read a recording")
    return scale
