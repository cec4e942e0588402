"""Play a scenario on the simulated drive, in chunks: the practice drive's own arithmetic.

Each channel is kept as least, most and mean over bins, so that no peak is lost however long it is.
"""

import math
from bisect import bisect_right
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.numbers import CHANNELS
from oarlock.drive.contract.trips import trip
from oarlock.drive.link import Progress
from oarlock.drive.parameters import parameters
from oarlock.drive.path import piece
from oarlock.drive.steps import (
    Frame,
    Limits,
    Plan,
    Shape,
    SpeedLoop,
    Step,
    Target,
    Wave,
    step_table,
)
from oarlock.errors import InputError
from oarlock.experiments.loops.cascade import gains_for, with_position_loop, with_speed_loop
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.bins import RECORDED, Bins, Tally
from oarlock.rehearse.bridge import bridged
from oarlock.rehearse.events import LOST, Happening
from oarlock.rehearse.memory import refuse_too_large
from oarlock.rehearse.plant import believed_plant, ideal_sensing
from oarlock.rehearse.scenario import Control, PointWave, Scenario, WaveShape
from oarlock.rehearse.supply import supplied
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel, Remembered
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

Array = NDArray[np.float64]
_INSIDE = tuple(k.N_CHANNELS - len(k.INSIDE) + n for n in range(len(k.INSIDE)))
_CHUNK = 4000  # samples at a time: the recorder holds four times as many
_COARSEST = 1.0 / 6.0  # of an electrical turn, that may pass from sample to sample
_FASTEST = 0.25  # of the control frequency, that a wave may have
_SHAPES = {WaveShape.SINE: Shape.SINE, WaveShape.SQUARE: Shape.SQUARE,
           WaveShape.RANDOM: Shape.NOISE, WaveShape.CHIRP: Shape.CHIRP}  # fmt: skip
_TARGETS = {Control.CURRENT: Target.I_Q, Control.SPEED: Target.SPEED,
            Control.POSITION: Target.POSITION}  # fmt: skip
_FRAMES = {Control.CURRENT: Frame.ROTOR, Control.SPEED: Frame.SPEED,
           Control.POSITION: Frame.POSITION}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Moment:
    """A sample from which a run can be played on."""

    sample: int
    state: Remembered
    tally: Tally


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rehearsal:
    """What came of a scenario: each channel over bins, and sums over all samples; SI."""

    scenario: Scenario
    t: Array  # (n,) s, where each bin begins
    mean: Mapping[str, Array]  # (n,) by channel
    least: Mapping[str, Array]
    most: Mapping[str, Array]
    ended: str  # "done", or why it ended early
    trip: int  # number of the trip that ended it; 0: none
    samples: int
    squares: Mapping[str, float]  # mean square over all samples: current, following error, ripple
    saturated: float  # share of the samples with the voltage at its limit
    plant: PlantParameters
    resistance: float  # ohm, of the winding at the end
    burnt: float  # J, that the brake resistor took
    moments: tuple[Moment, ...]  # from which it can be played on

    @property
    def limits(self) -> Array:
        """What the bus gives in each bin, V of a phase, (n,)."""
        found: Array = self.mean["bus"] / math.sqrt(3.0)
        return found


@lru_cache(maxsize=4)  # of many machines that one set of gains is played on
def plan_of(scenario: Scenario, axis: Axis) -> Plan:
    """Return the scenario as the drive would take it, played with the loops of the axis.

    Raises
    ------
    InputError : a loop that it needs has no gains, or asks for more than the machine bears

    """
    frame = _FRAMES[scenario.control]
    times = [point.at for point in scenario.points]
    steps = []
    if times[0] >= axis.inverter.Ts:
        steps.append(Step(duration=times[0], frame=frame, release=True))
    last = min(scenario.gates_off, scenario.duration)
    for point, end in zip(scenario.points, [*times[1:], last], strict=True):
        held = Step(duration=end - point.at, frame=frame, release=True,
                    acceleration=point.acceleration, jerk_time=point.jerk_time,
                    wave=_wave(point.wave, scenario.control))  # fmt: skip
        if scenario.control is Control.CURRENT:
            steps.append(replace(held, i_q=point.value))
        elif scenario.control is Control.SPEED:
            steps.append(replace(held, speed=point.value))
        elif point.on_path:
            steps.append(replace(held, frame=Frame.PATH, distance=point.value, speed=point.speed))
        else:
            steps.append(replace(held, distance=point.value, speed=point.speed))
    if last < scenario.duration:
        steps.append(Step(duration=scenario.duration - last, frame=Frame.OFF, release=True))
    _refuse_beyond(scenario, axis)
    most = axis.peak
    plan = Plan(
        name=scenario.name, steps=tuple(steps), channels=RECORDED, round=True,
        limits=Limits(current=1.2 * most, speed=1.2 * axis.top_speed, travel=1e9,
                      time=scenario.duration + 1.0),
        gains=gains_for(axis), speed=SpeedLoop(limit=most),
    )  # fmt: skip
    if scenario.control is Control.CURRENT:
        return plan
    return with_speed_loop(plan, axis) if scenario.control is Control.SPEED else (
        with_position_loop(plan, axis))  # fmt: skip


def _wave(wave: PointWave | None, control: Control) -> Wave | None:
    if wave is None:
        return None
    return Wave(shape=_SHAPES[wave.shape], target=_TARGETS[control], amplitude=wave.amplitude,
                frequency=wave.frequency, end=wave.until)  # fmt: skip


def _fastest(wave: PointWave, control: Control) -> float:
    """Return what a wave adds to the speed (rad/s) that is asked for, at the most.

    One of position asks for none where it jumps: how fast the axis follows is the loops' matter.
    """
    if control is Control.SPEED:
        return wave.amplitude
    if control is Control.POSITION and wave.shape in (WaveShape.SINE, WaveShape.CHIRP):
        return math.tau * max(wave.frequency, wave.until) * wave.amplitude
    return 0.0


def _refuse_beyond(scenario: Scenario, axis: Axis) -> None:
    m, Ts = axis.machine, axis.inverter.Ts
    supply, bus = scenario.supply, axis.inverter.bus_voltage.value
    if supply is not None and 0.0 < supply.brake_from <= bus:
        raise InputError(f"a brake resistor from {supply.brake_from:g} V on would always burn",
                         place=f"{scenario.name}, supply",
                         remedy=f"The bus has {bus:g} V: switch it on above")  # fmt: skip
    if abs(scenario.start.speed) > axis.top_speed:
        raise InputError(f"{abs(scenario.start.speed) / RPM:.0f} rpm, above the top speed",
                         place=f"{scenario.name}, start",
                         remedy="Begin slower, or correct the top speed")  # fmt: skip
    paths = _on_paths(scenario)
    for n, point in enumerate(scenario.points, 1):
        wave = point.wave or PointWave(shape=WaveShape.SINE, amplitude=0.0)
        if max(wave.frequency, wave.until) > _FASTEST / Ts:
            raise InputError(f"a wave of {max(wave.frequency, wave.until):g} Hz",
                             place=f"{scenario.name}, point {n}",
                             remedy=f"Control at {1.0 / Ts:g} Hz plays up to "
                             f"{_FASTEST / Ts:g} Hz")  # fmt: skip
        speed = paths.get(n) or abs(
            point.value if scenario.control is Control.SPEED else point.speed
        )
        speed += _fastest(wave, scenario.control)
        if speed > axis.top_speed:
            raise InputError(f"{speed / RPM:.0f} rpm, above the top speed",
                             place=f"{scenario.name}, point {n}",
                             remedy="Ask for less, or correct the top speed")  # fmt: skip
        turns = m.pole_pairs.value * speed / math.tau * Ts  # electrical, in a sample
        if turns > _COARSEST:
            raise InputError(f"{turns / Ts:.0f} Hz electrical, {1.0 / turns:.1f} samples a turn",
                             place=f"{scenario.name}, point {n}",
                             remedy=f"It needs {1.0 / _COARSEST:.0f} or more: ask for less speed, "
                             "or control faster")  # fmt: skip
        current = abs(point.value) + wave.amplitude
        if scenario.control is Control.CURRENT and current > axis.peak:
            raise InputError(f"{current:.3g} A, above the peak current",
                             place=f"{scenario.name}, point {n}",
                             remedy="Ask for less, or correct the peak current")  # fmt: skip


def _on_paths(scenario: Scenario) -> dict[int, float]:
    """Return rad/s, the most on the piece of a path that a point begins, by its number."""
    found, begin = {}, 0.0
    for n, (point, following) in enumerate(pairwise(scenario.points), 1):
        if point.on_path:
            found[n] = piece(following.at - point.at, begin, point.value, point.speed).fastest
        begin = point.speed if point.on_path else 0.0
    return found


def begun(plan: Plan, axis: Axis, plant: PlantParameters, *, seed: int = 0) -> DriveModel:
    """Return a simulated drive that has just begun to play a plan, as the axis sets it up."""
    model = DriveModel(plant, seed=seed)
    for name, value in parameters(plan, axis).items():
        if name in k.PLACES:
            model.propose(k.PLACES[name], float(np.float32(value)))
    model.firm[k.TORQUE_TO_CURRENT] = 1.0 / axis.machine.torque_constant
    recorded = tuple(CHANNELS.index(c) for c in plan.channels)
    model.load(step_table(plan, axis.inverter.Ts), recorded + _INSIDE)
    model.start()
    return model


def set_out(scenario: Scenario, axis: Axis, plant: PlantParameters, *, seed: int = 0) -> DriveModel:
    """Return a simulated drive that has just begun to play a scenario, as the axis sets it up."""
    fed = supplied(plant, scenario.supply)
    model = begun(plan_of(scenario, axis), axis, fed, seed=seed)
    model.begin_with(scenario.start.speed, scenario.start.warmer)
    model.pull_by(scenario.pulls)
    return model


@dataclass(frozen=True, slots=True, kw_only=True)
class Outside:
    """What acts on the axis from outside for a while."""

    torque: float  # N·m, backward
    events: Mapping[Happening, float]  # the last of each kind

    def acts_on(self, model: DriveModel) -> None:
        """Let it act from now on."""
        model.load_by(self.torque)
        acts: dict[Happening, Callable[[float], None]] = {
            Happening.BRAKE: model.brake_by, Happening.BUS: model.feed,
            Happening.SENSOR: lambda value: model.lose_sensor(value == LOST),
            Happening.SLIP: model.slip_by, Happening.RUNOUT: model.run_out,
            Happening.OFFSET_A: model.offset_by, Happening.GAIN_A: model.gain_by,
            Happening.OFFSET_B: partial(model.offset_by, sensor=1),
            Happening.GAIN_B: partial(model.gain_by, sensor=1),
            Happening.OPEN: lambda value: model.open_phase(int(value)),
        }  # fmt: skip
        for what, value in self.events.items():
            acts[what](value)


def outside(
    scenario: Scenario, plant: PlantParameters, first: int, until: int
) -> Iterator[tuple[int, int, Outside]]:
    """Go through samples of a scenario in chunks under one thing: (first, end, what acts)."""
    pulls = [(round(one.at / plant.Ts), one.torque) for one in scenario.loads]
    happens = [(round(one.at / plant.Ts), one) for one in scenario.events]
    changes = sorted({sample for sample, _ in pulls} | {sample for sample, _ in happens})
    while first < until:
        held = [torque for sample, torque in pulls[: bisect_right(pulls, (first, math.inf))]][-1:]
        events = {one.what: one.value for at, one in happens if at <= first}
        following = bisect_right(changes, first)
        end = min(first + _CHUNK, until, *changes[following : following + 1])
        yield first, end, Outside(torque=held[-1] if held else plant.load, events=events)
        first = end


class Run:
    """A scenario that is being played on one plant."""

    def __init__(
        self, scenario: Scenario, axis: Axis, plant: PlantParameters, *,
        bridge: Modulation = Modulation.AVERAGED, seed: int = 0,
    ) -> None:  # fmt: skip
        self.scenario, self.plant = scenario, bridged(plant, axis, bridge)
        self.model = set_out(scenario, ideal_sensing(axis, self.plant), self.plant, seed=seed)
        self.bins = Bins(scenario.duration, axis)
        self.at, self.whole = 0, round(scenario.duration / axis.inverter.Ts)  # samples
        self._moments: list[Moment] = []

    def take_over(self, since: Rehearsal | None) -> None:
        """Go on from the last moment at which nothing differs from another run."""
        self._moments = _taken_over(since, self.scenario, self.plant)
        if since is not None and self._moments:
            last = self._moments.pop()
            self.model.go_back(last.state)
            self.bins.resume(last.tally, since.mean, since.least, since.most)
            self.at = last.sample

    def play_on(self, *, progress: Progress | None = None, cancel: Cancel | None = None) -> None:
        """Play to the end, or to where it trips; errors as `rehearse`."""
        model, bins = self.model, self.bins
        for first, until, acting in outside(self.scenario, self.plant, self.at, self.whole):
            if not model.is_running:
                break
            if cancel is not None:
                cancel.check()
            acting.acts_on(model)
            self._moments.append(Moment(sample=first, state=model.remembered(), tally=bins.tally()))
            model.advance(until - first)
            bins.take(model.window(first, model.recorded - first), model)
            if progress is not None:
                progress(until / self.whole, "simulating")

    def result(self) -> Rehearsal:
        """Return what came of it."""
        model, bins = self.model, self.bins
        ended = "done" if not model.trip else f"tripped: {trip(model.trip).words}"
        mean, least, most = bins.columns()
        t = np.arange(mean["iq"].size, dtype=np.float64) * bins.seconds
        return Rehearsal(
            scenario=self.scenario, t=t, mean=mean, least=least, most=most, ended=ended,
            samples=bins.samples, squares=bins.squares, saturated=bins.saturated,
            plant=self.plant, resistance=model.resistance, burnt=model.burnt, trip=model.trip,
            moments=tuple(self._moments),
        )  # fmt: skip


def rehearse(
    scenario: Scenario, axis: Axis, *, progress: Progress | None = None,
    cancel: Cancel | None = None, seed: int = 0, plant: PlantParameters | None = None,
    bridge: Modulation = Modulation.AVERAGED, since: Rehearsal | None = None,
) -> Rehearsal:  # fmt: skip
    """Play a scenario on the machine as the axis describes it. Work for a job.

    A run that trips ends there and is kept.

    Parameters
    ----------
    plant : instead of the machine as the axis describes it
    bridge : averaged, or how it switches
    since : a run of the same axis and seed, whose points may have been others: what is the same is
        taken from it

    Raises
    ------
    InputError : something that it rests on is not known, a loop without gains, beyond limits, a
        carrier that does not fit the control, or more than memory holds
    Cancelled : it is not wanted any more

    """
    refuse_too_large(scenario, axis)
    run = Run(scenario, axis, plant or believed_plant(axis), bridge=bridge, seed=seed)
    run.take_over(since)
    run.play_on(progress=progress, cancel=cancel)
    return run.result()


def _taken_over(
    since: Rehearsal | None, scenario: Scenario, plant: PlantParameters
) -> list[Moment]:
    """Return the moments of a run up to the last at which nothing differs."""
    if since is None or since.plant != plant:
        return []
    if replace(since.scenario, points=()) != replace(scenario, points=()):
        return []
    old, new = since.scenario.points, scenario.points
    same = next((n for n, (a, b) in enumerate(zip(old, new, strict=False)) if a != b),
                min(len(old), len(new)))  # fmt: skip
    differing = [points[same].at for points in (old, new) if same < len(points)]
    wave = new[same - 1].wave if differing and same else None
    if wave is not None and wave.shape is WaveShape.CHIRP:  # it is as steep as its point is long
        differing.append(new[same - 1].at)
    until = min(differing, default=scenario.duration) / plant.Ts - 1.0
    return [one for one in since.moments if one.sample <= until]
