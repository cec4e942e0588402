"""Values with uncertainty and origin; reading and showing them in the units of the trade."""

from oarlock.quantities.estimate import Estimate, Origin, measured

__all__ = ["Estimate", "Origin", "measured"]
