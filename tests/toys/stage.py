"""A stage: its line in the rail, and its screen."""

from oarlock.ui.stages.base import Around, StageView
from oarlock.views.rail import StageSpec
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State


def summary(now: Snapshot) -> Stage:
    return Stage(key="cable", name="Cable", line=f"of the {now.axis.name}", basis="not looked at",
                 measured=False, state=State.EMPTY)  # fmt: skip


class CableStage(StageView):
    key = "cable"
    question = "Will the cable hold?"
    f5 = "Pull at the cable"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        self.pulled = 0

    def refresh(self) -> None:
        self.say("Nobody has pulled yet" if not self.pulled else "It holds")

    def run(self) -> None:
        self.pulled += 1
        self.refresh()


STAGE = CableStage
CABLE = StageSpec(key="cable", summary=summary, widget="tests.toys.stage")
