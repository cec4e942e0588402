"""What the Speed loop stage shows: sentences, curves, figures; pure functions of an axis."""

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control.current import verdict
from oarlock.control.figures import StepFigures, step_figures
from oarlock.control.margins import Margins, margins
from oarlock.control.shaft import rests_on
from oarlock.control.speed import (
    LoadFigures,
    SpeedLoop,
    largest_step,
    load_figures,
    tracking_bandwidth,
)
from oarlock.control.speed_design import (
    MARGIN,
    Turning,
    design_on,
    plant_of,
    speed_gains,
    speed_target,
)
from oarlock.control.speed_gains import AIMS, Wanted, reach, stiffest
from oarlock.control.speed_plant import SpeedPlant
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_test import current_limit, span_of, usual_load, usual_speed
from oarlock.machine import Axis, SensorKind
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.loop import Loop, alike
from oarlock.machine.speed_loop import FAST, KEY, SpeedGains, SpeedTarget
from oarlock.quantities.display import digits, whole_degrees
from oarlock.quantities.kinds import RPM
from oarlock.records.settings import number, table
from oarlock.views.screen import SpeedSettings
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State

Array = NDArray[np.float64]
LOWEST = 2.0  # Hz, where the frequency plots begin
_POINTS = 180
_TOLERANCE = 0.10  # of an inertia without a stated uncertainty
STEP, LOAD = "speed step", "load step"


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
    ripple: float  # A rms, of one count; 0: no count is known
    count: float  # rad
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
            "unstable": f"{hertz} is unstable",
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
        share = f"It uses {100 * self.used:.0f} % of the stiffness that this margin allows"
        return first, f"{share} with these filters."

    @property
    def _resonance(self) -> str:
        at = self.loop.plant.shaft.resonance / math.tau
        return (
            f"The shaft's resonance at {at:.0f} Hz needs a notch, or a slower loop." if at else ""
        )


@dataclass(frozen=True, slots=True, eq=False)
class _Base:
    """What does not change while a handle is dragged."""

    plant: SpeedPlant
    light: SpeedPlant  # with the least inertia that it may be
    heavy: SpeedPlant
    bare: SpeedPlant  # without filters
    reaches: tuple[float, float, float]


def _stripped(axis: Axis) -> Axis:
    """Return the axis without what a drag changes."""
    inner = axis.loops.only(("current",))
    return replace(axis, loops=inner.having(KEY, Loop(filters=axis.loops[KEY].filters)))


@lru_cache(maxsize=8)
def _base(axis: Axis, speed: float) -> _Base:
    turning = Turning(speed=speed)
    plant = plant_of(axis, turning=turning)
    J = axis.machine.inertia
    off = 2.0 * J.std / J.value if J is not None and J.std else _TOLERANCE
    shaft = plant.shaft
    sizes = [
        replace(plant, shaft=replace(shaft, motor=r * shaft.motor, load=r * shaft.load,
                                     stiffness=r * shaft.stiffness))
        for r in (1.0 - off, 1.0 + off)
    ]  # fmt: skip
    sixty, fortyfive, thirty = (
        reach(plant, math.radians(degrees)) / math.tau for degrees in (60.0, 45.0, 30.0)
    )
    return _Base(plant, sizes[0], sizes[1], plant_of(axis, turning=turning, filters=()),
                 (sixty, fortyfive, thirty))  # fmt: skip


@lru_cache(maxsize=16)
def _stiffest_gain(axis: Axis, speed: float, degrees: int) -> float:
    """Return the largest Ki that a margin allows with the axis's filters; NaN: none does."""
    found = stiffest(_base(axis, speed).plant, Wanted(margin=math.radians(max(degrees, 30))))
    return found.gains.Ki if found else math.nan


def settled(settings: SpeedSettings, axis: Axis) -> tuple[float, float, float]:
    """Return (speed, step, torque) of the test as it was set, or what suits the axis.

    rad/s, rad/s and N·m.
    """
    speed = usual_speed(axis) if settings.speed is None else settings.speed
    step = 0.1 * speed if settings.amplitude is None else settings.amplitude
    torque = usual_load(axis) if settings.torque is None else settings.torque
    return speed, step, torque


def designed(axis: Axis, target: SpeedTarget, speed: float) -> SpeedGains:
    """Return the gains that a target asks for where the axis turns at `speed`, rad/s.

    Raises
    ------
    InputError : nothing to design on yet, or what cannot be met

    """
    base, old = _base(_stripped(axis), speed), speed_gains(axis)
    found = design_on(base.plant, target, axis.machine.rated_current.value).gains
    if old is None:
        return found
    return replace(found, weight=old.weight, acceleration=old.acceleration)


@lru_cache(maxsize=8)
def picture(axis: Axis, settings: SpeedSettings) -> SpeedPicture:
    """Return the picture of the loop with the gains in use, or with those that are asked for.

    Raises
    ------
    InputError : nothing to design on yet, or a target that cannot be met where no gains are in use

    """
    speed, amplitude, torque = settled(settings, axis)
    bare = _stripped(axis)
    base, gains, follows = _base(bare, speed), speed_gains(axis), False
    try:
        wanted = designed(axis, speed_target(axis), speed)
        follows = gains is None or alike(gains, wanted)
        gains = gains or wanted
    except InputError:
        if gains is None:
            raise
    loop = SpeedLoop(base.plant, gains)
    found, T = loop.margins, loop.plant.T
    samples = int(span_of(loop) / T) + 1
    t = np.arange(samples, dtype=np.float64) * T
    response, sag = loop.closed.step(samples), loop.loaded.step(samples)
    amperes = torque / axis.machine.torque_constant
    low, high = (SpeedLoop(one, gains).closed.step(samples) for one in (base.light, base.heavy))
    omega, opened, phase = loop.opened.on_grid(math.tau * LOWEST, _POINTS)
    _, without, _ = SpeedLoop(base.bare, gains).opened.on_grid(math.tau * LOWEST, _POINTS)
    limit, count = current_limit(axis), count_of(axis)
    margin = math.degrees(found.phase_margin)
    most = _stiffest_gain(bare, speed, round(margin)) if found.stable else math.nan
    return SpeedPicture(
        loop=loop, gains=gains, follows=follows, margins=found,
        crossover=found.crossover / math.tau,
        bandwidth=tracking_bandwidth(loop) / math.tau,
        phase_margin=margin,
        gain_margin=_decibels(found.gain_margin),
        nyquist=0.5 / T,
        reaches=base.reaches,
        current=margins(loop.plant.current.opened).crossover / math.tau,
        used=min(gains.Ki / most, 1.0) if most > 0.0 else 0.0,
        turning=speed, t=t,
        speed=amplitude * response,
        band=(amplitude * np.minimum(low, high), amplitude * np.maximum(low, high)),
        push=amplitude * loop.effort.step(samples),
        sag=-amperes * sag,
        sag_push=-amperes * loop.answer.step(samples),
        amplitude=amplitude, torque=torque, amperes=amperes, limit=limit,
        linear_up_to=largest_step(loop, limit),
        figures=step_figures(t, response),
        load=load_figures(t, amperes * sag),
        ripple=loop.ripple(count, 400) if count else 0.0,
        count=count,
        f=omega / math.tau,
        open_gain=_gain(opened),
        closed_gain=_gain(loop.closed.on_grid(math.tau * LOWEST, _POINTS)[1]),
        bare_gain=_gain(without),
        phase=np.degrees(phase),
        filters=axis.loops[KEY].filters,
    )  # fmt: skip


def _gain(response: NDArray[np.complex128]) -> Array:
    return 20.0 * np.log10(np.maximum(np.abs(response), 1e-9))


def _decibels(ratio: float) -> float:
    return 20.0 * math.log10(ratio) if math.isfinite(ratio) else math.inf


def count_of(axis: Axis) -> float:
    """Return the angle of one count of the sensor (rad, mechanical); 0: none is known."""
    sensor = axis.sensor
    if sensor.kind is SensorKind.ENCODER:
        return math.tau / sensor.counts.value
    if sensor.kind is SensorKind.RESOLVER:  # one step of a converter of 12 bits, at 0.8 of range
        return 1.0 / (2048.0 * 0.8 * sensor.pairs.value)
    return 0.0


# What the user gives, as text and back

TARGET_LABELS = {
    "crossover": ("Crossover", "Hz", math.tau),
    "bandwidth": ("Bandwidth", "Hz", math.tau),
    "dip": ("Dip, rated", "rpm", RPM),
    "phase_margin": ("Phase margin", "°", math.pi / 180.0),
}


def target_texts(shown: SpeedPicture, axis: Axis) -> dict[str, str]:
    """Return each figure that may be given, as text in the unit of `TARGET_LABELS`."""
    rated = axis.machine.rated_current.value
    return {
        "crossover": digits(shown.crossover, 3),
        "bandwidth": digits(shown.bandwidth, 3),
        "dip": digits(shown.load.dip / shown.amperes * rated / RPM, 3),
        "phase_margin": whole_degrees(shown.phase_margin, 1),
    }


def target_from(axis: Axis, name: str, text: str) -> SpeedTarget:
    """Return the target that a typed number asks for; what goes together with it is kept.

    Raises
    ------
    InputError : not a number above zero

    """
    label, unit, scale = TARGET_LABELS[name]
    cleaned = text.replace(unit, "").replace("deg", "").strip()
    try:
        value = float(cleaned) * scale
    except ValueError as error:
        example = {"Hz": "35", "rpm": "20", "°": "55"}[unit]
        raise InputError(f"'{text}' is not a number", place=label,
                         remedy=f"Write it like '{example}'") from error  # fmt: skip
    if not (value > 0.0 and math.isfinite(value)):
        raise InputError(f"{text} must be above zero", place=label)
    return with_figure(speed_target(axis), name, value)


def with_figure(target: SpeedTarget, name: str, value: float) -> SpeedTarget:
    """Return a target with one figure given; of the fast ones it is the only one."""
    if name == "phase_margin":
        return replace(target, phase_margin=value)
    kept = target.phase_margin or MARGIN
    return SpeedTarget(**{name: value}, phase_margin=kept)


def aimed(name: str) -> SpeedTarget:
    """Return the target of an aim: calm, even or keen."""
    return SpeedTarget(phase_margin=AIMS[name].margin)


def aim_of(target: SpeedTarget) -> str:
    """Return which aim a target is, or nothing."""
    if any(getattr(target, name) is not None for name in FAST):
        return ""
    margin = target.phase_margin or MARGIN
    return next((n for n, a in AIMS.items() if abs(a.margin - margin) < 1e-9), "")


def dragged(axis: Axis, hertz: float, shown: SpeedPicture) -> SpeedTarget:
    """Return the target of a dragged handle, held where the delays still leave its margin."""
    margin = speed_target(axis).phase_margin or MARGIN
    most = 0.995 * reach(shown.loop.plant, margin) / math.tau
    return SpeedTarget(crossover=math.tau * min(max(hertz, 0.3), most), phase_margin=margin)


# Filters

MOST_FILTERS = 4  # in the torque path, as a drive has them


def new_notch(axis: Axis) -> Filter:
    """Return a notch for the shaft's resonance: a little below it, where it errs least."""
    at = axis.mechanics.resonance.value
    return Filter(path="torque", kind=FilterKind.NOTCH, frequency=0.95 * at or math.tau * 200.0,
                  width=1.0, depth=0.05)  # fmt: skip


def new_low_pass(shown: SpeedPicture) -> Filter:
    """Return a low pass far above the crossover."""
    hertz = min(10.0 * shown.crossover, 0.5 * shown.nyquist)
    return Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=math.tau * hertz)


def with_filters(axis: Axis, filters: tuple[Filter, ...]) -> Axis:
    """Return the axis with other filters of its speed loop."""
    return replace(axis, loops=axis.loops.having(KEY, replace(axis.loops[KEY], filters=filters)))


def filter_title(one: Filter) -> str:
    """Return what a filter is, in a few words."""
    hertz = digits(one.frequency / math.tau, 3)
    if one.kind is FilterKind.NOTCH:
        depth = 20.0 * math.log10(max(one.depth, 1e-6))
        return f"notch {hertz} Hz, {depth:.0f} dB".replace("-", "−")
    return f"{'low pass' if one.kind is FilterKind.LOW_PASS else 'lead'} {hertz} Hz"


# The rail


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    axis = now.axis
    if speed_gains(axis) is None:
        waits = axis.gains is None or axis.machine.inertia is None
        basis = "after current loop, inertia" if waits else "not designed"
        return _stage("no gains yet", basis, State.EMPTY)
    try:
        shown = picture(axis, now.screen.speed)
    except InputError as error:
        return _stage("no answer", error.cause, State.ATTENTION)
    line = f"{digits(shown.crossover, 3)} Hz, {whole_degrees(shown.phase_margin)}° margin"
    if not shown.margins.stable:
        return _stage(line, "unstable", State.ATTENTION)
    proofs = [found for found in (now.tested(STEP), now.tested(LOAD)) if found]
    if not proofs:
        old = now.latest(STEP) or now.latest(LOAD)
        state = State.STALE if old else State.EMPTY
        return _stage(line, "stale: gains changed" if old else "not verified", state)
    if not all(reading.holds for _, reading in proofs):
        return _stage(line, "test differs from plan", State.ATTENTION)
    if _moved(now):
        return _stage(line, "stale: machine changed", State.STALE)
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
