"""The speed loop: a PI with set-point weight round the exact plant of `speed_plant`; its gains.

One figure that makes it fast and a phase margin decide both gains: at the crossover the
controller has to be −e^(j·margin) over what it sees, and a PI has one pair of gains for each such
number. Where the margin alone is given, the stiffest loop that keeps it is sought.
"""

import cmath
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oarlock.control.discrete import Coefficients, Discrete, add, times
from oarlock.control.margins import Margins, margins
from oarlock.control.shaft import Shaft
from oarlock.control.speed_plant import SpeedPlant
from oarlock.errors import InputError
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
_TRIES = 48  # crossovers that a search looks at


@dataclass(frozen=True)
class SpeedLoop:
    """Plant and controller, closed."""

    plant: SpeedPlant
    gains: SpeedGains

    @cached_property
    def controller(self) -> Discrete:
        """From the measured speed's error to the current asked for, A s/rad."""
        return self._pi(1.0)

    def _pi(self, weight: float) -> Discrete:
        g, T = self.gains, self.plant.T
        return Discrete((weight * g.Kp + g.Ki * T, g.Ki * T), (1.0, 0.0), T)

    @cached_property
    def opened(self) -> Discrete:
        """The open loop, whose margins count."""
        return self.controller.series(self.plant.following).series(self.plant.push)

    @cached_property
    def margins(self) -> Margins:
        """Of the open loop."""
        return margins(self.opened)

    @cached_property
    def _characteristic(self) -> Coefficients:
        loop = self.opened
        return add(loop.den, loop.num)

    def _closed(self, *numerators: Coefficients) -> Discrete:
        num: Coefficients = (1.0,)
        for one in numerators:
            num = times(num, one)
        return Discrete(num, self._characteristic, self.plant.T)

    @cached_property
    def closed(self) -> Discrete:
        """From the speed asked for to the plain measured speed."""
        p, f = self.plant.push, self.plant.following
        return self._closed(self._pi(self.gains.weight).num, f.den, p.num)

    @cached_property
    def effort(self) -> Discrete:
        """From the speed asked for (rad/s) to the current asked for (A)."""
        p, f = self.plant.push, self.plant.following
        return self._closed(self._pi(self.gains.weight).num, f.den, p.den)

    @cached_property
    def loaded(self) -> Discrete:
        """From a current behind the filters (A), as a load takes it, to the plain speed."""
        return self._disturbed(self.plant.load)

    @cached_property
    def pulled(self) -> Discrete:
        """From a torque at the far end (N·m) to the plain speed."""
        return self._disturbed(self.plant.pull)

    @cached_property
    def answer(self) -> Discrete:
        """From a current behind the filters (A) to the current asked for (A)."""
        c, f = self.controller, self.plant.following
        return self._closed((-1.0,), c.num, f.num, self.plant.load.num)

    @cached_property
    def unrest(self) -> Discrete:
        """From an error of the plain measured speed (rad/s) to the current asked for (A)."""
        c, f = self.controller, self.plant.following
        return self._closed((-1.0,), c.num, f.num, self.plant.push.den)

    def _disturbed(self, way: Discrete) -> Discrete:
        c, f = self.controller, self.plant.following
        return self._closed(way.num, c.den, f.den)

    @property
    def is_stable(self) -> bool:
        """Whether all poles of the closed loop lie inside the unit circle."""
        return self.margins.stable

    def ripple(self, count: float, samples: int = 4000) -> float:
        """Return the current (A rms) that the steps of one count (rad) of the angle make.

        A count is wrong by up to half of itself, evenly spread and anew in each sample; what the
        speed makes of it goes through the closed loop (Franklin, Powell and Workman, 3rd ed.,
        section 10.1).
        """
        way = self.unrest
        weights = self.plant.measuring.weights(self.plant.current.plant.Ts)
        jumps = -np.diff(np.concatenate([[0.0], weights, [0.0]]))  # by angle instead of increment
        every = self.plant.measuring.divider
        taken = jumps[::every]  # the angles that lie a whole sample of the speed apart share errors
        given = np.zeros(samples)
        given[: taken.size] = taken
        answered = way.output(given)
        rest = max(float(np.sum(jumps**2)) - float(np.sum(taken**2)), 0.0)
        pulse = way.pulse(samples)
        power = float(np.sum(answered**2)) + rest * float(np.sum(pulse**2))
        return count / math.sqrt(12.0) * math.sqrt(power)


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadFigures:
    """What a step of load does to the speed."""

    dip: float  # rad/s, the most that the speed gives way
    dip_at: float  # s
    recovery: float  # s until it stays within a tenth of the dip; NaN: it does not
    IAE: float  # rad, integral of |speed error|


def load_figures(t: Array, speed: Array) -> LoadFigures:
    """Return what is read off the deviation of the speed after a step of load at t = 0.

    Parameters
    ----------
    t : s, evenly spaced; speed : rad/s, deviation from before the step

    """
    size = np.abs(speed)
    at = int(np.argmax(size))
    dip = float(size[at])
    outside = np.flatnonzero(size > 0.1 * dip)
    last = int(outside[-1]) if outside.size else 0
    step = float(t[1] - t[0])
    return LoadFigures(
        dip=dip,
        dip_at=float(t[at]),
        recovery=math.nan if last == size.size - 1 else float(t[last]) + step,
        IAE=float(np.sum(size)) * step,
    )


def largest_step(loop: SpeedLoop, limit: float, samples: int = 400) -> float:
    """Return the largest step of speed (rad/s) for which the current stays below `limit` (A)."""
    most = float(np.max(np.abs(loop.effort.step(samples))))
    return limit / most if most > 0.0 else math.inf


# Gains


def solved(plant: SpeedPlant, crossover: float, margin: float) -> SpeedGains | None:
    """Return the PI that crosses at `crossover` (rad/s) with `margin` (rad); None: there is none.

    e^(jθ)/(e^(jθ) − 1) is 1/2 − j·cot(θ/2)/2, θ the crossover's angle: real and imaginary part of
    the wanted controller give Kp and Ki.
    """
    angle = crossover * plant.T
    if not 0.0 < angle < math.pi:
        return None
    seen = plant.push.at(crossover) * plant.following.at(crossover)
    if seen == 0.0:
        return None
    wanted = cmath.rect(1.0, margin - math.pi) / seen
    each = -2.0 * wanted.imag * math.tan(0.5 * angle)  # Ki·T
    Kp = wanted.real - 0.5 * each
    if Kp <= 0.0 or each < 0.0:
        return None
    return SpeedGains(Kp=Kp, Ki=each / plant.T)


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What a loop has to keep."""

    margin: float  # rad
    gain_margin: float = 2.0  # ratio
    Ms: float = 2.0


AIMS = {
    "calm": Wanted(margin=math.radians(65.0), gain_margin=3.0, Ms=1.5),
    "even": Wanted(margin=math.radians(55.0), gain_margin=2.5, Ms=1.75),
    "keen": Wanted(margin=math.radians(45.0), gain_margin=2.0, Ms=2.0),
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
    """Return the loop with the largest integral gain that keeps what is wanted; None: none does.

    After a step of load the integral of the speed's error is the load over Ki: the largest Ki is
    the least area, where nothing swings, and what is wanted sees to that (Åström and Hägglund,
    Advanced PID Control, 2006, section 4.5).

    Parameters
    ----------
    others : plants that it has to be stable on too

    """
    low, high = 1e-4 / plant.T, 0.6 * math.pi / plant.T
    best: SpeedLoop | None = None
    for _ in range(3):
        found: list[tuple[float, SpeedLoop]] = []
        for crossover in np.geomspace(low, high, _TRIES).tolist():
            for more in (0.0, 0.15, 0.35):
                gains = solved(plant, crossover, wanted.margin + more)
                if gains is None or (best is not None and gains.Ki <= best.gains.Ki):
                    continue
                loop = SpeedLoop(plant, gains)
                if keeps(loop.margins, wanted) and is_stable_on(gains, others):
                    found.append((crossover, loop))
        if not found:
            break
        at, best = max(found, key=lambda pair: pair[1].gains.Ki)
        ratio = (high / low) ** (1.0 / (_TRIES - 1))
        low, high = at / ratio, at * ratio
    return best


def is_stable_on(gains: SpeedGains, plants: Sequence[SpeedPlant]) -> bool:
    """Return whether gains are stable on each of several plants."""
    return all(SpeedLoop(plant, gains).opened.feedback().is_stable for plant in plants)


def reach(plant: SpeedPlant, margin: float) -> float:
    """Return the crossover (rad/s) up to which a P controller leaves `margin` (rad)."""
    grid = np.geomspace(1e-3 / plant.T, 0.95 * math.pi / plant.T, 600)
    _, phase = plant.following.series(plant.push).response(grid)
    enough = phase > margin - math.pi
    gone = np.flatnonzero(~enough)
    if not gone.size:
        return float(grid[-1])
    return float(grid[gone[0] - 1]) if gone[0] else 0.0


def crossing(plant: SpeedPlant, crossover: float, margin: float) -> SpeedLoop:
    """Return the loop with this crossover (rad/s) and margin (rad).

    Raises
    ------
    InputError : the delays or the shaft forbid it, with the nearest that can be

    """
    gains = solved(plant, crossover, margin)
    hertz = crossover / math.tau
    if gains is None:
        most = reach(plant, margin) / math.tau
        cause = f"delays and filters leave less than {math.degrees(margin):.0f}° at {hertz:.3g} Hz"
        raise InputError(cause, place="speed loop",
                         remedy=f"Ask for at most {most:.3g} Hz, or for less margin")  # fmt: skip
    loop = SpeedLoop(plant, gains)
    if not loop.margins.stable:
        cause = f"{hertz:.3g} Hz would be unstable"
        at = plant.shaft.resonance / math.tau
        remedy = f"The shaft's resonance at {at:.0f} Hz swings up: put a notch there, or go slower"
        raise InputError(cause, place="speed loop",
                         remedy=remedy if at else "Ask for less")  # fmt: skip
    return loop


def with_bandwidth(plant: SpeedPlant, bandwidth: float, margin: float) -> SpeedLoop:
    """Return the loop of this margin (rad) whose tracking falls to −3 dB at `bandwidth` (rad/s).

    Raises
    ------
    InputError : no crossover gives it

    """
    return _sought(plant, margin, lambda loop: tracking_bandwidth(loop) / bandwidth,
                   f"no crossover gives a bandwidth of {bandwidth / math.tau:.3g} Hz")  # fmt: skip


def with_dip(plant: SpeedPlant, dip: float, load: float, margin: float) -> SpeedLoop:
    """Return the slowest loop of this margin that gives way by `dip` (rad/s) under `load` (A).

    Raises
    ------
    InputError : no crossover is so stiff

    """

    def stiffness(loop: SpeedLoop) -> float:
        return dip / max(load * float(np.max(np.abs(loop.loaded.step(1200)))), 1e-12)

    rpm = 60.0 * dip / math.tau
    return _sought(plant, margin, stiffness,
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
    seen = rigid.following.series(rigid.push).at(omega)
    drag = math.atan2(omega * shaft.inertia, shaft.viscous)
    return (-cmath.phase(seen) - drag) / omega


def tracking_bandwidth(loop: SpeedLoop) -> float:
    """Return where the speed falls to −3 dB of what is asked for, the first time, rad/s."""
    omega, gain, _ = loop.closed.on_grid(1e-4 / loop.plant.T, 400)
    below = np.flatnonzero(np.abs(gain) < math.sqrt(0.5))
    if not below.size or below[0] == 0:
        return math.pi / loop.plant.T
    low, high = float(omega[below[0] - 1]), float(omega[below[0]])
    for _ in range(40):
        middle = math.sqrt(low * high)
        if abs(loop.closed.at(middle)) < math.sqrt(0.5):
            high = middle
        else:
            low = middle
    return high


def _sought(
    plant: SpeedPlant, margin: float, figure: Callable[[SpeedLoop], float], failing: str
) -> SpeedLoop:
    """Return the slowest loop of this margin whose figure, rising with speed, reaches 1."""
    before: float | None = None
    for crossover in np.geomspace(1e-3 / plant.T, reach(plant, margin), 60).tolist():
        gains = solved(plant, crossover, margin)
        if gains is None:
            continue
        loop = SpeedLoop(plant, gains)
        if not loop.margins.stable:
            break
        if figure(loop) >= 1.0:
            if before is None:
                return loop
            return _bisected(plant, margin, figure, before, crossover)
        before = crossover
    raise InputError(failing, place="speed loop",
                     remedy="Ask for less, or for less margin")  # fmt: skip


def _bisected(
    plant: SpeedPlant, margin: float, figure: Callable[[SpeedLoop], float],
    low: float, high: float,
) -> SpeedLoop:  # fmt: skip
    for _ in range(40):
        middle = math.sqrt(low * high)
        gains = solved(plant, middle, margin)
        if gains is not None and figure(SpeedLoop(plant, gains)) >= 1.0:
            high = middle
        else:
            low = middle
    gains = solved(plant, high, margin)
    assert gains is not None
    return SpeedLoop(plant, gains)
