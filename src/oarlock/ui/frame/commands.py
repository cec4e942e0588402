"""What the command palette offers, by name."""

import functools
from dataclasses import replace
from typing import TYPE_CHECKING

from oarlock.quantities.shown import CHOICES
from oarlock.session.connecting import PRACTICE
from oarlock.session.session import Session
from oarlock.ui.frame.palette import Command
from oarlock.ui.frame.sweep_files import sweep_commands
from oarlock.views.rail import stages

if TYPE_CHECKING:
    from oarlock.ui.frame.window import MainWindow


def commands(window: "MainWindow") -> list[Command]:
    """Return all commands that make sense now."""
    session, bench = window.session, window.bench
    toggle = functools.partial(_toggle_margin, session)
    found = [
        Command(f"Go to {stage.name}", f"Ctrl+{i}", functools.partial(window.show_stage, stage.key))
        for i, stage in enumerate(stages(session.now), 1)
    ]
    found.append(Command("Stop the drive", "Esc", bench.stop))
    found.append(Command("Help on this stage", "F1", window.panels.toggle_help))
    if window.current.f5:
        found.append(Command(window.current.f5, "F5", window.run_stage))
    for name in session.axis_names:
        if name != session.axis.name:
            go = functools.partial(window.axis_chosen.emit, name)
            found.append(Command(f"Go to the axis {name}", "", go))
    if session.undo_label:
        found.append(Command(f"Undo: {session.undo_label}", "Ctrl+Z", session.undo))
    if session.redo_label:
        found.append(Command(f"Redo: {session.redo_label}", "Ctrl+Shift+Z", session.redo))
    found.append(Command("Compare the pinned runs", "F7", window.panels.open_comparison))
    found.append(Command("Commission the axis: all that is missing", "F8",
                         window.panels.open_commissioning))  # fmt: skip
    found += _drive_commands(window)
    allowed = session.axis.target.override_margin
    found.append(
        Command(
            "Forbid phase margins below 30°" if allowed else "Allow phase margins below 30°",
            "",
            toggle,
        )
    )
    found += _unit_commands(window)
    found += sweep_commands(window)
    found += window.files.commands()
    found.append(Command("Light or dark", "", window.theme_toggled.emit))
    return found


def _drive_commands(window: "MainWindow") -> list[Command]:
    session, bench = window.session, window.bench
    found: list[Command] = []
    if bench.connected:
        found.append(Command("Disconnect the drive", "", bench.disconnect))
    else:
        found.append(
            Command("Connect the practice drive", "", lambda: bench.connect_drive(PRACTICE))
        )
    if bench.connected and bench.differs:
        found.append(Command("Use what the drive tells", "", bench.use_facts))
    if bench.connected and session.axis.gains is not None:
        found.append(Command("Save gains and filters in the drive", "", bench.memory.save))
    if bench.connected and session.axis.mechanics.max_turns is not None:
        name = "Count the shaft's travel from where it stands"
        found.append(Command(name, "", bench.count_travel_from_here))
    return found


def _unit_commands(window: "MainWindow") -> list[Command]:
    return [
        Command(f"Show each {what} in {unit}", "", functools.partial(_use_unit, window, what, unit))
        for what, choices in CHOICES.items()
        for unit in choices
    ]


def _use_unit(window: "MainWindow", what: str, unit: str) -> None:
    session = window.session
    session.show(units={**session.screen.units, what: unit})
    session.axis_changed.emit(session.axis)
    window.panels.refresh()
    window.update()  # the numbers beside the stage, too


def _toggle_margin(session: Session) -> None:
    axis = session.axis
    target = replace(axis.target, override_margin=not axis.target.override_margin)
    session.edit("Allow or forbid low margins", axis.with_target(target))
