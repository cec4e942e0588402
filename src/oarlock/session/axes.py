"""The axes of an open project: which there are, in what order; added, renamed, taken away.

One that is taken away stays in the file with all its runs, and can be brought back.
"""

from dataclasses import replace

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.session.new_project import checked_name
from oarlock.store.project import Project

_REMOVED, _ORDER = "removed_axes", "axis_order"  # of the project's view


class Axes:
    """Touched on the session's thread; every change is in the file when it returns."""

    def __init__(self, project: Project) -> None:
        self._project = project
        self._states = project.axes()
        self.removed = self._listed(_REMOVED)
        self._order = self._listed(_ORDER)
        if not self.names:
            self.removed = ()  # a project shows one axis at least

    @property
    def names(self) -> tuple[str, ...]:
        """Those that are shown, in the order that was given them, new ones last."""
        place = {name: n for n, name in enumerate(self._order)}
        shown = [name for name in self._states if name not in self.removed]
        return tuple(sorted(shown, key=lambda name: place.get(name, len(place))))

    def move(self, name: str, by: int) -> None:
        """Move an axis by so many places, -1 to the one before; at the ends it stays."""
        names = [other for other in self.names if other != name]
        at = self.names.index(name) + by
        names.insert(min(max(at, 0), len(names)), name)
        self._keep_order(tuple(names))

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
            self._keep_order(tuple(new if name == old else name for name in self._order))
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

    def _listed(self, key: str) -> tuple[str, ...]:
        """Return the names of axes that the project's view lists; what else stands there is not."""
        kept = self._project.view().get(key)
        listed = kept if isinstance(kept, list) else []
        return tuple(name for name in listed if isinstance(name, str) and name in self._states)

    def _keep_order(self, order: tuple[str, ...]) -> None:
        self._project.set_view(_ORDER, list(order))
        self._order = order

    def _keep_removed(self, removed: tuple[str, ...]) -> None:
        self._project.set_view(_REMOVED, list(removed))
        self.removed = removed
