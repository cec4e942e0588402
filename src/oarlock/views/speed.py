"""What the Speed loop stage shows: sentences, curves, figures; pure functions of an axis."""

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.current import verdict
from oarlock.control.figures import StepFigures, step_figures
from oarlock.control.margins import Margins
from oarlock.control.speed import (
    SHAPED,
    LoadFigures,
    SpeedLoop,
    largest_step,
    load_figures,
    loop_of,
    tracking_bandwidth,
)
from oarlock.control.speed_design import (
    Turning,
    design_speed,
    observing,
    speed_gains,
    speed_target,
    usual_speed,
    with_pi,
    without_pi,
)
from oarlock.control.speed_gains import reach
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_test import (
    span_of,
    step_within,
    usual_load,
    usual_step,
)
from oarlock.machine import Axis
from oarlock.machine.axis import rests_on
from oarlock.machine.filters import Filter
from oarlock.machine.loop import alike
from oarlock.machine.speed_loop import KEY, SpeedGains, SpeedTarget
from oarlock.quantities.display import digits, whole_degrees
from oarlock.quantities.kinds import RPM
from oarlock.quantities.preferred import R10, at_least
from oarlock.records.settings import number, table
from oarlock.views.current import UNSTABLE
from oarlock.views.screen import SpeedSettings
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed_base import Base, base_of, used
from oarlock.views.stage import BEING_READ, Stage, State

Array = NDArray[np.float64]
_HALF_POWER = 10.0 * math.log10(0.5)  # dB
STEP, LOAD = "speed step", "load step"
_NO_LOAD = LoadFigures(dip=math.nan, dip_at=math.nan, recovery=math.nan, IAE=math.nan)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpeedPicture:
    """One state of the speed loop, ready to be drawn; frequencies in Hz, angles in degrees."""

    loop: SpeedLoop
    gains: SpeedGains
    follows: bool  # the gains are those that the target asks for
    margins: Margins
    crossover: float
    bandwidth: float
    phase_margin: float
    gain_margin: float  # dB
    nyquist: float
    reaches: tuple[float, float, float]  # crossovers (Hz) up to which 60°, 45°, 30° can be had
    current: float  # crossover of the current loop
    used: float  # share of the stiffness that this margin allows with the filters there are
    turning: float  # rad/s, the speed it is looked at
    t: Array  # s
    speed: Array  # rad/s, deviation after the step
    band: tuple[Array, Array]  # rad/s, how far the inertia's uncertainty moves it
    push: Array  # A asked for
    sag: Array  # rad/s, deviation after the load
    sag_push: Array  # A
    amplitude: float  # rad/s
    torque: float  # N·m
    amperes: float  # A, of that torque
    limit: float  # A
    linear_up_to: float  # rad/s
    figures: StepFigures
    load: LoadFigures
    ripple: float  # A rms, that the sensor's steps make
    shakes: bool  # the sensor's steps shake the torque about as much as they may
    shaped: bool  # a limit would shape the step that is set
    f: Array  # Hz
    open_gain: Array  # dB
    closed_gain: Array  # dB
    bare_gain: Array  # dB, without filters
    phase: Array  # degrees
    filters: tuple[Filter, ...]

    @property
    def verdict(self) -> str:
        """Good, brisk, risky, refused or unstable."""
        return verdict(math.radians(self.phase_margin)) if self.margins.stable else "unstable"

    @property
    def answer(self) -> str:
        """The stage's answer in a few words."""
        hertz = f"{digits(self.crossover, 3)} Hz"
        left = f"{whole_degrees(self.phase_margin)}°"
        return {
            "unstable": f"{hertz} is unstable" if math.isfinite(self.crossover) else UNSTABLE,
            "good": f"{hertz}, with {left} to spare",
            "brisk": f"{hertz}, with {left} to spare",
            "risky": f"{hertz} is risky: {left} left",
            "refused": f"{hertz} is too fast: {left} left",
        }[self.verdict]

    @property
    def reasons(self) -> tuple[str, str]:
        """What it does to a load, and what sets the limit."""
        pulled = f"A load of {digits(self.torque, 2)} N·m pulls it down by "
        first = f"{pulled}{digits(self.load.dip / RPM, 2)} rpm"
        if math.isfinite(self.load.recovery):
            first += f"; {1e3 * self.load.recovery:.0f} ms later it is back."
        if not self.margins.stable:
            return "It would swing up.", self._resonance or "Ask for less."
        if self.shakes:
            return first, "The sensor's steps set the limit: they shake the torque."
        share = f"It uses {100 * self.used:.0f} % of the stiffness that this margin allows"
        return first, f"{share} with these filters."

    @property
    def _resonance(self) -> str:
        at = self.loop.plant.shaft.resonance / math.tau
        return (
            f"The shaft's resonance at {at:.0f} Hz needs a notch, or a slower loop." if at else ""
        )


def _fallen(omega: Array, gain: Array) -> Array | None:
    """Return between which two frequencies a gain (dB) falls by 3 dB; None: not within those."""
    first = int((gain < _HALF_POWER).argmax())
    return omega[first - 1 : first + 1] if first else None


def _gains_shown(axis: Axis, speed: float) -> tuple[SpeedGains, bool]:
    """Return the gains in use, or those that are asked for; and whether both are the same."""
    gains = speed_gains(axis)
    try:
        wanted = designed(axis, speed_target(axis), speed)
    except InputError:
        if gains is None:
            raise
        return gains, False
    return gains or wanted, gains is None or alike(gains, wanted)


def _round(step: float) -> float:
    """Return a step (rad/s) of two digits in rpm."""
    rpm = step / RPM
    return float(f"{rpm:.2g}") * RPM if rpm > 0.0 else 0.0


def settled(settings: SpeedSettings, axis: Axis) -> tuple[float, float, float]:
    """Return (speed, step, torque) of the test as it was set, or what suits the axis.

    rad/s, rad/s and N·m; a step that no limit shapes much, where gains are known.
    """
    speed, torque = worked_at(settings, axis)
    if settings.amplitude is not None:
        step = settings.amplitude
    elif speed_gains(axis) is not None and axis.gains is not None and axis.machine.inertia:
        step = _round(usual_step(axis, speed))
    else:
        step = 0.1 * speed
    return speed, step, torque


def worked_at(settings: SpeedSettings, axis: Axis) -> tuple[float, float]:
    """Return (speed in rad/s, torque in N·m) of the test."""
    speed, torque = _usual(without_pi(axis))
    return (
        speed if settings.speed is None else settings.speed,
        torque if settings.torque is None else settings.torque,
    )


@lru_cache(maxsize=8)
def _usual(bare: Axis) -> tuple[float, float]:
    return usual_speed(bare), usual_load(bare)


def designed(axis: Axis, target: SpeedTarget, speed: float) -> SpeedGains:
    """Return the gains that a target asks for where the axis turns at `speed`, rad/s.

    Raises
    ------
    InputError : nothing to design on yet, or what cannot be met

    """
    old = speed_gains(axis)
    found = _designed(without_pi(axis), target, speed, observing(axis, old))
    return found if old is None else with_pi(old, found)


@lru_cache(maxsize=32)
def _designed(bare: Axis, target: SpeedTarget, speed: float, beside: SpeedGains) -> SpeedGains:
    base, turning = base_of(bare, speed), Turning(speed=speed)
    return design_speed(bare, target, turning=turning, plant=base.plant, beside=beside).gains


def farthest(axis: Axis, speed: float, margin: float) -> float:
    """Return the crossover (rad/s) up to which a margin (rad) can be had."""
    return _farthest(without_pi(axis), speed, margin)


@lru_cache(maxsize=32)
def _farthest(bare: Axis, speed: float, margin: float) -> float:
    return reach(base_of(bare, speed).plant, margin)


@lru_cache(maxsize=8)
def picture(axis: Axis, settings: SpeedSettings) -> SpeedPicture:
    """Return the picture of the loop with the gains in use, or with those that are asked for.

    Raises
    ------
    InputError : nothing to design on yet, or a target that cannot be met where no gains are in use

    """
    speed, torque = worked_at(settings, axis)
    bare = without_pi(axis)
    base = base_of(bare, speed)
    gains, follows = _gains_shown(axis, speed)
    loop = loop_of(base.plant, gains)
    found, T = loop.margins, loop.plant.T
    room = base.limit, base.volts
    linear = largest_step(loop, *room)
    amplitude = settings.amplitude or _round(step_within(loop, *room, speed))
    samples = int(_drawn(loop) / T) + 1
    t = _times(samples, T)
    response, push, sag, answer = loop.steps(samples)
    amperes = torque / base.per_ampere
    light, heavy = amplitude * loop.speeds_on(base.others, samples)
    (opened, closed, without), phase = loop.spread(base.spread)
    margin = math.degrees(found.phase_margin)
    return SpeedPicture(
        loop=loop, gains=gains, follows=follows, margins=found,
        crossover=found.crossover / math.tau,
        bandwidth=tracking_bandwidth(loop, _fallen(base.spread.omega, closed)) / math.tau,
        phase_margin=margin,
        gain_margin=_decibels(found.gain_margin),
        nyquist=0.5 / T,
        reaches=base.reaches,
        current=base.current / math.tau,
        used=used(bare, speed, loop),
        turning=speed, t=t,
        speed=amplitude * response,
        band=(np.minimum(light, heavy), np.maximum(light, heavy)),
        push=amplitude * push,
        sag=-amperes * sag,
        sag_push=-amperes * answer,
        amplitude=amplitude, torque=torque, amperes=amperes, limit=base.limit,
        linear_up_to=linear if found.stable else math.nan,
        figures=step_figures(t, response),
        load=load_figures(t, amperes * sag) if found.stable else _NO_LOAD,
        ripple=_ripple(loop, base),
        shakes=gains.Kp * base.noise > 0.97 * base.most_shaken,
        shaped=abs(amplitude) > SHAPED * linear,
        f=base.spread.hertz,
        open_gain=opened,
        closed_gain=closed,
        bare_gain=without,
        phase=phase,
        filters=axis.loops[KEY].filters,
    )  # fmt: skip


@lru_cache(maxsize=4)
def _times(samples: int, T: float) -> Array:
    """Return the times (s) of samples; not to be changed."""
    return np.arange(samples, dtype=np.float64) * T


def _drawn(loop: SpeedLoop) -> float:
    """Return how much time (s) is drawn: a preferred number, that stands while one drags."""
    return at_least(span_of(loop), R10)


def _ripple(loop: SpeedLoop, base: Base) -> float:
    """Return the current (A rms) that the sensor's steps make; of a loop that swings up none is."""
    if not loop.is_stable:
        return math.inf
    return loop.ripple(base.count) if base.count else loop.gains.Kp * base.noise


def _decibels(ratio: float) -> float:
    return 20.0 * math.log10(ratio) if math.isfinite(ratio) else math.inf


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage, where the loop has gains."""
    axis = now.axis
    try:
        shown = picture(axis, now.screen.speed)
    except InputError:
        return _stage("no answer", "open it to see why", State.ATTENTION)
    line = f"{digits(shown.crossover, 3)} Hz, {whole_degrees(shown.phase_margin)}° margin"
    if not shown.margins.stable:
        return _stage(line, "unstable", State.ATTENTION)
    proofs = [found for found in (now.tested(STEP), now.tested(LOAD)) if found]
    if not proofs and now.is_being_read(STEP, LOAD):
        return _stage(line, BEING_READ, State.EMPTY)
    if not proofs:
        old = now.latest(STEP) or now.latest(LOAD)
        state = State.STALE if old else State.EMPTY
        return _stage(line, "stale: gains changed" if old else "not verified", state)
    if not all(reading.holds for _, reading in proofs):
        return _stage(line, "test differs from plan", State.ATTENTION)
    if _moved(now):
        return _stage(line, "stale: new machine", State.STALE)
    return _stage(line, f"verified {proofs[0][0].started[11:16]}", State.VALID)


def _stage(line: str, basis: str, state: State) -> Stage:
    return Stage(key="speed", name="Speed loop", line=line, basis=basis,
                 measured=state is State.VALID, state=state)  # fmt: skip


def _moved(now: Snapshot) -> bool:
    """Return whether what the prediction rests on has changed since the newest proof."""
    found = now.tested(STEP) or now.tested(LOAD)
    if found is None:
        return False
    plant, today = table(found[0].settings, "plant"), rests_on(now.axis)
    return any(
        abs(number(plant, key, value) - value) > 1e-9 * abs(value) for key, value in today.items()
    )
