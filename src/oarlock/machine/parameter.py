"""One property of an axis: what paper says of it, and what was measured and adopted since."""

from dataclasses import dataclass

from oarlock.quantities import Estimate, Origin


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """What paper says, and what was adopted since."""

    printed: Estimate
    adopted: Estimate | None = None

    @property
    def best(self) -> Estimate:
        """The estimate that everything downstream uses."""
        return self.adopted or self.printed

    @property
    def is_known(self) -> bool:
        """Whether more than a guess is in use: it was entered, told or measured for sure."""
        return self.best.origin not in (Origin.ASSUMED, Origin.ROUGH)

    @property
    def value(self) -> float:
        """Value of the best estimate, SI."""
        return self.best.value

    @property
    def std(self) -> float:
        """Standard uncertainty of the best estimate, SI; 0 where none is known."""
        return self.best.std or 0.0
