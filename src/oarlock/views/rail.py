"""The stages in the order of dependence: one row each; the window builds itself from them."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from oarlock.views import current, handed_over, identify, machine, outer, rehearse, sensing
from oarlock.views.said import said
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage


@dataclass(frozen=True, slots=True, kw_only=True)
class StageSpec:
    """One stage: what the rail says of it, and the module that draws it."""

    key: str
    summary: Callable[[Snapshot], Stage]
    widget: str  # its module holds the class as STAGE; loaded when it is first shown


STAGES = [
    StageSpec(key="machine", summary=machine.summary,
              widget="oarlock.ui.stages.machine.stage"),
    StageSpec(key="sensing", summary=sensing.summary,
              widget="oarlock.ui.stages.sensing.stage"),
    StageSpec(key="identify", summary=identify.summary,
              widget="oarlock.ui.stages.identify.stage"),
    StageSpec(key="current", summary=current.summary,
              widget="oarlock.ui.stages.current.stage"),
    StageSpec(key="speed", summary=outer.speed_summary,
              widget="oarlock.ui.stages.speed.stage"),
    StageSpec(key="position", summary=outer.position_summary,
              widget="oarlock.ui.stages.position.stage"),
    StageSpec(key="rehearse", summary=rehearse.summary,
              widget="oarlock.ui.stages.rehearse.stage"),
    StageSpec(key="handover", summary=handed_over.summary,
              widget="oarlock.ui.stages.handover.stage"),
]  # fmt: skip


def stages(now: Snapshot) -> list[Stage]:
    """Return the rail's items in the order of dependence."""
    found = [spec.summary(now) for spec in STAGES]
    return [replace(one, line=said(one.line, now.axis, now.screen)) for one in found]
