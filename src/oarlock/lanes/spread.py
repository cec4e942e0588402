"""Spreads functions that work on one drive over lanes: the same source, on eight drives at a time.

Functions are read as they are written and written anew on vectors (`vectors`). Values are of three
kinds: the same in all lanes (the clock, the step table), settings (what plant and firmware are
told, which may have other values but lead the same way), and those that differ. What decides by a
setting stays a branch, and where the lanes do not agree that is noted; what decides by a value that
differs becomes a mask, under which both ways are gone (if-conversion; Allen, Kennedy, Porterfield
and Warren, "Conversion of control dependence to data dependence", POPL 1983).
"""

import importlib.util
import inspect
import os
import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import ModuleType

from oarlock.lanes.expressions import SETTING, SHARED, CannotSpreadError, Source
from oarlock.lanes.statements import Function

_HEAD = '''"""Made by oarlock.lanes.spread."""
import math
import numpy as np
from oarlock.jit import njit
from oarlock.lanes import memory as memory_, vectors as lanes_'''
_PART = "_part = njit(inline=True)"


@dataclass
class Spreading:
    """All functions that were spread, and what they call that is the same in all lanes."""

    left_out: frozenset[str]  # functions after which the lanes go alone
    alike: frozenset[str]  # places of settings that have one value in all lanes
    settings: frozenset[str]  # arrays of settings, by the names that they have in all functions
    written: dict[str, str] = field(default_factory=dict)  # name: source
    results: dict[str, list[int]] = field(default_factory=dict)
    plain: dict[str, str] = field(default_factory=dict)  # name: where it is imported from
    # By name what a function and those that it calls ask of settings: once, where a call begins.
    asked: dict[str, dict[str, None]] = field(default_factory=dict)

    def function(self, plain: Source, kinds: Sequence[int], given: Sequence[str]) -> str:
        """Spread one function for arguments of these kinds; return its new name.

        Raises
        ------
        CannotSpreadError : an array of settings has another name there

        """
        source: Source = getattr(plain, "py_func", plain)
        parameters = inspect.signature(source).parameters
        for own, name, kind in zip(parameters, given, kinds, strict=True):
            if kind == SETTING and (own in self.settings or name in self.settings) and own != name:
                raise CannotSpreadError(f"{source.__name__}: {name} is called {own} there")
        module = source.__module__.rpartition(".")[2]
        name = f"{module}_{source.__name__}_{''.join(map(str, kinds))}".replace("__", "_")
        if name not in self.written:
            one = Function(self, source, kinds, name)
            self.written[name] = ""  # a function that calls itself would not end
            text = one.text()
            del self.written[name]
            self.written[name] = text  # after those that it calls
            self.results[name], self.asked[name] = one.results, one.asked
        return name

    def module(self, entries: Mapping[str, tuple[Source, Mapping[str, int], Sequence[str]]]) -> str:
        """Return the source of a module with functions that work on lanes.

        Parameters
        ----------
        entries : by name the function, kinds of its parameters that are not shared, and those that
            are numbers: they come as arrays (1, lanes)

        """
        lines = []
        for name, (plain, kinds, numbers) in entries.items():
            parameters = list(inspect.signature(getattr(plain, "py_func", plain)).parameters)
            of_each = [kinds.get(one, SHARED) for one in parameters]
            made = self.function(plain, of_each, parameters)
            given = [f"memory_.get({one}, 0)" if one in numbers else one for one in parameters]
            asked = "".join(f"    {one}\n" for one in self.asked[made])
            lines += [f"@njit()\ndef {name}({', '.join([*parameters, 'apart'])}):\n{asked}"
                      f"    {made}(lanes_.wide(True), apart, {', '.join(given)})\n"]  # fmt: skip
        parts = [f"@_part\n{text}" for text in self.written.values()]
        return "\n\n".join([_HEAD, "\n".join(self.plain.values()), _PART, *parts, *lines])

    def shared(self, plain: Source) -> str:
        """Return the name under which a function is called as it is."""
        source: Source = getattr(plain, "py_func", plain)
        name = f"{source.__module__.rpartition('.')[2]}_{source.__name__}".replace("__", "_")
        self.plain[name] = f"from {source.__module__} import {source.__name__} as {name}"
        return name


def load(name: str, source: Callable[[], str], folder: Path) -> ModuleType:
    """Load a module from a folder, and write its source there where there is none yet.

    Parameters
    ----------
    folder : of all that was made by the same version of what makes it

    """
    path = folder / f"{name}.py"
    if not path.exists():
        text = source()
        handle, part = tempfile.mkstemp(dir=folder, suffix=".part")
        with os.fdopen(handle, "w") as file:
            file.write(text)
        Path(part).replace(path)
    spec = importlib.util.spec_from_file_location(name, path)
    assert spec is not None
    assert spec.loader is not None
    module = sys.modules[name] = importlib.util.module_from_spec(spec)  # compiled code asks for it
    spec.loader.exec_module(module)
    return module
