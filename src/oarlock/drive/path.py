"""A path: steps that lead the position along cubics, its speed continuous from each to the next."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from oarlock.drive.steps import Frame, Step

_GOES_ON = (Frame.SPEED, Frame.OBSERVED, Frame.PATH)  # at what speed they end, the next begins


@dataclass(frozen=True, slots=True)
class Piece:
    """A cubic from where it began: begun·t + two·t² + three·t³; rad and s."""

    whole: float  # s
    begun: float  # rad/s
    two: float
    three: float

    def position(self, t: float) -> float:
        """Rad, from where it began."""
        return t * (self.begun + t * (self.two + t * self.three))

    def speed(self, t: float) -> float:
        """Return rad/s."""
        return self.begun + t * (2.0 * self.two + 3.0 * t * self.three)

    @property
    def reach(self) -> tuple[float, float]:
        """Least and most rad on the way."""
        found = [self.position(t) for t in (0.0, self.whole, *self._turns())]
        return min(found), max(found)

    @property
    def fastest(self) -> float:
        """Rad/s, the most on the way, in either direction."""
        bend = -self.two / (3.0 * self.three) if self.three else -1.0
        times = (0.0, self.whole, bend) if 0.0 < bend < self.whole else (0.0, self.whole)
        return max(abs(self.speed(t)) for t in times)

    def _turns(self) -> list[float]:
        """Return the times within at which it turns round."""
        a, b, c = 3.0 * self.three, 2.0 * self.two, self.begun
        if a == 0.0:
            found = [-c / b] if b else []
        else:
            inside = b * b - 4.0 * a * c
            root = math.sqrt(inside) if inside > 0.0 else 0.0
            found = [(-b - root) / (2.0 * a), (-b + root) / (2.0 * a)] if inside > 0.0 else []
        return [t for t in found if 0.0 < t < self.whole]


def piece(duration: float, begun: float, far: float, ends: float) -> Piece:
    """Return the cubic over `duration` (s) from `begun` (rad/s) by `far` (rad) to `ends` (rad/s).

    Position and speed are continuous from piece to piece (cubic Hermite interpolation).
    """
    two = (3.0 * far / duration - 2.0 * begun - ends) / duration
    three = (begun + ends - 2.0 * far / duration) / duration**2
    return Piece(whole=duration, begun=begun, two=two, three=three)


def pieces(steps: Sequence[Step]) -> Iterator[tuple[int, Piece]]:
    """Yield the pieces of a path among steps, each with its step's number; none without a time."""
    ends = 0.0
    for n, step in enumerate(steps):
        if step.frame is Frame.PATH and step.duration > 0.0:
            yield n, piece(step.duration, ends, step.distance, step.speed)
        ends = step.speed if step.frame in _GOES_ON else 0.0
