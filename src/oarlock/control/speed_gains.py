"""Gains of the speed loop for what is asked of it.

One figure that makes it fast and a phase margin decide both gains: at the crossover the
controller has to be −e^(j·margin) over what it sees, and a PI has one pair of gains for each such
number. Where the margin alone is given, the stiffest loop that keeps it is sought.
"""

import cmath
import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.load_observer import load_observer, p_and_observer
from oarlock.control.margins import Margins
from oarlock.control.shaft import Shaft
from oarlock.control.speed import SpeedLoop, loop_of, tracking_bandwidth
from oarlock.control.speed_plant import SpeedPlant
from oarlock.control.speed_survey import Look, Wanted, frequencies, least_area, summing
from oarlock.errors import InputError
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
PLAIN = SpeedGains(Kp=1.0, Ki=0.0)  # no options; its numbers are replaced
Complex = NDArray[np.complex128]
_FINE = 3  # times the usual grid, where one plant alone is looked at
_TRIES = 240  # crossovers that a search looks at
_ROUGHLY, _FINELY = 24, 9  # crossovers that a search with an observer looks at, and then
_TURNS = (0.0, 4.0, 9.0, 16.0)  # degrees above a margin, that a search with an observer tries
_LESS = (1.0, 0.995, 0.985, 0.97, 0.94)  # of gains that miss a limit


def solved(
    plant: SpeedPlant, crossover: float, margin: float, beside: SpeedGains = PLAIN
) -> SpeedGains | None:
    """Return the gains that cross at `crossover` (rad/s) with `margin` (rad); None: none do.

    Of a PI, or of a P and the load observer that stands in place of its integral.
    e^(jθ)/(e^(jθ) − 1) is 1/2 − j·cot(θ/2)/2, θ the crossover's angle: real and imaginary part of
    the wanted controller give Kp and Ki.

    Parameters
    ----------
    beside : with a load observer there is to be one, for the same inertia; the rest is kept

    """
    angle = crossover * plant.T
    if not 0.0 < angle < math.pi:
        return None
    seen = plant.seen.at(crossover)
    if seen == 0.0:
        return None
    wanted = cmath.rect(1.0, margin - math.pi) / seen
    if beside.observer > 0.0:
        delta = cmath.rect(1.0, angle) - 1.0
        found = p_and_observer(wanted, delta, beside.inertia, plant.T)
        return replace(beside, Kp=found[0], Ki=0.0, observer=found[1]) if found else None
    each = -2.0 * wanted.imag * math.tan(0.5 * angle)  # Ki·T
    Kp = wanted.real - 0.5 * each
    if Kp <= 0.0 or each < 0.0:
        return None
    if beside is PLAIN:
        return SpeedGains(Kp=Kp, Ki=each / plant.T)
    return replace(beside, Kp=Kp, Ki=each / plant.T)


AIMS = {
    "calm": Wanted(margin=math.radians(65.0)),
    "even": Wanted(margin=math.radians(55.0)),
    "keen": Wanted(margin=math.radians(45.0)),
}


def keeps(found: Margins, wanted: Wanted) -> bool:
    """Return whether margins keep what is wanted, on a stable loop."""
    slack = 1e-6
    return (
        found.stable
        and found.phase_margin >= wanted.margin - slack
        and found.gain_margin >= wanted.gain_margin - slack
        and found.Ms <= wanted.Ms + slack
    )


def stiffest(
    plant: SpeedPlant, wanted: Wanted, others: Sequence[SpeedPlant] = ()
) -> SpeedLoop | None:
    """Return the loop that keeps what is wanted with the least dip's area; None: none does.

    After a step of load the integral of the speed's error is the load over Ki: the largest Ki is
    sought for a few margins from the wanted one up, and of those loops the one whose error has
    the least area, which a swing makes larger (Åström and Hägglund, Advanced PID Control, 2006,
    section 4.5). It is looked for on a grid and tried exactly.

    Parameters
    ----------
    others : plants that it has to be stable on too

    """
    T, omega = plant.T, frequencies(plant, _FINE)
    crossovers = np.geomspace(1e-4 / T, 0.6 * math.pi / T, _TRIES)
    beside = np.array([_seen(one, omega) for one in others], dtype=np.complex128)
    look = Look(T=T, summed=summing(omega, T), seen=_seen(plant, omega), crossovers=crossovers,
                others=beside.reshape(len(others), omega.size),
                crossing=_seen(plant, crossovers), fine=_FINE)  # fmt: skip
    tried: dict[tuple[float, float], SpeedLoop] = {}

    def area(Kp: float, Ki: float) -> float:
        loop = _tried(plant, wanted, others, SpeedGains(Kp=Kp, Ki=Ki))
        if loop is None:
            return math.inf
        tried[Kp, Ki] = loop
        return loop.dip_area

    found = least_area(look, wanted, area, rounds=2)
    return tried[found[1:]] if found is not None else None


def stiffest_observing(plant: SpeedPlant, wanted: Wanted, beside: SpeedGains) -> SpeedLoop | None:
    """Return the loop of least dip's area of a P and a load observer that keeps what is wanted.

    Both are solved at each of a row of crossovers for a few margins, and tried exactly.

    Parameters
    ----------
    beside : with the inertia that the observer goes by

    """
    far = reach(plant, wanted.margin)
    rough = np.geomspace(1e-2 / plant.T, far, _ROUGHLY) if far > 1e-2 / plant.T else np.zeros(0)
    best = _least(plant, wanted, beside, rough.tolist(), _TURNS[::2])
    if best is None:
        return None
    near = best.margins.crossover
    step = float(rough[1] / rough[0])
    finer = np.geomspace(near / step, min(near * step, far), _FINELY)
    return _least(plant, wanted, beside, [near, *finer.tolist()], _TURNS)


def _least(
    plant: SpeedPlant, wanted: Wanted, beside: SpeedGains, crossovers: Sequence[float],
    more: Sequence[float],
) -> SpeedLoop | None:  # fmt: skip
    """Return the loop of least dip's area with a load observer, of some crossovers and margins."""
    best: SpeedLoop | None = None
    for crossover in crossovers:
        for degrees in more:
            gains = solved(plant, crossover, wanted.margin + math.radians(degrees), beside)
            if gains is None:
                continue
            if gains.Kp + load_observer(gains, plant.T).load > wanted.most_Kp:
                continue
            loop = SpeedLoop(plant, gains)
            if keeps(loop.margins, wanted) and (best is None or loop.dip_area < best.dip_area):
                best = loop
    return best


def _seen(plant: SpeedPlant, omega: Array) -> Complex:
    """Return what the controller sees at each frequency, rad/s."""
    seen = plant.push.response(omega)[0] * plant.following.response(omega)[0]
    return np.asarray(seen, dtype=np.complex128)


def _tried(
    plant: SpeedPlant, wanted: Wanted, others: Sequence[SpeedPlant], gains: SpeedGains
) -> SpeedLoop | None:
    """Return the exact loop of gains, a little less where a limit is missed by a little."""
    for share in _LESS:
        loop = SpeedLoop(plant, SpeedGains(Kp=share * gains.Kp, Ki=share * gains.Ki))
        if keeps(loop.margins, wanted) and is_stable_on(loop.gains, others):
            return loop
    return None


def is_stable_on(gains: SpeedGains, plants: Sequence[SpeedPlant]) -> bool:
    """Return whether gains are stable on each of several plants."""
    return all(SpeedLoop(plant, gains).opened.feedback().is_stable for plant in plants)


def reach(plant: SpeedPlant, margin: float) -> float:
    """Return the crossover (rad/s) up to which a P controller leaves `margin` (rad)."""
    grid = np.geomspace(1e-3 / plant.T, 0.95 * math.pi / plant.T, 600)
    _, phase = plant.seen.response(grid)
    enough = phase > margin - math.pi
    gone = np.flatnonzero(~enough)
    if not gone.size:
        return float(grid[-1])
    return float(grid[gone[0] - 1]) if gone[0] else 0.0


def crossing(
    plant: SpeedPlant, crossover: float, margin: float, beside: SpeedGains = PLAIN
) -> SpeedLoop:
    """Return the loop with this crossover (rad/s) and margin (rad).

    Raises
    ------
    InputError : the delays or the shaft forbid it, with the nearest that can be

    """
    gains = solved(plant, crossover, margin, beside)
    hertz = crossover / math.tau
    if gains is None:
        most = reach(plant, margin) / math.tau
        if beside.observer > 0.0 and hertz < most:
            cause = (
                f"a load observer leaves more than {math.degrees(margin):.0f}° at {hertz:.3g} Hz"
            )
            raise InputError(cause, place="speed loop",
                             remedy="Ask for more margin, or for a faster loop")  # fmt: skip
        cause = f"delays and filters leave less than {math.degrees(margin):.0f}° at {hertz:.3g} Hz"
        raise InputError(cause, place="speed loop",
                         remedy=f"Ask for at most {most:.3g} Hz, or for less margin")  # fmt: skip
    loop = loop_of(plant, gains)
    if not loop.margins.stable:
        cause = f"{hertz:.3g} Hz would be unstable"
        at = plant.shaft.resonance / math.tau
        remedy = f"The shaft's resonance at {at:.0f} Hz swings up: put a notch there, or go slower"
        raise InputError(cause, place="speed loop",
                         remedy=remedy if at else "Ask for less")  # fmt: skip
    return loop


def with_bandwidth(
    plant: SpeedPlant, bandwidth: float, margin: float, beside: SpeedGains = PLAIN
) -> SpeedLoop:
    """Return the loop of this margin (rad) whose tracking falls to −3 dB at `bandwidth` (rad/s).

    Raises
    ------
    InputError : no crossover gives it

    """
    return _sought(plant, margin, beside, lambda loop: tracking_bandwidth(loop) / bandwidth,
                   f"no crossover gives a bandwidth of {bandwidth / math.tau:.3g} Hz")  # fmt: skip


def with_dip(
    plant: SpeedPlant, dip: float, load: float, margin: float, beside: SpeedGains = PLAIN
) -> SpeedLoop:
    """Return the slowest loop of this margin that gives way by `dip` (rad/s) under `load` (A).

    Raises
    ------
    InputError : no crossover is so stiff

    """

    def stiffness(loop: SpeedLoop) -> float:
        return dip / max(load * float(np.max(np.abs(loop.loaded.step(1200)))), 1e-12)

    rpm = 60.0 * dip / math.tau
    return _sought(plant, margin, beside, stiffness,
                   f"no crossover holds {load:.3g} A within {rpm:.3g} rpm")  # fmt: skip


def symmetrical(plant: SpeedPlant, factor: float) -> SpeedLoop:
    """Return the loop of the symmetrical optimum: the phase is at its peak where it crosses.

    ωc = 1/(a·Teq) and Ki/Kp = ωc/a, Teq the true lag where it crosses (Kessler 1958; Leonhard,
    Control of Electrical Drives, 3rd ed., section 14.3).

    Parameters
    ----------
    factor : a, above 1

    Raises
    ------
    InputError : unstable with these delays

    """
    crossover = 1.0 / (factor * 4.0 * plant.T)
    for _ in range(20):
        crossover = 1.0 / (factor * lag_of(plant, crossover))
    ratio = crossover / factor
    unit = SpeedLoop(plant, SpeedGains(Kp=1.0, Ki=ratio)).opened
    size = abs(unit.at(crossover))
    loop = SpeedLoop(plant, SpeedGains(Kp=1.0 / size, Ki=ratio / size))
    if not loop.margins.stable:
        raise InputError(f"a factor of {factor:.3g} is unstable here", place="speed loop",
                         remedy="Ask for a larger one, or for a phase margin")  # fmt: skip
    return loop


def lag_of(plant: SpeedPlant, omega: float) -> float:
    """Return the sum of small lags (s) at `omega` (rad/s): what the phase loses beyond inertia's.

    Of all that turns as one mass: what a shaft does to the phase is no lag.
    """
    shaft = plant.shaft
    rigid = replace(plant, shaft=Shaft(motor=shaft.inertia, viscous=shaft.viscous))
    seen = rigid.seen.at(omega)
    drag = math.atan2(omega * shaft.inertia, shaft.viscous)
    return (-cmath.phase(seen) - drag) / omega


def _sought(
    plant: SpeedPlant, margin: float, beside: SpeedGains, figure: Callable[[SpeedLoop], float],
    failing: str,
) -> SpeedLoop:  # fmt: skip
    """Return the slowest loop of this margin whose figure, rising with speed, reaches 1."""
    before: float | None = None
    for crossover in np.geomspace(1e-3 / plant.T, reach(plant, margin), 60).tolist():
        gains = solved(plant, crossover, margin, beside)
        if gains is None:
            continue
        loop = SpeedLoop(plant, gains)
        if not loop.margins.stable:
            break
        if figure(loop) >= 1.0:
            if before is None:
                return loop
            return _bisected(plant, margin, beside, figure, before, crossover)
        before = crossover
    raise InputError(failing, place="speed loop",
                     remedy="Ask for less, or for less margin")  # fmt: skip


def _bisected(
    plant: SpeedPlant, margin: float, beside: SpeedGains, figure: Callable[[SpeedLoop], float],
    low: float, high: float,
) -> SpeedLoop:  # fmt: skip
    for _ in range(40):
        middle = math.sqrt(low * high)
        gains = solved(plant, middle, margin, beside)
        if gains is not None and figure(SpeedLoop(plant, gains)) >= 1.0:
            high = middle
        else:
            low = middle
    gains = solved(plant, high, margin, beside)
    assert gains is not None
    return SpeedLoop(plant, gains)
