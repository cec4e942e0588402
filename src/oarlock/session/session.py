"""The one mutable object: an open project, touched on its owner's thread only.

Views subscribe to its signals; work in threads gets frozen values and never the session.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from psygnal import Signal

from oarlock.control.designs import retuned
from oarlock.errors import InputError
from oarlock.experiments.registry import gives_nothing
from oarlock.machine import Axis, CurrentTarget
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.current_loop import KEY as CURRENT
from oarlock.machine.doubts import doubt
from oarlock.records import Finding, Plain, Reading, Record, Run
from oarlock.records.quantity import KEYS
from oarlock.session.adopting import with_finding
from oarlock.session.axes import Axes
from oarlock.session.dragging import Drag, with_current
from oarlock.session.entries import entered
from oarlock.session.history import History
from oarlock.session.perform import Performed
from oarlock.session.readings import wanted
from oarlock.session.saver import Saver
from oarlock.session.taking_back import with_gains_of
from oarlock.store.project import Project
from oarlock.views.screen import SHARED, Screen, Written, plain, screen_of, taken
from oarlock.views.snapshot import Snapshot


class Session:
    """An open project with its axis, logbook and findings."""

    axis_changed = Signal(Axis)
    runs_changed = Signal()
    readings_changed = Signal()
    trouble_changed = Signal(str)
    notice = Signal(str)  # something happened to the file that its owner should know

    def __init__(self, project: Project, post: Callable[[Callable[[], None]], None]) -> None:
        try:
            self._take_up(project, post)
        except InputError:
            project.close()
            raise
        self._saver = Saver(lambda text: post(lambda: self._say_trouble(text)))
        project.on_notice = lambda text: post(lambda: self.notice.emit(text))

    def _take_up(self, project: Project, post: Callable[[Callable[[], None]], None]) -> None:
        axes = project.axes()
        if not axes:
            remedy = "Make one with 'oarlock demo', or add an axis"
            raise InputError("the project holds no axis", place=str(project.path), remedy=remedy)
        self._project, self._post = project, post
        self.name = project.name
        self.axes = Axes(project)
        self._kept_view = project.view()
        self._histories: dict[str, History[Axis]] = {}
        self._drag: Drag | None = None
        self._next_run = project.next_run()
        self._records: dict[int, Record] = {}
        self.readings: dict[int, Reading | None] = {}
        self.trouble = ""
        self.unwritten: set[int] = set()  # runs that are not in the file yet
        wanted = taken(Screen(), self._kept_view).axis
        self._open(wanted if wanted in self.axis_names else self.axis_names[0], axes)

    def _open(self, name: str, axes: dict[str, str]) -> None:
        """Take up one of the project's axes."""
        self._axis = parse_axis(axes[name], place=f"{self._project.path}, axis {name}")
        self._history = self._histories.setdefault(name, History())
        self.runs: tuple[Run, ...] = tuple(self._project.runs(name))
        first = name == next(iter(axes))
        self.screen = screen_of(self._kept_view, name, first=first)

    @property
    def axis_names(self) -> tuple[str, ...]:
        """The axes that the project shows."""
        return self.axes.names

    def rename(self, name: str) -> None:
        """Give the open axis another name, in all its states and runs.

        Raises
        ------
        InputError : no name, one that is taken, or what waits cannot be written

        """
        old = self._axis.name
        self._flush()
        new = self.axes.rename(old, name, self._axis)
        self._histories.pop(old, None)
        self._kept_view = self._project.view()
        self._open(new, self._project.axes())
        self.show(axis=new)
        self.axis_changed.emit(self._axis)
        self.runs_changed.emit()

    def save_copy(self, path: Path) -> None:
        """Write the project to another file. For a job; InputError where it cannot be."""
        self._flush()
        self._project.copy_to(path)

    def _flush(self) -> None:
        if not self._saver.flush():
            raise InputError("not all could be saved", place=str(self.path), remedy=self.trouble)

    def switch(self, name: str) -> None:
        """Go on with another axis of the project; what waits is written first.

        Raises
        ------
        InputError : no such axis, or what waits cannot be written

        """
        if name not in self.axis_names:
            raise InputError(f"no axis {name}", place=str(self.path),
                             remedy=f"It has {', '.join(self.axis_names)}")  # fmt: skip
        if name == self._axis.name:
            return
        self.end_drag("", keep=False)
        self._flush()
        self._open(name, self._project.axes())
        self.show(axis=name)
        self.axis_changed.emit(self._axis)
        self.runs_changed.emit()

    @property
    def now(self) -> Snapshot:
        """What stands at this moment, frozen, for the views."""
        return Snapshot(
            axis=self._axis, runs=self.runs, readings=dict(self.readings), screen=self.screen
        )

    @property
    def drag_under_way(self) -> Drag | None:
        """The drag under way, frozen; None: nothing is dragged."""
        return self._drag

    # The axis

    @property
    def axis(self) -> Axis:
        """The axis as it stands."""
        return self._axis

    @property
    def path(self) -> Path:
        """Where the project lies."""
        return self._project.path

    def edit(self, label: str, axis: Axis) -> None:
        """Take a new state of the axis: one step of undo, saved within a second."""
        if axis == self._axis:
            return
        before, self._axis = self._axis, axis
        self._history.push(label, before, axis)
        self._save_axis(label)
        self.axis_changed.emit(axis)

    def drag(self, axis: Axis, loop: str) -> None:
        """Show a state while a loop is dragged; `end_drag` makes it one edit."""
        if self._drag is None:
            self._drag = Drag(self._axis, loop)
        self._axis = axis
        self.axis_changed.emit(axis)

    def end_drag(self, label: str, *, keep: bool = True) -> None:
        """End a drag: keep where it led as one edit, or go back to where it began."""
        drag, self._drag = self._drag, None
        if drag is None:
            return
        end, self._axis = self._axis, drag.start
        if keep and end != drag.start:
            self.edit(label, drag.ended(end))
        else:
            self.axis_changed.emit(drag.start)

    @property
    def dragging(self) -> bool:
        """Whether a drag is under way."""
        return self._drag is not None

    def undo(self) -> None:
        """Take the last edit back."""
        self._travel(self._history.undo(), "undo")

    def redo(self) -> None:
        """Do the edit again that was taken back last."""
        self._travel(self._history.redo(), "redo")

    def _travel(self, axis: Axis | None, label: str) -> None:
        if axis is None:
            return
        self._axis = axis
        self._save_axis(label)
        self._mark_used()
        self.axis_changed.emit(axis)

    @property
    def undo_label(self) -> str:
        """What undo would take back."""
        return self._history.undo_label

    @property
    def redo_label(self) -> str:
        """What redo would do again."""
        return self._history.redo_label

    def _save_axis(self, label: str) -> None:
        name, toml = self._axis.name, format_axis(self._axis)
        self._saver.submit(lambda: self._project.save_axis(name, toml, label))

    def enter(self, path: str, text: str) -> None:
        """Take an entry for one parameter, as typed.

        Raises
        ------
        InputError : an entry without sense; the axis stays as it is

        """
        label, axis = entered(self._axis, path, text)
        self.edit(label, self.followed(axis))

    def doubt(self, path: str, text: str) -> str:
        """Return why an entry is hardly meant, to be asked about before it is used.

        Raises
        ------
        InputError : an entry without sense

        """
        return doubt(entered(self._axis, path, text)[1], path)

    def with_target(self, target: CurrentTarget) -> Axis:
        """Return the axis designed for another target, the outer loops following.

        Raises
        ------
        InputError : the delay forbids it

        """
        return self.followed(with_current(self._axis, target), CURRENT)

    def followed(self, axis: Axis, loop: str = "") -> Axis:
        """Return a changed axis, the loops outside of the one given following where they did."""
        return retuned(self._axis, axis, outside=loop)

    def adopt(self, finding: Finding, run: Run) -> None:
        """Use what a finding estimates, from now on."""
        axis = with_finding(self._axis, finding, run)
        what = f"Adopt {finding.quantity.replace('_', ' ')}"
        self.edit(what, self.followed(axis))
        self._mark_used()

    def take_commissioned(self, axis: Axis) -> None:
        """Use all that commissioning found and designed, as one edit."""
        self.edit("Take what commissioning found", axis)
        self._mark_used()

    def _mark_used(self) -> None:
        """Mark the runs whose findings are in use, as the axis itself says; and no others."""
        said = " ".join(found.source for found in self._axis.adopted().values())
        named = {int(number) for number in re.findall(r"\brun (\d+),", said)}
        newest = {run.kind: run.id for run in self.runs if run.id in named}
        used = set(newest.values())  # an older one that lent a part of it has lost the mark
        for run in self.runs:
            if not gives_nothing(run.kind) and run.used != (run.id in used):
                self.change_run(run.id, used=run.id in used)

    def take_back(self, run: Run) -> None:
        """Use the gains of a run again.

        Raises
        ------
        InputError : the run has none

        """
        self.edit(f"Use the gains of {run.started[11:16]}", with_gains_of(run, self._axis))

    # The logbook

    def keep(self, performed: Performed) -> Run:
        """Put a played experiment into the logbook; it cannot be lost from here on."""
        settings = {**performed.run.settings}
        noted = self.screen.winding
        if noted is not None and "winding" not in settings and performed.run.kind in KEYS:
            settings["winding"] = noted  # °C
        run = replace(performed.run, id=self._next_run, settings=settings)
        self._next_run += 1
        record = performed.record
        self.unwritten.add(run.id)

        def written() -> None:
            self._post(lambda: self._run_written(run.id))

        self._saver.submit(lambda: self._project.add_run(run, record), written)
        if run.axis != self._axis.name:  # another axis is open by now: it goes to its own logbook
            return run
        self.runs = (*self.runs, run)
        self._records[run.id] = record
        self.readings[run.id] = performed.reading
        self.runs_changed.emit()
        self.readings_changed.emit()
        return run

    def _run_written(self, number: int) -> None:
        self.unwritten.discard(number)
        self.runs_changed.emit()

    def change_run(self, number: int, **changes: Any) -> None:
        """Pin, star, annotate or mark a run."""
        self.runs = tuple(replace(r, **changes) if r.id == number else r for r in self.runs)
        self._saver.submit(lambda: self._project.change_run(number, **changes))
        self.runs_changed.emit()

    def record(self, number: int) -> Record | None:
        """Return a run's record, from memory or from the file."""
        found = self.record_source(number)()
        if found is not None:
            self._records[number] = found
        return found

    def record_source(self, number: int) -> Callable[[], Record | None]:
        """Return what fetches a run's record, for a job: a file takes its time."""
        if number in self._records:
            record = self._records[number]
            return lambda: record
        project = self._project
        return lambda: project.record(number)

    def record_sources(self, runs: Mapping[str, int]) -> dict[str, Callable[[], Record | None]]:
        """Return what fetches the records of several runs, by the names given with them."""
        return {name: self.record_source(number) for name, number in runs.items()}

    def wanted_readings(self) -> list[Run]:
        """Return the runs whose readings the screens need and do not have yet."""
        return wanted(self.now)

    def take_reading(self, number: int, reading: Reading | None) -> None:
        """Take what was made of an old record, after the project was opened again."""
        self.readings[number] = reading
        self.readings_changed.emit()

    # The file

    def show(self, **changes: object) -> None:
        """Keep something of the screen's state, by the names of `Screen`."""
        for key, value in changes.items():
            if getattr(self.screen, key) != value:
                self.screen = replace(self.screen, **{key: value})  # type: ignore[arg-type]
                self._keep_shown(key, plain(value))

    def _keep_shown(self, key: str, value: Plain) -> None:
        kept = key if key in SHARED else f"{self._axis.name}/{key}"
        self._kept_view[kept] = value
        self._saver.submit(lambda: self._project.set_view(kept, value))

    def written(self, file: str, values: Mapping[str, float]) -> None:
        """Remember that these values, by key, stand in a firmware file now."""
        if self._axis.gains is not None:
            now = datetime.now().astimezone().strftime("%H:%M")
            self.show(handover_written=Written(file=file, time=now, values=dict(values)))
            self.runs_changed.emit()

    def proven(self, digest: str) -> None:
        """Remember of which file and gains a proof held."""
        self.show(proven=digest)

    def _say_trouble(self, text: str) -> None:
        self.trouble = text
        self.trouble_changed.emit(text)

    def save_now(self) -> bool:
        """Try again to write what waits; return whether all is kept. For a job: it waits."""
        return self._saver.flush()

    def saved_within(self, seconds: float) -> bool:
        """Return whether all is kept, after waiting a moment for it."""
        return self._saver.pending == 0 or self._saver.flush(seconds)

    @property
    def unsaved(self) -> int:
        """How many changes are not in the file yet."""
        return self._saver.pending

    def close(self) -> bool:
        """Write what waits and close the file; return whether all was kept."""
        kept = self._saver.close()
        self._project.close()
        return kept
