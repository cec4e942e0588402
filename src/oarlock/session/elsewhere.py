"""Axes of other projects: what a new axis may begin from."""

import contextlib
from dataclasses import dataclass
from pathlib import Path

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.session.axes import Axes
from oarlock.session.recent import recent
from oarlock.store.project import Project

_MOST = 12  # projects, the newest first


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """One axis of another project."""

    project: str
    axis: Axis


def elsewhere(here: Path) -> tuple[Elsewhere, ...]:
    """Return the axes of projects that were open lately. Work for a job.

    A project that is gone, damaged or open in another window is left out.
    """
    found: list[Elsewhere] = []
    others = [one for one in recent() if one.path.absolute() != here.absolute()]
    for one in others[:_MOST]:
        with contextlib.suppress(InputError):
            found += _axes(one.path, one.name)
    return tuple(found)


def _axes(path: Path, name: str) -> list[Elsewhere]:
    with Project.look(path) as project:
        axes = Axes(project)
        return [Elsewhere(name, axes.read(axis)) for axis in axes.names]
