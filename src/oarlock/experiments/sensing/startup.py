"""Running without a sensor: start-up settings and the flux observer, proposed, simulated, tried.

The field turns by force until the back-EMF is large enough for the observer; there the angle
is handed over, and back again, lower, when it slows down. What the observer is wrong by is
what the dead time and the resistance are wrong by, over the back-EMF.
"""

import math
from dataclasses import asdict, dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.drive.steps import Frame, Plan, SpeedLoop, Step, step_table
from oarlock.drive.travel import excursion
from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrapped
from oarlock.experiments.common.field import field_ramp, forcing_current
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.sensing.evidence import Start
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.kinds import RPM
from oarlock.records import Check, Finding, Plain, Record
from oarlock.records.settings import number

if TYPE_CHECKING:
    from oarlock.simulate.drive_model import DriveModel

Array = NDArray[np.float64]
ANGLE = math.radians(12.0)  # electrical: what the observer may be wrong by at hand-over
_DEAD_UNKNOWN, _R_UNKNOWN = 0.35, 0.25  # of the dead-time voltage, of R: cold to hot


@dataclass(frozen=True, slots=True, kw_only=True)
class StartSettings:
    """How to start and run without a sensor; SI, electrical speeds."""

    current: float  # A, along the forced field
    rise: float  # s
    ramp: float  # s, from rest to hand-over
    hand_over: float  # rad/s, to the observer
    hand_back: float  # rad/s, from it
    dwell: float  # s, at hand-over before the observer is believed
    bandwidth: float  # rad/s, of the observer
    Kp: float  # A·s/rad, of the speed controller
    Ki: float  # A/rad


def propose(axis: Axis, *, breakaway: float = 0.0) -> StartSettings:
    """Return settings that follow from the machine.

    Parameters
    ----------
    breakaway : N·m, as found by the forced turn; 0: unknown

    Raises
    ------
    InputError : no inertia is known

    """
    m = axis.machine
    if m.inertia is None:
        raise InputError("the inertia is not known", place="start without a sensor",
                         remedy="Enter one in Machine")  # fmt: skip
    rated = axis.rated
    current = min(max(0.4 * rated, 3.0 * breakaway / m.torque_constant), forcing_current(axis))
    unknown = _DEAD_UNKNOWN * 4.0 / 3.0 * axis.inverter.dead_voltage.value
    unknown += _R_UNKNOWN * m.R.value * current
    hand_over = unknown / (math.sin(ANGLE) * m.psi.value)
    hand_over = min(hand_over, 0.4 * axis.top_speed * m.pole_pairs.value)
    mechanical = hand_over / m.pole_pairs.value
    torque = 0.3 * m.torque_constant * current
    ramp = max(m.inertia.value * mechanical / torque, 0.4)
    Kp = m.inertia.value * 25.0 / m.torque_constant
    first = StartSettings(
        current=current,
        rise=0.4,
        ramp=ramp,
        hand_over=hand_over,
        hand_back=0.7 * hand_over,
        dwell=0.2,
        bandwidth=max(0.5 * hand_over, 60.0),
        Kp=Kp,
        Ki=Kp * 6.0,
    )
    return _faster(axis, first)


def _faster(axis: Axis, start: StartSettings) -> StartSettings:
    """Raise the hand-over speed until the simulated observer is right there, within `ANGLE`."""
    top = 0.5 * axis.top_speed * axis.machine.pole_pairs.value
    for _ in range(6):
        back = float(simulated_error(axis, start, np.array([start.hand_back]))[0])
        if back <= ANGLE or start.hand_over >= top:
            break
        hand_over = min(1.25 * start.hand_over, top)
        start = replace(
            start,
            hand_over=hand_over,
            hand_back=0.7 * hand_over,
            ramp=start.ramp * 1.25,
            bandwidth=max(0.5 * hand_over, 60.0),
        )
    return start


@dataclass(frozen=True, slots=True, kw_only=True)
class StartWithoutSensor:
    """Start, hand over to the observer, run, hand back and stop; both ways."""

    name: ClassVar[str] = "start without sensor"
    start: StartSettings
    run: float = 0.6  # s, on the observer
    faster: float = 1.6  # of the hand-over speed

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        s = self.start
        pairs = axis.machine.pole_pairs.value
        steps: list[Step] = []
        for way in (1.0, -1.0):
            hold = Step(duration=s.rise / 10.0, frame=Frame.FIXED, angle=-0.5 * math.pi * way,
                        release=True)  # fmt: skip
            steps += [replace(hold, i_d=s.current * (n + 1) / 10.0) for n in range(10)]
            carried = replace(hold, i_d=s.current, frame=Frame.CARRIED)
            steps += field_ramp(carried, 0.0, 0.1 * way * s.hand_over, 0.3)
            steps += field_ramp(carried, 0.1 * way * s.hand_over, way * s.hand_over, s.ramp)
            steps.append(replace(carried, duration=s.dwell, turning=way * s.hand_over))
            seen = replace(hold, frame=Frame.OBSERVED, i_d=0.0)
            steps += _speeds(seen, way * s.hand_over / pairs, self.faster, 0.3)
            steps.append(
                replace(seen, duration=self.run, speed=self.faster * way * s.hand_over / pairs)
            )
            steps += _speeds(seen, self.faster * way * s.hand_over / pairs,
                             s.hand_back / s.hand_over / self.faster, 0.4)  # fmt: skip
            steps.append(replace(seen, duration=0.1, speed=way * s.hand_back / pairs))
            steps += field_ramp(carried, way * s.hand_back, 0.0, 0.7 * s.ramp)
            steps.append(replace(carried, duration=0.2))
        seconds = sum(step.duration for step in steps)
        speed = 1.6 * self.faster * s.hand_over / pairs
        plan = Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_e", "theta_m", "theta_observed", "id", "iq", "speed", "hall"),
            decimation=max(math.ceil(seconds / axis.inverter.Ts / 14000), 1),
            limits=abort_limits(
                axis, current=1.6 * s.current, turns=1.0, speed=speed + 20.0, seconds=seconds
            ),
            gains=gentle_gains(axis, math.tau * 200.0),
            speed=SpeedLoop(Kp=s.Kp, Ki=s.Ki),
            decouple=True,
            observer=s.bandwidth,
        )
        turns = 1.3 * excursion(plan, axis)[0].farthest + 2.0
        most = axis.mechanics.max_turns
        travel = math.tau * (min(turns, most.value) if most else turns)
        return replace(plan, limits=replace(plan.limits, travel=travel))

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        rpm = self.start.hand_over / axis.machine.pole_pairs.value / RPM
        return f"start without sensor, hand over at {rpm:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        speed = self.faster * self.start.hand_over / axis.machine.pole_pairs.value
        plan = self.plan(axis)
        way, _ = excursion(plan, axis)
        return Movement(
            what=f"turns {way.farthest:.1f} turns forward and back",
            speed=speed,
            current=1.6 * self.start.current,
            seconds=plan.duration,
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {
            **asdict(self.start),
            "run_speed": self.faster * self.start.hand_over,
            "zero": axis.sensor.zero.value,
            "kind": axis.sensor.kind.value,
        }


def _speeds(seen: Step, start: float, ratio: float, seconds: float) -> list[Step]:
    """Return ten steps of speed from `start` (rad/s, mechanical) to `ratio` times it."""
    return [
        replace(seen, duration=seconds / 10.0, speed=start * (1.0 + (ratio - 1.0) * (n + 1) / 10.0))
        for n in range(10)
    ]


def read_start(record: Record, axis: Axis) -> Finding:
    """Return whether start, hand-over and way back went well, both ways.

    Parameters
    ----------
    record : columns as `StartWithoutSensor` asks for

    """
    wanted = number(record.settings, "run_speed")
    if record.rows < 200:
        cause = f"only {record.rows} rows were recorded"
        raise InputError(cause, place=record.experiment, remedy="Try again")
    seen_speed = np.gradient(np.unwrap(record["theta_observed"]), record["t"])
    smooth = _moving_mean(seen_speed, 41)
    ran = {way: float(np.max(way * smooth)) / wanted for way in (1.0, -1.0)}
    held = {way: bool(0.9 < ran[way] < 1.35) for way in ran}
    error = _error(record, axis, np.abs(smooth) > 0.95 * number(record.settings, "hand_over"))
    known = error is not None
    worst = float(np.percentile(np.abs(error), 95)) if error is not None and error.size else 0.0
    checks = [
        Check(
            code="runs forward",
            passed=held[1.0],
            sentence=f"Forward it reached {100 * ran[1.0]:.0f} % of the speed asked for",
        ),
        Check(
            code="runs backward",
            passed=held[-1.0],
            sentence=f"Backward it reached {100 * ran[-1.0]:.0f} % of the speed asked for",
        ),
        Check(
            code="observer's angle",
            passed=not known or worst < 2.0 * ANGLE,
            sentence=f"On the observer its angle was within {math.degrees(worst):.0f}° of the "
            f"sensor's ({2 * math.degrees(ANGLE):.0f} allowed)"
            if known
            else "No sensor to hold its angle against",
        ),
    ]
    pick = np.linspace(0, record.rows - 1, min(record.rows, 600)).astype(int)
    return Finding(
        quantity=StartWithoutSensor.name,
        estimates={},
        extra={
            "observer error": Estimate(value=worst, std=None, unit="rad", origin=Origin.MEASURED),
            "hand-over": Estimate(
                value=number(record.settings, "hand_over"), std=None, unit="rad/s",
                origin=Origin.DERIVED,
            ),
        },
        checks=tuple(checks),
        remark=_told(worst, known=known) if all(c.passed for c in checks) else "did not hold",
        evidence=Start(curve=smooth[pick], t=record["t"][pick], speed=smooth[pick]),
    )  # fmt: skip


def _told(worst: float, *, known: bool) -> str:
    return f"both ways, angle within {math.degrees(worst):.0f}°" if known else "runs both ways"


def _moving_mean(values: Array, width: int) -> Array:
    return np.asarray(np.convolve(values, np.ones(width) / width, mode="same"))


def _error(record: Record, axis: Axis, on: NDArray[np.bool_]) -> Array | None:
    if axis.sensor.kind is SensorKind.NONE or not axis.sensor.is_found:
        return None
    true = axis.machine.pole_pairs.value * record["theta_m"] - number(record.settings, "zero")
    return wrapped(record["theta_observed"] - true)[on]


def simulated_error(
    axis: Axis, start: StartSettings, speeds: Array, *, R_error: float = 0.15
) -> Array:
    """Return the observer's angle error (rad, electrical) at steady speeds, by simulation.

    The machine of the axis with its resistance off by `R_error` and its dead time, turned by
    force at each speed with the start current, the observer following.

    Parameters
    ----------
    speeds : rad/s, electrical, (n,)

    """
    # The simulator is compiled: it is loaded when it is wanted, not with the window.
    from oarlock.simulate import layout as k
    from oarlock.simulate.drive_model import CHANNELS, DriveModel
    from oarlock.simulate.from_axis import plant_of

    inertia = axis.machine.inertia.value if axis.machine.inertia else 1e-3
    errors = []
    for speed in speeds:
        plant = plant_of(axis, inertia=1e3 * inertia, R_error=R_error)
        model = DriveModel(plant)
        model._state[k.OMEGA] = speed / plant.pole_pairs  # noqa: SLF001 - already turning
        plan = Plan(
            name="observer",
            steps=(Step(duration=8.0 / start.bandwidth + 0.05, i_q=0.5 * start.current),),
            channels=("theta_e", "theta_observed"),
            limits=abort_limits(axis, current=start.current, turns=1e6, speed=1e6, seconds=10.0),
            gains=gentle_gains(axis, math.tau * 200.0),
        )
        _set_up(model, axis, plan, start)
        model.load(
            step_table(plan, axis.inverter.Ts), tuple(CHANNELS.index(c) for c in plan.channels)
        )
        model.start()
        model.advance(round(plan.duration / axis.inverter.Ts) + 5)
        trace = model.trace.astype(np.float64)
        late = trace[-max(trace.shape[0] // 4, 1) :]
        errors.append(float(np.abs(np.mean(wrapped(late[:, 1] - late[:, 0])))))
    return np.array(errors)


def _set_up(model: "DriveModel", axis: Axis, plan: Plan, start: StartSettings) -> None:
    from oarlock.simulate import layout as k

    m, g = axis.machine, plan.gains
    model.firm[[k.KP_D, k.KI_D, k.KP_Q, k.KI_Q]] = [g.Kp_d, g.Ki_d, g.Kp_q, g.Ki_q]
    model.firm[[k.F_PAIRS, k.F_LD, k.F_LQ, k.F_PSI]] = [
        m.pole_pairs.value, m.Ld.value, m.Lq.value, m.psi.value,
    ]  # fmt: skip
    model.firm[[k.F_R, k.F_OBSERVER, k.DECOUPLE]] = [m.R.value, start.bandwidth, 1.0]
    limits = plan.limits
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [
        limits.current, limits.speed, limits.travel, limits.time,
    ]  # fmt: skip
