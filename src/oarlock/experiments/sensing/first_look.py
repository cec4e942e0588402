"""A first look at a winding of which nothing is known: R and L, roughly, from small voltages.

Square waves of voltage without a mean along four angles, so fast that the shaft stays where it
is; the voltage grows from nearly nothing until the current is seen. Two levels along each angle
cancel what the dead time takes of L's voltage. Then short pulses, after each of which the current
dies away through the shorted outputs, driven down by R and by the dead time's voltage V:

    i(t) = (i(0) + V / R) exp(-R t / L) - V / R

It is good for sizing what measures R and L, and for nothing else.
"""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.trips import LIMIT_CURRENT
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import play
from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import abort_limits
from oarlock.machine import Axis
from oarlock.machine.unknown import WINDING, is_known
from oarlock.quantities import Estimate, Origin
from oarlock.records import Record

Array = NDArray[np.float64]
NAME = "first look"
_HALF, _LONGEST = 8, 128  # samples of half a wave
_PERIODS = 10
_SEEN, _WANTED, _MOST = 0.12, 0.35, 0.9  # of rated current, peak to peak; where it aborts
_LESS = 0.6  # the second level over the first
_FIRST = 0.004  # of the largest voltage, beyond what the dead time may take
_STRONGEST = 0.6  # of the largest voltage
_ANGLES = (0.0, 0.25 * math.pi, 0.5 * math.pi, 0.75 * math.pi)
_TRIES = 24
LOOKS = 3.0  # s that all of it takes, about
_PULSES, _PULSE, _DIES = 12, 0.5, 0.016  # how many; of rated current; s
_DECAY_ANGLE = _ANGLES[0]
_SLOWEST, _FASTEST = 1.0 / 0.1, 1.0 / 1e-4  # 1/s, between which R/L lies for any machine


@dataclass(frozen=True, slots=True)
class Winding:
    """What was seen: ohm and H, phase, each right to a quarter or so."""

    R: float
    Ld: float
    Lq: float

    def estimates(self) -> dict[str, Estimate]:
        """Return them by path."""
        units = ("ohm", "H", "H")
        return {
            path: Estimate(value=value, std=0.25 * value, unit=unit, origin=Origin.ROUGH)
            for path, value, unit in zip(WINDING, (self.R, self.Ld, self.Lq), units, strict=True)
        }

    def on(self, axis: Axis) -> Axis:
        """Return the axis sized by them."""
        for path, found in self.estimates().items():
            axis = axis.adopting(path, found)
        return axis


def is_wanted(axis: Axis) -> bool:
    """Return whether R or an inductance is neither known nor seen yet."""
    return any(
        not is_known(axis, path) and axis.parameter(path).best.origin is Origin.ASSUMED
        for path in WINDING
    )


def wave_plan(axis: Axis, volts: float, half: int, angle: float) -> Plan:
    """Return a plan of one square wave along `angle` (rad) in the stator's frame."""
    Ts = axis.inverter.Ts
    wave = Wave(shape=Shape.SQUARE, target=Target.V_D, amplitude=volts, frequency=0.5 / (half * Ts))
    held = Step(duration=3 * 2 * half * Ts, frame=Frame.VOLTAGE, angle=angle, wave=wave,
                record=False)  # fmt: skip
    quarter = replace(held, duration=0.5 * half * Ts, i_d=-volts, wave=None)
    steps = (
        quarter,  # so that the current swings about zero
        held,
        replace(held, duration=_PERIODS * 2 * half * Ts, record=True),
        replace(held, duration=0.003, wave=None),
    )
    return _plan(axis, steps, 0.5 * _MOST)


def look(axis: Axis, link: Link, cancel: Cancel, progress: Progress) -> Winding:
    """Return what a winding is like, roughly.

    Raises
    ------
    InputError : no current answers whatever the voltage, or it trips at the smallest
    LinkError, Cancelled : as `play`

    """
    seen = _Looking(axis, link, cancel)
    progress(0.02, "a first look at the winding")
    L = []
    volts, half = _FIRST * axis.inverter.v_max + seen.lost, _HALF
    for n, angle in enumerate(_ANGLES):
        volts, half = seen.raised(volts, half, angle)
        first, second = seen.ripple(volts, half, angle), seen.ripple(_LESS * volts, half, angle)
        L.append((1.0 - _LESS) * volts * half * axis.inverter.Ts / max(first - second, 1e-9))
        progress(0.05 * (n + 1), "a first look at the winding")
    # L(angle) = mean + swing * cos(2 angle - 2 angle of d): over four angles a square's diagonals.
    mean = 0.25 * sum(L)
    swing = min(0.5 * math.hypot(L[0] - L[2], L[1] - L[3]), 0.7 * mean)
    return Winding(R=seen.resistance(L[0]), Ld=mean - swing, Lq=mean + swing)


class _Looking:
    """Square waves on one drive, and what came of them."""

    def __init__(self, axis: Axis, link: Link, cancel: Cancel) -> None:
        self._axis, self._link, self._cancel = axis, link, cancel
        self._rated = axis.rated
        self.most = _STRONGEST * axis.inverter.v_max
        self.lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value

    def ripple(self, volts: float, half: int, angle: float) -> float:
        """Return the current's peak to peak (A) along `angle`; infinite where it was too much."""
        plan = wave_plan(self._axis, min(volts, self.most), half, angle)
        record = play(plan, self._axis, self._link, settings={}, cancel=self._cancel)
        if record.trip == LIMIT_CURRENT.key:
            return math.inf
        if record.ended != "done":
            raise InputError(record.ended, place=NAME, remedy="Look at the power stage")
        cycles = self._along(record, angle)[: _PERIODS * 2 * half].reshape(_PERIODS, 2 * half)
        return float(np.ptp(cycles.mean(axis=0)))

    def _along(self, record: Record, angle: float) -> Array:
        """Return the current (A) along an angle of the stator."""
        read = {phase: record[f"i{phase}"] for phase in "abc"}
        missing = self._axis.inverter.unsensed
        if missing:
            one, other = (read[phase] for phase in "abc" if phase != missing)
            read[missing] = -one - other
        a, b, c = read["a"], read["b"], read["c"]
        alpha, beta = (2.0 * a - b - c) / 3.0, (b - c) / math.sqrt(3.0)
        return np.asarray(alpha * math.cos(angle) + beta * math.sin(angle))

    def raised(self, volts: float, half: int, angle: float) -> tuple[float, int]:
        """Return (V, samples) of a square wave whose current is seen well."""
        low, seen = 0.0, 0.0
        for _ in range(_TRIES):
            seen = self.ripple(volts, half, angle)
            if seen == math.inf or seen > 1.5 * _WANTED * self._rated:
                volts = math.sqrt(max(low, 0.25 * volts) * volts) if low else 0.5 * volts
                continue
            if seen >= _SEEN * self._rated:
                return volts, half
            low = volts
            if volts < self.most:
                volts = min(2.0 * volts, self.most)
            elif half < _LONGEST:
                half *= 2
            else:
                break
        cause = f"{volts:.3g} V make {seen:.2g} A"
        raise InputError(cause, place=NAME, remedy="Is the motor connected, the bus up, and "
                         "rated current right? Enter R and L by hand otherwise")  # fmt: skip

    def resistance(self, L: float) -> float:
        """Return R (ohm) from how the current dies away after pulses."""
        plan = decay_plan(self._axis, L)
        record = play(plan, self._axis, self._link, settings={}, cancel=self._cancel)
        if record.ended != "done":
            raise InputError(record.ended, place=NAME, remedy="Look at the power stage")
        folded = self._along(record, _DECAY_ANGLE)[: _PULSES * (record.rows // _PULSES)]
        signs = np.where(np.arange(_PULSES) % 2, -1.0, 1.0)
        i = np.mean(folded.reshape(_PULSES, -1) * signs[:, None], axis=0)
        t = self._axis.inverter.Ts * np.arange(i.size)
        # The first row was sampled before the pulse ended, and below a quarter the dead time bends.
        low = np.flatnonzero(i[2:] < 0.25 * i[2])
        part = slice(2, 2 + max(int(low[0]) if low.size else i.size, 6))
        return _decayed(t[part] - t[2], i[part], L)


def _decayed(t: Array, i: Array, L: float) -> float:
    """Return R (ohm) by which a current (A) dies away, beside a voltage that does not depend on it.

    Linear in what is looked for: i(0) - i(t) = R/L * (integral of i) + V/L * t.
    """
    swept = np.concatenate([[0.0], np.cumsum(0.5 * (i[1:] + i[:-1]) * np.diff(t))])
    found, *_ = np.linalg.lstsq(np.column_stack([np.ones_like(t), swept, t]), i[0] - i, rcond=None)
    _, rate, slope = (float(x) for x in found)
    if slope < 0.0:  # no voltage drives a current on: it is R alone
        rate = float(np.dot(swept, i[0] - i) / max(np.dot(swept, swept), 1e-30))
    return min(max(rate, _SLOWEST), _FASTEST) * L


def decay_plan(axis: Axis, L: float) -> Plan:
    """Return a plan of pulses to and fro, the outputs shorted after each."""
    Ts, rated = axis.inverter.Ts, axis.rated
    flux, most = _PULSE * rated * L, 0.5 * axis.inverter.v_max
    samples = max(math.ceil(flux / (most * Ts)), 4)
    volts = min(flux / (samples * Ts) + 4.0 / 3.0 * axis.inverter.dead_voltage.value, most)
    short = Step(duration=_DIES, frame=Frame.VOLTAGE, angle=_DECAY_ANGLE)
    steps = []
    for n in range(_PULSES):
        push = volts if n % 2 == 0 else -volts
        steps += [
            replace(short, duration=samples * Ts, i_d=push, record=False),
            short,
            replace(short, duration=_DIES, record=False),
        ]
    return _plan(axis, tuple(steps), 1.6 * _PULSE)


def _plan(axis: Axis, steps: tuple[Step, ...], most: float) -> Plan:
    """Return a plan of steps that aborts above `most` of rated current, or as the shaft moves."""
    return Plan(
        name=NAME,
        steps=steps,
        channels=("t", "ia", "ib", "ic", "theta_m"),
        limits=abort_limits(axis, current=most * axis.rated, turns=0.25,
                            speed=0.25 * axis.top_speed,
                            seconds=sum(step.duration for step in steps)),
        gains=gentle_gains(axis, 100.0),
    )  # fmt: skip
