"""What a project shows at one moment: frozen, so that a view can be worked out anywhere."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.step_response import StepResult
from oarlock.experiments.reading import runs_like
from oarlock.experiments.registry import tells_early
from oarlock.machine import Axis
from oarlock.records import Finding, Reading, Run
from oarlock.views.screen import Screen


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Snapshot:
    """An axis with its logbook, what was read off its runs, and the screen's state."""

    axis: Axis
    runs: tuple[Run, ...] = ()
    readings: Mapping[int, Reading | None] = field(default_factory=dict)  # by run
    screen: Screen = field(default_factory=Screen)

    def run(self, number: int) -> Run | None:
        """Return a run by its number."""
        return next((run for run in self.runs if run.id == number), None)

    def latest(self, kind: str) -> Run | None:
        """Return the newest run of a kind that ended well."""
        early = tells_early(kind)
        return next(
            (r for r in reversed(self.runs) if r.kind == kind and (early or r.ended == "done")),
            None,
        )

    def finding(self, quantity: str) -> tuple[Run, Finding] | None:
        """Return the newest run of a quantity with its finding."""
        run = self.latest(quantity)
        reading = self.readings.get(run.id) if run else None
        return (run, reading) if run and isinstance(reading, Finding) else None

    def findings(self, quantity: str) -> list[Finding]:
        """Return the findings of a quantity that are read, oldest first."""
        found = [self.readings.get(run.id) for run in self.runs if run.kind == quantity]
        return [reading for reading in found if isinstance(reading, Finding)]

    def step_of(self, run: Run) -> StepResult | None:
        """Return what was read off a current step."""
        reading = self.readings.get(run.id)
        return reading if isinstance(reading, StepResult) else None

    def verification(self, axis_name: str) -> tuple[Run, StepResult] | None:
        """Return the newest step along `axis_name` that ran with the gains in use."""
        for run in reversed(self.runs):
            if run.kind != CurrentStep.name or run.settings.get("axis_name") != axis_name:
                continue
            step = self.step_of(run)
            if step and runs_like(run, self.axis):
                return run, step
        return None

    def is_being_read(self, *kinds: str) -> bool:
        """Whether the newest run of a kind that was played with what is in use waits to be read.

        A project that was just opened has its verdicts a moment later.
        """
        newest = (next((run for run in reversed(self.runs) if run.kind == kind
                        and run.ended == "done" and runs_like(run, self.axis)), None)
                  for kind in kinds)  # fmt: skip
        return any(run is not None and run.id not in self.readings for run in newest)

    def is_unread(self, *kinds: str) -> bool:
        """Whether the newest run of one of these kinds waits to be read."""
        newest = [self.latest(kind) for kind in kinds]
        return any(run is not None and run.id not in self.readings for run in newest)

    def tested(self, kind: str) -> tuple[Run, Reading] | None:
        """Return the newest run of a kind that was played with what is in use, and its reading."""
        for run in reversed(self.runs):
            reading = self.readings.get(run.id) if run.kind == kind else None
            if reading is not None and run.ended == "done" and runs_like(run, self.axis):
                return run, reading
        return None
