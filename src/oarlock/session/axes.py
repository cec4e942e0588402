"""The axes of an open project: which there are, and how one is added, renamed, taken away.

One that is taken away stays in the file with all its runs, and can be brought back.
"""

from dataclasses import replace

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.session.new_project import checked_name
from oarlock.store.project import Project

_REMOVED = "removed_axes"  # of the project's view


class Axes:
    """Touched on the session's thread; every change is in the file when it returns."""

    def __init__(self, project: Project) -> None:
        self._project = project
        self._states = project.axes()
        kept = project.view().get(_REMOVED)
        listed = [name for name in kept if isinstance(name, str)] if isinstance(kept, list) else []
        self.removed = tuple(name for name in listed if name in self._states)
        if not self.names:
            self.removed = ()  # a project shows one axis at least

    @property
    def names(self) -> tuple[str, ...]:
        """Those that are shown, the oldest first."""
        return tuple(name for name in self._states if name not in self.removed)

    def read(self, name: str) -> Axis:
        """Return an axis as it was saved last."""
        self._states = self._project.axes()
        return parse_axis(self._states[name], place=f"{self._project.path}, axis {name}")

    def add(self, axis: Axis, name: str, label: str) -> str:
        """Add an axis under a name; return the name.

        Raises
        ------
        InputError : no name, one that is taken, or a file that cannot be written

        """
        name = checked_name(name, tuple(self._states))
        toml = format_axis(replace(axis, name=name))
        self._project.save_axis(name, toml, label)
        self._states[name] = toml
        return name

    def rename(self, old: str, new: str, axis: Axis) -> str:
        """Give an axis, as it stands, another name; return the name."""
        new = checked_name(new, tuple(name for name in self._states if name != old))
        if new != old:
            self._project.rename_axis(old, new)
            self._project.save_axis(
                new, format_axis(replace(axis, name=new)), f"renamed from {old}"
            )
            self._states = self._project.axes()
        return new

    def remove(self, name: str) -> None:
        """Take an axis off the project; it stays in the file.

        Raises
        ------
        InputError : it is the only one

        """
        if self.names == (name,):
            raise InputError("a project has one axis at least", place=name,
                             remedy="Add another one first")  # fmt: skip
        self._keep_removed((*self.removed, name))

    def bring_back(self, name: str) -> None:
        """Show an axis again that was taken away."""
        self._keep_removed(tuple(other for other in self.removed if other != name))

    def _keep_removed(self, removed: tuple[str, ...]) -> None:
        self._project.set_view(_REMOVED, list(removed))
        self.removed = removed
