"""The speed loop designed anew for the inertia that a short sweep round its crossover showed."""

import math
from dataclasses import replace

from oarlock.control.designs import retuned
from oarlock.control.seen_inertia import SeenInertia, seen_inertia, with_load
from oarlock.control.shaft import shaft_of
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use, plant_of, speed_gains, speed_target
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY
from oarlock.quantities import Estimate, Origin
from oarlock.records import Run
from oarlock.views.speed import designed

_LOW, _HIGH, _COUNT = 0.6, 1.6, 7  # of the crossover
_SHARE = 0.4  # of the usual load: it only stirs
_RIGID = 0.7  # of the anti-resonance, up to which the shaft turns as one mass
_MOST_MISFIT, _MOST_STD, _MOST_LATE, _FEWEST = 0.08, 0.1, math.radians(8.0), 4
_FARTHEST = 8.0  # times the inertia that was known
_PLACE = "retune"


def stirring(axis: Axis, speed: float) -> SpeedSweep:
    """Return the short sweep round the crossover of the gains in use.

    Raises
    ------
    InputError : no gains, no inertia, or a shaft that swings where the loop crosses

    """
    loop = loop_in_use(axis, turning=Turning(speed=speed))
    crossover = loop.margins.crossover / math.tau
    most = _RIGID * loop.plant.shaft.anti_resonance / math.tau or math.inf
    high = min(_HIGH * crossover, most)
    if high < 1.5 * _LOW * crossover:
        raise InputError("the shaft swings where the loop crosses", place=_PLACE,
                         remedy="Measure inertia and resonance in Identify")  # fmt: skip
    return SpeedSweep(speed=speed, torque=_SHARE * usual_load(axis), count=_COUNT,
                      low=_LOW * crossover, high=high, seconds=0.12)  # fmt: skip


def refit(axis: Axis, reading: SweepResult, run: Run, speed: float) -> tuple[Axis, str]:
    """Return (the axis for the inertia that was seen, its loops following, what was seen).

    Raises
    ------
    InputError : the points do not tell it, or no gains keep what is asked on it

    """
    inertia = axis.machine.inertia
    if inertia is None:
        raise InputError("the inertia is not known", place=_PLACE, remedy="Measure it in Identify")
    if reading.turned is None:
        raise InputError("the current that flowed was not recorded", place=_PLACE,
                         remedy="Play the sines again")  # fmt: skip
    seen = seen_inertia(reading.turned, plant_of(axis, turning=Turning(speed=speed)))
    _refuse(seen)
    J = seen.ratio * inertia.value
    found = Estimate(value=J, std=J * max(seen.std, 0.01), unit="kg m2", origin=Origin.MEASURED,
                     source=f"run {run.id}, {run.started[11:16]}")  # fmt: skip
    changed = axis.adopting("machine.inertia", found)
    target = speed_target(axis)
    changed = replace(changed, loops=changed.loops.with_target(KEY, target))
    changed = changed.with_loop_gains(KEY, designed(changed, target, speed))
    _check_load(axis, changed, J, speed)
    after = retuned(axis, changed)
    return after, f"Inertia {100.0 * (seen.ratio - 1.0):+.0f} % ± {100.0 * seen.std:.0f}"


def _refuse(seen: SeenInertia) -> None:
    """Raise where the points do not tell one inertia."""
    remedy = "Retune at another speed or amplitude, or measure in Identify"
    if seen.points < _FEWEST:
        raise InputError(f"only {seen.points} points can be trusted", place=_PLACE, remedy=remedy)
    if not (seen.misfit <= _MOST_MISFIT and seen.std <= _MOST_STD):
        raise InputError("the points do not fit one inertia: a load that changes, or a shaft that "
                         "swings there", place=_PLACE, remedy=remedy)  # fmt: skip
    if not abs(seen.late) <= _MOST_LATE:
        cause = f"the phase is {math.degrees(seen.late):.0f}° later than the model says"
        raise InputError(cause, place=_PLACE, remedy=remedy)
    if not 1.0 / _FARTHEST <= seen.ratio <= _FARTHEST:
        raise InputError(f"the inertia would be {seen.ratio:.2g} times the known one", place=_PLACE,
                         remedy="Is the right axis connected? Measure it in Identify")  # fmt: skip


def _check_load(before: Axis, after: Axis, J: float, speed: float) -> None:
    """Raise where the new gains would swing if it is the load alone that has changed."""
    gains = speed_gains(after)
    shaft = with_load(shaft_of(before, speed=speed), J)
    if gains is None or shaft is None:
        return
    plant = plant_of(after, turning=Turning(speed=speed), shaft=shaft)
    if not SpeedLoop(plant, gains).is_stable:
        raise InputError("with this inertia the resonance may lie elsewhere, and would swing",
                         place=_PLACE, remedy="Measure the resonance in Identify")  # fmt: skip
