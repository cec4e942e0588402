"""What every reading of a loop's test has in common: its checks, and what they come to."""

from dataclasses import dataclass

from oarlock.records import Check


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Verdict:
    """Measured held against predicted."""

    checks: tuple[Check, ...]

    @property
    def holds(self) -> bool:
        """Whether measurement and prediction agree: the loop is verified."""
        return all(check.passed for check in self.checks)

    @property
    def said(self) -> str:
        """The first check that failed, or that there is none."""
        failed = [check.sentence for check in self.checks if not check.passed]
        return failed[0] if failed else "as predicted"
