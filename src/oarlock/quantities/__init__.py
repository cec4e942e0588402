"""Values with uncertainty and origin; reading and showing them in the units of the trade."""

from oarlock.quantities.estimate import Estimate, Origin

__all__ = ["Estimate", "Origin"]
