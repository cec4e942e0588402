"""What the experiments on sensors share: how a movement is announced, and its limits."""

import math
from dataclasses import dataclass

from oarlock.drive.steps import Limits
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM


@dataclass(frozen=True, slots=True, kw_only=True)
class Movement:
    """What a shaft will do: how far, how fast, with what current, for how long."""

    what: str  # "turns 1 turn and back"; empty: nothing turns
    speed: float  # rad/s, mechanical
    current: float  # A, peak
    seconds: float

    @property
    def sentence(self) -> str:
        """The announcement; speed and current are the most that there will be."""
        amperes = f"{digits(self.current, 2)} A" if self.current else "no current"
        if not self.what:
            return f"Nothing turns: {amperes}, {self.seconds:.1f} s."
        if not self.current:
            return f"Shaft {self.what}: no current, {self.seconds:.1f} s."
        if not self.speed:
            return f"Shaft {self.what}: {amperes}, {self.seconds:.1f} s."
        rpm = digits(self.speed / RPM, 2)
        return f"Shaft {self.what}: {rpm} rpm, {amperes}, {self.seconds:.1f} s."


def abort_limits(
    axis: Axis, *, current: float, turns: float, speed: float, seconds: float
) -> Limits:
    """Return where the drive aborts, a little beyond what was announced.

    Parameters
    ----------
    current : A, peak, that the experiment needs
    turns : mechanical
    speed : rad/s, mechanical, the most that the shaft should reach

    """
    most = axis.mechanics.max_turns
    if most is not None:
        turns = min(turns, most.value)
    return Limits(
        current=min(1.3 * current + 0.08 * axis.peak, 1.1 * axis.peak),
        speed=min(speed, axis.top_speed),
        travel=math.tau * turns,
        time=seconds + 1.0,
    )
