"""The speed loop: a PI with set-point weight round the exact plant of `speed_plant`."""

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._figures import dip_figures
from oarlock.control._kernels import spread
from oarlock.control._speed_steps import FIRST, SPEED, answered, looked, tracking
from oarlock.control._steps import rows, stepped
from oarlock.control.discrete import FEW, Coefficients, Discrete, grid, into_left, product, times
from oarlock.control.load_observer import Ways, pi_of, reference_share, ways
from oarlock.control.margins import Margins, margins, margins_of
from oarlock.control.speed_plant import SpeedPlant
from oarlock.machine.hashed import hashed_once
from oarlock.machine.speed_loop import SpeedGains

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_LASTS = 1200  # samples of the speed loop, over which a dip's area is taken
_FIRST = 400  # over which a step asks for most current


@hashed_once
@dataclass(frozen=True)
class SpeedLoop:
    """Plant and controller, closed."""

    plant: SpeedPlant
    gains: SpeedGains

    @cached_property
    def controller(self) -> Discrete:
        """From the measured speed, its sign turned, to the current asked for, A s/rad."""
        seen = self.ways.seen(pi_of(self.gains, self.plant.T, 1.0))
        return Discrete(seen, self.ways.den, self.plant.T)

    @cached_property
    def ways(self) -> Ways:
        """What the controller makes of each of its inputs."""
        return ways(self.gains, self.plant.T)

    def asked(self, weight: float) -> Coefficients:
        """Return the controller's numerator for a speed asked for with a set-point weight."""
        return self.ways.asked(pi_of(self.gains, self.plant.T, weight))

    @cached_property
    def lagged(self) -> Discrete:
        """From the speed asked for to what the controller takes of it."""
        share = reference_share(self.gains, self.plant.T)
        return Discrete((share, share), (1.0, share), self.plant.T)

    @cached_property
    def opened(self) -> Discrete:
        """The open loop, whose margins count."""
        return self.controller.series(self.plant.seen)

    @cached_property
    def margins(self) -> Margins:
        """Of the open loop."""
        order = self._rows.shape[1] + self.plant.rows.shape[1] - 2
        if order > FEW or self.gains.observer > 0.0:  # whose roots may be light
            return margins(self.opened)
        T = self.plant.T
        stable, kinds, at, gains = looked(
            self._rows, self.plant.rows, into_left(order), T, *self.plant.looked_at
        )
        return margins_of(kinds, at, gains, T, stable=stable)

    @cached_property
    def _characteristic(self) -> Coefficients:
        return self.opened.feedback().den

    def _closed(self, own: Coefficients, *of_plant: Coefficients) -> Discrete:
        """Return the closed loop with a numerator of its own and those of its plant."""
        return Discrete(times(own, product(*of_plant)), self._characteristic, self.plant.T)

    @cached_property
    def closed(self) -> Discrete:
        """From the speed asked for to the plain measured speed."""
        p, f = self.plant.push, self.plant.following
        return self._reached(self._closed(self.asked(self.gains.weight), f.den, p.num))

    @cached_property
    def effort(self) -> Discrete:
        """From the speed asked for (rad/s) to the current asked for (A)."""
        p, f = self.plant.push, self.plant.following
        return self._reached(self._closed(self.asked(self.gains.weight), f.den, p.den))

    @cached_property
    def ahead(self) -> Discrete:
        """From a current that is fed ahead (A) to the plain measured speed."""
        p, f = self.plant.push, self.plant.following
        return self._closed(self.ways.ahead, f.den, p.num)

    @cached_property
    def ahead_effort(self) -> Discrete:
        """From a current that is fed ahead (A) to the current asked for (A)."""
        p, f = self.plant.push, self.plant.following
        return self._closed(self.ways.ahead, f.den, p.den)

    def _reached(self, way: Discrete) -> Discrete:
        """Return what a way of the speed asked for is with the lag of its reference."""
        return self.lagged.series(way) if self.gains.reference > 0.0 else way

    @cached_property
    def loaded(self) -> Discrete:
        """From a current behind the filters (A), as a load takes it, to the plain speed."""
        return self._disturbed(self.plant.load)

    @cached_property
    def answer(self) -> Discrete:
        """From a current behind the filters (A) to the current asked for (A)."""
        c, f = self.controller, self.plant.following
        return self._closed(c.num, (-1.0,), f.num, self.plant.load.num)

    def _disturbed(self, way: Discrete) -> Discrete:
        c, f = self.controller, self.plant.following
        return self._closed(c.den, way.num, f.den)

    def steps(self, samples: int) -> tuple[Array, Array, Array, Array]:
        """Return what steps of 1 make: of a speed asked for (rad/s), then of a load (A).

        Each is the plain speed (rad/s) and the current asked for (A), (samples,).
        """
        first, sag, _ = self._answers
        if samples > _FIRST:
            first = stepped(self._rows, self.plant.rows[np.newaxis], FIRST, samples)[0]
            sag = first[4]
        speed, push, answer = first[:3, :samples]
        return speed, push, sag[:samples], -answer

    def speeds_on(self, plants: Array, samples: int) -> Array:
        """Return the speed after a step of 1 rad/s on other plants of its kind, each in a row.

        Parameters
        ----------
        plants : the `rows` of each, (plants, 6, order + 1)

        """
        return stepped(self._rows, plants, SPEED, samples)[:, 0]

    def spread(self, over: "Spread") -> tuple[Array, Array]:
        """Return gains (dB) of the open, the closed and the unfiltered loop, and the phase.

        A row each; the phase is that of the open loop, unwrapped, in degrees.
        """
        return spread(self._rows, over.delta, over.plant, over.turned)

    @cached_property
    def _rows(self) -> Array:
        """What the controller makes of its inputs, as `_steps.stepped` has its rows."""
        controller, asked = self.controller, self.asked(self.gains.weight)
        if not self.gains.reference > 0.0:
            return rows(controller.den, controller.num, asked)
        lag = self.lagged
        return rows(times(controller.den, lag.den), times(controller.num, lag.den),
                    times(asked, lag.num))  # fmt: skip

    def tracks_up_to(self, share: float, omega: Array) -> float:
        """Return where (rad/s) along a grid the speed falls below a share of what is asked for.

        The first time; Nyquist where it does not.
        """
        return tracking(self._rows, self.plant.rows, self.plant.T, omega, share)

    @cached_property
    def _answers(self) -> tuple[Array, Array, tuple[float, float, float, float]]:
        """Answers to a step and to a disturbance, and their figures, as `answered` returns them."""
        return answered(self._rows, self.plant.rows, self.plant.jumps[1], (_FIRST, _LASTS))

    @cached_property
    def most_pushed(self) -> float:
        """The most current (A) that a step of 1 rad/s asks for."""
        return self._answers[2][0]

    @cached_property
    def first_volts(self) -> float:
        """The voltage (V) that a step of 1 rad/s makes the current controller begin with."""
        gains, current = self.gains, self.plant.current
        jump = gains.weight * gains.Kp + gains.Ki * self.plant.T
        jump *= reference_share(gains, self.plant.T)
        for one in self.plant.torque_filters:
            jump *= one.num[0] / one.den[0] if len(one.num) == len(one.den) else 0.0
        return jump * (current.pi.Kp + current.pi.Ki * current.plant.Ts)

    @cached_property
    def dip_area(self) -> float:
        """Area of the speed's dip after a step of load of 1 A, rad: the less, the stiffer."""
        return self._answers[2][1] * self.plant.T

    @property
    def is_stable(self) -> bool:
        """Whether all poles of the closed loop lie inside the unit circle."""
        return self.margins.stable

    def ripple(self, count: float) -> float:
        """Return the current (A rms) that the steps of one count (rad) of the angle make.

        A count is wrong by up to half of itself, evenly spread and anew in each sample; what the
        speed makes of it goes through the closed loop (Franklin, Powell and Workman, 3rd ed.,
        section 10.1).
        """
        rest, _ = self.plant.jumps
        _, _, (_, _, alone, shared) = self._answers
        power = shared + rest * alone
        return count / math.sqrt(12.0) * math.sqrt(power)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Spread:
    """What a plant makes of the frequencies that are drawn; it stays while gains are dragged."""

    omega: Array  # rad/s
    hertz: Array
    delta: Complex  # e^(jωT) − 1
    plant: Complex  # (3, frequencies): what is seen, the plain speed, what no filter is in
    turned: Array  # rad, unwrapped phase of what is seen


def spread_of(plant: SpeedPlant, bare: SpeedPlant, low: float, points: int) -> Spread:
    """Return it from `low` (rad/s) up to Nyquist.

    Parameters
    ----------
    bare : the plant without filters

    """
    omega, delta = grid(plant.T, low, points)
    _, seen, turned = plant.seen.on_grid(low, points)
    plain, unfiltered = (way.on_grid(low, points)[1] for way in (plant.push, bare.seen))
    return Spread(omega=omega, hertz=omega / math.tau, delta=delta,
                  plant=np.array([seen, plain, unfiltered]), turned=turned)  # fmt: skip


@lru_cache(maxsize=16)
def loop_of(plant: SpeedPlant, gains: SpeedGains) -> SpeedLoop:
    """Return a loop; kept, since it works out itself what is asked of it again and again."""
    return SpeedLoop(plant, gains)


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
    first, step = float(t[0]), float(t[1] - t[0])
    dip, at, back, area = dip_figures(speed)
    return LoadFigures(dip=dip, dip_at=first + at * step, recovery=first + back * step,
                       IAE=area * step)  # fmt: skip


SHAPED = 6.0  # times the largest step that no limit shapes: beyond, a shape says little of gains


def largest_step(loop: SpeedLoop, limit: float, volts: float) -> float:
    """Return the largest step of speed (rad/s) that neither the current's limit nor the bus shapes.

    The first voltage is what the step of the controller's output jumps the current loop with.

    Parameters
    ----------
    limit : A, of the current asked for
    volts : V, that the bus has left

    """
    most, volt = loop.most_pushed, loop.first_volts
    rooms = [limit / most if most > 0.0 else math.inf, volts / volt if volt > 0.0 else math.inf]
    return max(min(rooms), 0.0)


def tracking_bandwidth(loop: SpeedLoop, omega: Array | None = None) -> float:
    """Return where the speed falls to −3 dB of what is asked for, the first time, rad/s.

    Parameters
    ----------
    omega : rad/s, rising, between which it is looked for; where it is not known, all up to Nyquist

    """
    if omega is None:
        omega = grid(loop.plant.T, 1e-4 / loop.plant.T, 400)[0]
    return loop.tracks_up_to(math.sqrt(0.5), omega)
