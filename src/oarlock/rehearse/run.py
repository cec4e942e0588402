"""Play a scenario on the simulated drive, in chunks: the practice drive's own arithmetic.

Each channel is kept as least, most and mean over bins, so that no peak is lost however long it is.
"""

import math
from bisect import bisect_right
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.numbers import CHANNELS
from oarlock.drive.contract.trips import trip
from oarlock.drive.link import Progress
from oarlock.drive.parameters import parameters
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
from oarlock.rehearse.bridge import bridged
from oarlock.rehearse.events import LOST, Happening
from oarlock.rehearse.plant import believed_plant, ideal_sensing
from oarlock.rehearse.scenario import Control, PointWave, Scenario, WaveShape
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel, Remembered
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

Array = NDArray[np.float64]
_RECORDED = ("theta_m", "position_ref", "speed", "speed_ref", "id", "iq", "vd", "vq")
_INSIDE = tuple(k.N_CHANNELS - len(k.INSIDE) + n for n in range(len(k.INSIDE)))
_CHUNK = 8000  # samples at a time: the recorder holds twice as many
_BIN = 1e-3  # s
_LEAST_BINS = 400
_COARSEST = 1.0 / 6.0  # of an electrical turn, that may pass from sample to sample
_FASTEST = 0.25  # of the control frequency, that a wave may have
_SHAPES = {WaveShape.SINE: Shape.SINE, WaveShape.SQUARE: Shape.SQUARE,
           WaveShape.RANDOM: Shape.NOISE, WaveShape.CHIRP: Shape.CHIRP}  # fmt: skip
_TARGETS = {Control.CURRENT: Target.I_Q, Control.SPEED: Target.SPEED}
_FRAMES = {Control.CURRENT: Frame.ROTOR, Control.SPEED: Frame.SPEED,
           Control.POSITION: Frame.POSITION}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Rehearsal:
    """What came of a scenario: each channel over bins, and sums over all samples; SI."""

    scenario: Scenario
    t: Array  # (n,) s, where each bin begins
    mean: Mapping[str, Array]  # (n,) by channel
    least: Mapping[str, Array]
    most: Mapping[str, Array]
    ended: str  # "done", or why it ended early
    samples: int
    squares: Mapping[str, float]  # mean square over all samples: current, following error, ripple
    saturated: float  # share of the samples with the voltage at its limit
    v_max: float  # V
    plant: PlantParameters
    moments: tuple[tuple[int, Remembered], ...]  # samples from which it can be played on


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
                    acceleration=point.acceleration,
                    wave=_wave(point.wave, scenario.control))  # fmt: skip
        if scenario.control is Control.CURRENT:
            steps.append(replace(held, i_q=point.value))
        elif scenario.control is Control.SPEED:
            steps.append(replace(held, speed=point.value))
        else:
            steps.append(replace(held, distance=point.value, speed=point.speed,
                                 jerk_time=point.jerk_time))  # fmt: skip
    if last < scenario.duration:
        steps.append(Step(duration=scenario.duration - last, frame=Frame.OFF, release=True))
    _refuse_beyond(scenario, axis)
    most = axis.peak
    plan = Plan(
        name=scenario.name, steps=tuple(steps), channels=_RECORDED, round=True,
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


def _refuse_beyond(scenario: Scenario, axis: Axis) -> None:
    m, Ts = axis.machine, axis.inverter.Ts
    if abs(scenario.start.speed) > axis.top_speed:
        raise InputError(f"{abs(scenario.start.speed) / RPM:.0f} rpm, above the top speed",
                         place=f"{scenario.name}, start",
                         remedy="Begin slower, or correct the top speed")  # fmt: skip
    for n, point in enumerate(scenario.points, 1):
        wave = point.wave or PointWave(shape=WaveShape.SINE, amplitude=0.0)
        if max(wave.frequency, wave.until) > _FASTEST / Ts:
            raise InputError(f"a wave of {max(wave.frequency, wave.until):g} Hz",
                             place=f"{scenario.name}, point {n}",
                             remedy=f"Control at {1.0 / Ts:g} Hz plays up to "
                             f"{_FASTEST / Ts:g} Hz")  # fmt: skip
        speed = abs(point.value if scenario.control is Control.SPEED else point.speed)
        speed += wave.amplitude if scenario.control is Control.SPEED else 0.0
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
    model = begun(plan_of(scenario, axis), axis, plant, seed=seed)
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
            Happening.SLIP: model.slip_by, Happening.OFFSET_A: model.offset_by,
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


def rehearse(
    scenario: Scenario, axis: Axis, *, progress: Progress | None = None,
    cancel: Cancel | None = None, seed: int = 0, plant: PlantParameters | None = None,
    bridge: Modulation = Modulation.AVERAGED,
) -> Rehearsal:  # fmt: skip
    """Play a scenario on the machine as the axis describes it. Work for a job.

    A run that trips ends there and is kept.

    Parameters
    ----------
    plant : instead of the machine as the axis describes it
    bridge : averaged, or how it switches

    Raises
    ------
    InputError : something that it rests on is not known, a loop without gains, beyond limits, or a
        carrier that does not fit the control
    Cancelled : it is not wanted any more

    """
    plant = bridged(plant or believed_plant(axis), axis, bridge)
    axis = ideal_sensing(axis)
    model = set_out(scenario, axis, plant, seed=seed)
    bins = _Bins(scenario.duration, axis)
    whole = round(scenario.duration / axis.inverter.Ts)
    moments = []
    for first, until, acting in outside(scenario, plant, 0, whole):
        if not model.is_running:
            break
        if cancel is not None:
            cancel.check()
        acting.acts_on(model)
        moments.append((first, model.remembered()))
        model.advance(until - first)
        bins.take(model.window(first, model.recorded - first), model)
        if progress is not None:
            progress(until / whole, "simulating")
    told = trip(model.trip)
    ended = "done" if not model.trip else f"tripped: {told.words}"
    return bins.rehearsal(scenario, ended, plant, tuple(moments))


class _Bins:
    """Gathers least, most and mean over bins, and mean squares, as samples come."""

    def __init__(self, duration: float, axis: Axis) -> None:
        Ts = axis.inverter.Ts
        self._Ts, self._v_max = Ts, axis.inverter.v_max
        width = min(_BIN, duration / _LEAST_BINS)
        self._width = max(round(width / Ts), 1)
        self._left: Array | None = None
        self._made: dict[str, list[Array]] = {"mean": [], "least": [], "most": []}
        self._start: float | None = None
        self._samples, self._over = 0, 0
        self._sums = {"current": 0.0, "following": 0.0, "ripple": 0.0}

    def take(self, rows: NDArray[np.float32], model: DriveModel) -> None:
        """Take the newest samples, (n, 10), in the order of `_RECORDED` and of `k.INSIDE`."""
        table = rows.astype(np.float64)
        if not table.shape[0]:
            return
        if self._start is None:
            self._start = model.began_at
        position = table[:, 0] - self._start
        following = table[:, 1] - position
        amperes, volts = np.hypot(*table[:, 4:6].T), np.hypot(*table[:, 6:8].T)
        shaft, torque = table[:, 8:].T
        power = torque * shaft + 1.5 * model.plant.R * amperes**2
        table = np.column_stack([position, following, table[:, 2:8], shaft, power, amperes, volts])
        self._samples += table.shape[0]
        self._over += int(np.count_nonzero(volts >= 0.999 * self._v_max))
        self._sums["current"] += float(np.sum(amperes**2))
        self._sums["following"] += float(np.sum(following**2))
        layers = table[np.newaxis]
        if model.plant.switches:  # at the sample, least and most until the next one
            layers = np.stack([table, table, table])
            reach = model.reach(model.recorded - table.shape[0], table.shape[0]).astype(np.float64)
            self._sums["ripple"] += float(np.sum(reach[:, k.RIPPLE]))
            _widen(layers, reach)
        if self._left is not None and self._left.shape[1]:
            layers = np.concatenate([self._left, layers], axis=1)
        whole = layers.shape[1] // self._width
        cut = layers[:, : whole * self._width]
        self._keep(cut.reshape(cut.shape[0], whole, self._width, cut.shape[2]))
        self._left = layers[:, whole * self._width :]

    def _keep(self, cut: Array) -> None:
        """Keep bins, (layers, n, samples of a bin, channels)."""
        self._made["mean"].append(cut[0].mean(axis=1))
        self._made["least"].append(cut[len(cut) // 2].min(axis=1, initial=math.inf))
        self._made["most"].append(cut[-1].max(axis=1, initial=-math.inf))

    def rehearsal(
        self, scenario: Scenario, ended: str, plant: PlantParameters,
        moments: tuple[tuple[int, Remembered], ...],
    ) -> Rehearsal:  # fmt: skip
        """Return all of it; the last bin may be shorter than the others."""
        if self._left is not None and self._left.shape[1]:
            self._keep(self._left[:, np.newaxis])
        made = {name: np.concatenate(parts) if parts else np.zeros((0, len(COLUMNS)))
                for name, parts in self._made.items()}  # fmt: skip
        many = max(self._samples, 1)
        n = made["mean"].shape[0]
        columns = {name: dict(zip(COLUMNS, table.T, strict=True)) for name, table in made.items()}
        t = np.arange(n, dtype=np.float64) * (self._width * self._Ts)
        return Rehearsal(
            scenario=scenario, t=t, mean=columns["mean"],
            least=columns["least"], most=columns["most"], ended=ended, samples=self._samples,
            squares={name: total / many for name, total in self._sums.items()},
            saturated=self._over / many, v_max=self._v_max, plant=plant, moments=moments,
        )  # fmt: skip


def _widen(layers: Array, reach: NDArray[np.float64]) -> None:
    """Have least and most reach as far as a switching bridge drives the currents."""
    _, least, most = layers
    for name, low, high in (("id", k.D_LEAST, k.D_MOST), ("iq", k.Q_LEAST, k.Q_MOST)):
        at = COLUMNS.index(name)
        least[:, at] = np.minimum(least[:, at], reach[:, low])
        most[:, at] = np.maximum(most[:, at], reach[:, high])
    at = COLUMNS.index("amperes")
    most[:, at] = np.maximum(most[:, at], reach[:, k.SIZE_MOST])


UNITS = {"position": "rad", "following": "rad", "speed": "rad/s", "speed_ref": "rad/s", "id": "A",
         "iq": "A", "vd": "V", "vq": "V", "shaft": "rad/s", "power": "W", "amperes": "A",
         "volts": "V"}  # fmt: skip
# The shaft's own speed, which a faulty sensor does not tell; what the bus gives: the shaft's power
# and the copper's loss, without what the windings store and give back; size of the current vector,
# and of the voltage vector.
COLUMNS = tuple(UNITS)
