"""How far the shaft has gone, and how far it may still go: one ledger over all plays of an axis.

`max_turns` is how far the shaft may turn either way from where it stood when the ledger began.
Before a play its excursion is held against what is left on each side; the drive's own travel
limit is brought inside; and where there is no room, the shaft is first turned back.
"""

import math
from dataclasses import dataclass, replace

from oarlock.drive.path import pieces
from oarlock.drive.steps import Frame, Plan, SpeedLoop, Step
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind

_TURNING = (Frame.FIXED, Frame.CARRIED)
_ON_SPEED = (Frame.SPEED, Frame.OBSERVED)
_BACK = 0.06  # of the no-load speed, when the shaft is turned back
_LEAST = 0.05  # of the travel: what a limit must leave for a play that hardly moves


@dataclass(frozen=True, slots=True)
class Span:
    """Between which turns something lies, or goes; forward is positive."""

    least: float = 0.0
    most: float = 0.0

    @property
    def farthest(self) -> float:
        """The larger distance from zero, turns."""
        return max(abs(self.least), abs(self.most))

    def moved(self, by: "Span") -> "Span":
        """Return where it lies after a movement between these."""
        return Span(self.least + by.least, self.most + by.most)


def excursion(plan: Plan, axis: Axis) -> tuple[Span, Span]:
    """Return (farthest on the way, where it ends) of a plan's movement, turns from its start.

    A rotor that is caught by a fixed field turns by up to half an electrical turn; one that slips
    stays behind. A current on the sensor's own angle is bounded by the plan's limit alone.
    """
    pairs = axis.machine.pole_pairs.value
    caught = 0.5 / pairs
    at = low = high = loose = 0.0
    angle: float | None = None
    reaches = {n: piece.reach for n, piece in pieces(plan.steps)}
    for n, step in enumerate(plan.steps):
        if n in reaches:
            least, most = (at + x / math.tau for x in reaches[n])
            low, high = min(low, least), max(high, most)
        if step.frame in (Frame.POSITION, Frame.PATH):
            at += step.distance / math.tau
        elif step.frame in _ON_SPEED:
            at += step.speed * step.duration / math.tau
        elif step.frame is Frame.FIXED and angle is not None:  # the rotor follows the shorter way
            change = math.remainder(step.angle - angle, math.tau)
            at += change / math.tau / pairs
        elif step.frame is Frame.ROTOR and (step.i_d or step.i_q):
            loose = max(loose, plan.limits.travel / math.tau)
        if step.frame in _TURNING:
            at += step.turning * step.duration / math.tau / pairs
            angle = step.angle + step.turning * step.duration if step.frame is Frame.FIXED else None
        low, high = min(low, at), max(high, at)
    forced = any(step.frame in _TURNING for step in plan.steps)
    slack = caught if forced else 0.0
    # What a forced field turns, a rotor may follow or not.
    end = Span(min(at, 0.0), max(at, 0.0)) if forced else Span(at, at)
    ends = Span(end.least - slack - loose, end.most + slack + loose)
    return Span(low - slack, high + slack), ends


def room(axis: Axis, standing: Span) -> float:
    """Return how many turns are left to the nearer side; infinite without a limit."""
    most = axis.mechanics.max_turns
    return math.inf if most is None else most.value - standing.farthest


def within(plan: Plan, axis: Axis, standing: Span) -> Plan | None:
    """Return the plan with the drive's limit inside the room that is left, or None: no room."""
    left = room(axis, standing)
    if left == math.inf:
        return plan
    way, _ = excursion(plan, axis)
    most = axis.mechanics.max_turns
    if most is None or left < _LEAST * most.value or not way.farthest <= left:
        return None
    travel = min(plan.limits.travel, math.tau * left)
    return replace(plan, limits=replace(plan.limits, travel=travel))


def too_far(plan: Plan, axis: Axis) -> str:
    """Return how a plan needs more travel than there is, wherever it begins."""
    way, _ = excursion(plan, axis)
    most = axis.mechanics.max_turns
    return f"turns the shaft {way.farthest:.3g} turns, it may turn {most.value if most else 0:g}"


def steps_back(axis: Axis, plan: Plan, standing: Span) -> Plan:
    """Return a plan that turns the shaft back, as far at once as the room lets it.

    Parameters
    ----------
    plan : what there is no room for; its gains are used

    Raises
    ------
    InputError : the speed cannot be controlled yet, so that a hand must turn it back

    """
    m = axis.machine
    middle = 0.5 * (standing.least + standing.most)
    if m.inertia is None or not axis.sensor.is_found or axis.sensor.kind is SensorKind.NONE:
        way = "back" if middle > 0.0 else "forward"
        cause = f"the shaft stands {abs(middle):.3g} turns from where it began, and may turn "
        cause += f"{axis.mechanics.max_turns.value if axis.mechanics.max_turns else 0:g}"
        raise InputError(cause, place="travel",
                         remedy=f"Turn it {way} by hand, gates off")  # fmt: skip
    turns = min(abs(middle), 0.8 * max(room(axis, standing), 0.25))
    speed = min(_BACK * axis.inverter.v_max / (m.pole_pairs.value * m.psi.value),
                0.2 * axis.top_speed)  # fmt: skip
    speed = min(speed, math.tau * turns / 0.5)
    seconds = math.tau * turns / speed
    signed = -math.copysign(speed, middle)
    going = Step(duration=0.3, frame=Frame.SPEED, release=True, record=False)
    ramp = [replace(going, duration=0.05, speed=signed * (n + 0.5) / 10.0) for n in range(10)]
    held = replace(going, duration=max(seconds - 0.5, 0.05), speed=signed)
    down = [replace(step, speed=step.speed) for step in reversed(ramp)]
    Kp = m.inertia.value * math.tau * 4.0 / m.torque_constant
    seconds = sum(step.duration for step in (*ramp, held, *down)) + 0.4
    return replace(
        plan,
        name="turn back",
        steps=(*ramp, held, *down, replace(going, speed=0.0, duration=0.4, record=True)),
        channels=("t", "theta_m"),
        decimation=64,
        average=False,
        limits=replace(
            plan.limits,
            current=min(0.9 * axis.rated, 1.1 * axis.peak),
            speed=min(2.5 * speed + 5.0, axis.top_speed),
            travel=math.tau * min(1.2 * turns + 0.1, max(room(axis, standing), 1.05 * turns)),
            time=seconds + 1.0,
        ),
        speed=SpeedLoop(Kp=Kp, Ki=Kp * math.tau),
        decouple=True,
        observer=0.0,
    )


class Ledger:
    """Where the shaft of each axis stands; kept by a link, touched by one play at a time.

    While no play runs the drive's own angle is followed, so that a hand that turns the shaft is
    seen too. While the drive is off nobody looks: what it stood at then is what it stands at.
    """

    def __init__(self) -> None:
        self._standing: dict[str, Span] = {}
        self._seen: tuple[str, float, float] | None = None  # axis, rad, side
        self._settings: object = None

    def standing(self, axis: Axis) -> Span:
        """Return where the axis's shaft stands, turns from where the ledger began."""
        return self._standing.get(axis.name, Span())

    def set(self, axis: Axis, standing: Span) -> None:
        """Take over where the shaft stood when another link let it go, or begin anew."""
        self._standing[axis.name] = standing
        self._seen = None

    def look(self, axis: Axis, angle: float) -> None:
        """Follow the shaft to `angle` (rad, mechanical) as the drive tells it."""
        side = axis.sensor.side.value
        if self._seen is not None and self._seen[0] == axis.name:
            here = self.standing(axis)
            if self._seen[2] != side:  # the drive counts the other way from now on
                self._standing[axis.name] = Span(-here.most, -here.least)
            else:
                turns = (angle - self._seen[1]) / math.tau
                self._standing[axis.name] = here.moved(Span(turns, turns))
        self._seen = (axis.name, angle, side)

    def is_new(self, settings: object) -> bool:
        """Return whether the sensor's settings differ from those of the play before."""
        before, self._settings = self._settings, settings
        return before != settings

    def begin(self, axis: Axis, angle: float) -> None:
        """Take `angle` (rad) as where the shaft stands, its sensor's settings being new."""
        self._seen = (axis.name, angle, axis.sensor.side.value)

    def assume(self, axis: Axis, end: Span) -> None:
        """Move by what a plan asked for, where no sensor tells what came of it."""
        self._standing[axis.name] = self.standing(axis).moved(end)
