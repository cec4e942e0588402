"""Eight drives that play the same plan, side by side: one compiled loop over vectors of eight.

The loop is the drive's own (`advance`), spread over lanes when it is first wanted, and kept in the
folder of the compiled code. It comes to the same bits as eight drives one after another. Where the
drives would have to go different ways (one trips, or a setting leads one elsewhere) nothing is
changed, and each goes on by itself.
"""

import math
import threading
from collections.abc import Callable, Sequence
from functools import cache
from types import ModuleType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.jit import kernel_folder
from oarlock.lanes.expressions import DIFFERS, SETTING
from oarlock.lanes.spread import Spreading, load
from oarlock.lanes.vectors import LANES
from oarlock.simulate import advance, tally
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel, simplest

ROWS = 2000  # that their recorder holds: what a core's own cache bears
_LINE = 64  # bytes, of the cache
_MODULE = "oarlock_side_by_side"
_LEFT_OUT = frozenset({"switch", "stay", "add_up", "observe"})
_DRIVES = dict.fromkeys(("state", "history", "trace", "sums", "totals", "values", "work", "phase",
                         "out", "bridge"), DIFFERS)  # fmt: skip
_SAMPLES = {"plant": SETTING, "firm": SETTING, **_DRIVES}
_TALLY = dict.fromkeys(("rows", "began_at", "resistance", "sums", "bin_", "kept"), DIFFERS)


def source() -> str:
    """Return the source of the loops on vectors."""
    spreading = Spreading(
        left_out=_LEFT_OUT, alike=frozenset({"TS"}), settings=frozenset({"plant", "firm"})
    )
    return spreading.module({
        "advance": (advance._samples, _SAMPLES, ()),  # noqa: SLF001 - the loop itself
        "gather": (tally.gather, _TALLY, ("began_at", "resistance")),
    })  # fmt: skip


_LOADING = threading.Lock()


def _loops() -> ModuleType:
    """Return the loops, written where compiled code is kept when they are first wanted.

    One thread at a time: Python's parser does not bear two.
    """
    with _LOADING:
        return _loaded()


@cache
def _loaded() -> ModuleType:
    return load(_MODULE, source, kernel_folder())


def is_compiled() -> bool:
    """Return whether the loops were compiled before; else their first use takes half a minute."""
    folder = kernel_folder()
    return all(any(folder.rglob(f"{_MODULE}.{name}-*.nbc")) for name in ("advance", "gather"))


def can_go_together(models: Sequence[DriveModel]) -> bool:
    """Return whether drives are at the same place of the same plan, on bridges that average."""
    return len(models) == LANES and all(_goes_with(one, models[0]) for one in models)


def _goes_with(one: DriveModel, other: DriveModel) -> bool:
    table, columns, lines = one.plan
    return (
        not one.plant.switches
        and np.array_equal(table, other.plan[0])
        and np.array_equal(columns, other.plan[1])
        and np.array_equal(lines, other.plan[2])
        and np.array_equal(one.meta, other.meta)
    )


class Lanes:
    """Eight drives at the same place of the same plan; they stay as they are until `put_back`."""

    def __init__(self, models: Sequence[DriveModel]) -> None:
        self.models = tuple(models)
        first = models[0]
        self._first, self._meta = first, first.meta.copy()
        self._cold = np.array([[one.plant.R for one in models]])
        self._plants = _side_by_side(lambda one: one.plant_now, models)
        self._firm = _side_by_side(lambda one: one.firm, models)
        self._state = _side_by_side(lambda one: one.inside[0], models)
        self._history = _side_by_side(lambda one: one.inside[1], models)
        self._sums = _side_by_side(lambda one: one.inside[2], models)
        self._columns, self._lines = first.plan[1:]
        self._trace = _room((ROWS, self._columns.size), np.float32)
        sizes = (k.N_CHANNELS, k.WORK_SIZE, 3, 3, k.BRIDGE_SIZE)
        self._scratch = tuple(_room((size,)) for size in sizes)
        self._none = np.zeros((0, 1, LANES))
        self._edges = np.zeros((0, k.EDGE_SIZE))
        self._reach = np.zeros((1, k.REACH_SIZE), dtype=np.float32)

    def advance(self, samples: int) -> bool:
        """Let control periods pass, at most `ROWS`; return whether all could go together.

        What acts on the models from outside acts. Where they could not, nothing has changed.

        Raises
        ------
        ValueError : more periods than the recorder holds

        """
        if samples > ROWS:
            raise ValueError(f"{samples} samples, the recorder of the lanes holds {ROWS}")
        for n, one in enumerate(self.models):
            self._plants[:, n] = one.plant_now
        before = self._state.copy(), self._history.copy(), self._sums.copy(), self._meta.copy()
        apart = np.zeros(1, dtype=np.int64)
        table = self._first.plan[0]
        _loops().advance(
            self._plants, self._firm, table, table.shape[0], self._lines, self._state, self._meta,
            self._history, self._columns, self._trace, self._sums, self._none, self._edges,
            self._reach, *self._scratch, samples, apart,
        )  # fmt: skip
        together = not apart[0] and self._meta[k.TRIP] == k.TRIP_NONE
        if not together:
            self._state, self._history, self._sums, self._meta = before
        return together

    @property
    def is_running(self) -> bool:
        """Whether the plan has not come to its end."""
        return bool(self._meta[k.RUNNING] == 1)

    @property
    def recorded(self) -> int:
        """Rows recorded so far."""
        return int(self._meta[k.RECORDED])

    @property
    def resistances(self) -> NDArray[np.float64]:
        """Ohm, of each winding as warm as it is, (1, lanes)."""
        warm: NDArray[np.float64] = self._cold * (1.0 + k.COPPER_HEAT * self._state[k.HEAT])
        return warm

    def put_back(self) -> None:
        """Bring the models to where they have come."""
        for n, one in enumerate(self.models):
            one.set_inside(self._state[:, n], self._history[:, n], self._sums[:, n], self._meta)


class LaneTally:
    """What is kept of eight runs, as `tally.gather` keeps it of one: `kept` of each, one by one."""

    def __init__(self, width: int, most: int, models: Sequence[DriveModel]) -> None:
        self.width = width  # of a bin: samples
        self.kept = np.empty((LANES, 3, tally.COLUMNS, most))  # at once: few large pages
        self.counts = np.zeros(tally.COUNTS, dtype=np.int64)
        self.sums = _room((tally.SUMS,))
        self.begun = _room((3, tally.COLUMNS))
        self._newest = _room((3, tally.COLUMNS, ROWS // width + 2))
        self._began_at = np.array([[one.began_at for one in models]])
        self._reach = np.zeros((0, k.REACH_SIZE), dtype=np.float32)

    def take(self, lanes: Lanes, since: int) -> None:
        """Take what they have recorded since a row, `ROWS` at most."""
        before = int(self.counts[tally.BINS])
        self.counts[tally.BINS] = 0
        at, left = since % ROWS, lanes.recorded - since
        while left > 0:
            many = min(left, ROWS - at)
            self.gather(lanes, at, many)
            at, left = 0, left - many
        new = int(self.counts[tally.BINS])
        self.kept[..., before : before + new] = self._newest[..., :new, :].transpose(3, 0, 1, 2)
        self.counts[tally.BINS] = before + new

    def gather(self, lanes: Lanes, at: int, many: int) -> None:
        """Gather so many rows of their recorder."""
        _loops().gather(
            lanes._trace, at, many, self._reach, self._began_at, lanes.resistances,  # noqa: SLF001
            self.width, self.counts, self.sums, self.begun, self._newest,
            np.zeros(1, dtype=np.int64),
        )  # fmt: skip


def _side_by_side(
    of: Callable[[DriveModel], NDArray[np.float64]], models: Sequence[DriveModel]
) -> NDArray[np.float64]:
    found = _room(np.shape(of(models[0])))
    np.stack([of(one) for one in models], axis=-1, out=found)
    return found


def _room(shape: tuple[int, ...], kind: type = np.float64) -> NDArray[Any]:
    """Return zeros for all lanes, each vector within one line of the cache."""
    size = math.prod(shape) * LANES * np.dtype(kind).itemsize
    whole = np.zeros(size + _LINE, dtype=np.uint8)
    begin = -whole.ctypes.data % _LINE
    return whole[begin : begin + size].view(kind).reshape(*shape, LANES)


def warm_up() -> None:
    """Compile the loops, or load them from the cache."""
    models = [simplest()] * LANES
    lanes, kept = Lanes(models), LaneTally(1, 1, models)
    lanes.advance(1)
    kept.gather(lanes, 0, 0)
