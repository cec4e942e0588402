"""Hall states: their order, and the table of angles at which each begins.

Edges met turning forward lie late, those met backward lie early, by friction and hysteresis;
their mean is the edge. Each edge comes once for every pole pair: the spread tells the magnets.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.common.angles import circular_mean, mean_angle, wrap, wrapped
from oarlock.machine.sensor import HALL_STATES, ILLEGAL

Array = NDArray[np.float64]
# Each state by its successor, turning forward, where the lines are 120° or 60° apart.
_FORWARD = {
    math.tau / 3.0: (5, 1, 3, 2, 6, 4),
    math.tau / 6.0: (1, 3, 7, 6, 4, 0),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class HallTable:
    """Where each state begins, rad electrical, with what is known of it."""

    starts: tuple[float, ...]  # by state; `ILLEGAL` where none
    std: float  # rad, of one start
    spread: float  # rad rms, from pole pair to pole pair
    play: float  # rad, half of the gap between both ways
    order: tuple[int, ...]  # states, turning forward
    edges: Array  # (n, 3): transition in order 0 to 5, rad, way
    against: float  # share of the edges that were met against the way: a rotor that swings


def transitions(codes: Array) -> list[tuple[int, int, int]]:
    """Return (row, state before, state after) of each change."""
    whole = codes.astype(int)
    rows = np.flatnonzero(np.diff(whole) != 0) + 1
    return [(int(row), int(whole[row - 1]), int(whole[row])) for row in rows]


def legal_order(states: list[int]) -> tuple[set[tuple[int, int]], float, list[int]]:
    """Return (pairs that may follow one another, step between the lines, illegal states seen).

    Six states seen decide between lines 120° and 60° apart; the way round is left open.
    """
    step = math.tau / 3.0
    if {0, 7} <= set(states) and not {2, 5} <= set(states):
        step = math.tau / 6.0
    cycle = _FORWARD[step]
    pairs = {(a, b) for a, b in zip(cycle, cycle[1:] + cycle[:1], strict=True)}
    return pairs, step, [state for state in states if state not in cycle]


def hall_table(codes: Array, angle: Array, way: Array) -> HallTable | None:
    """Return the table from states met both ways, or None where an edge never came.

    Parameters
    ----------
    codes : (n,), 0 to 7
    angle : rad, electrical, of the d axis as far as known, (n,)
    way : +1 where the shaft went forward, -1 backward, 0 where edges do not count, (n,)

    """
    edges = [edge for edge in transitions(codes) if way[edge[0]] != 0.0]
    pairs, _, _ = legal_order(sorted({int(c) for c in codes}))
    forward = sum(1 for row, a, b in edges if (a, b) in pairs and way[row] > 0)
    reverse = sum(1 for row, a, b in edges if (b, a) in pairs and way[row] > 0)
    cycle = _cycle(pairs) if forward >= reverse else tuple(reversed(_cycle(pairs)))
    nexts = dict(zip(cycle, cycle[1:] + cycle[:1], strict=True))
    met: dict[int, dict[int, list[float]]] = {state: {1: [], -1: []} for state in cycle}
    rows, crossings = [], _crossings(edges, angle, way)
    for row, a, b, at in crossings:
        if way[row] > 0 and nexts.get(a) == b:
            met[b][1].append(at)
            rows.append((cycle.index(b), at, 1.0))
        elif way[row] < 0 and nexts.get(b) == a:
            met[a][-1].append(at)
            rows.append((cycle.index(a), at, -1.0))
    if any(not ways[1] or not ways[-1] for ways in met.values()):
        return None
    starts, spreads, plays, each = [ILLEGAL] * HALL_STATES, [], [], []
    for state, ways in met.items():
        up, down = np.array(ways[1]), np.array(ways[-1])
        centre, _ = circular_mean(np.concatenate([up, down]))
        mean_up = float(np.mean(wrapped(up - centre)))
        mean_down = float(np.mean(wrapped(down - centre)))
        starts[state] = (centre + 0.5 * (mean_up + mean_down)) % math.tau
        spreads += [float(np.std(wrapped(side - centre))) for side in (up, down)]
        plays.append(0.5 * (mean_up - mean_down))
        each.append(min(up.size, down.size))
    spread = math.sqrt(float(np.mean(np.square(spreads))))
    return HallTable(
        starts=tuple(starts),
        std=spread / math.sqrt(2.0 * min(each)) if min(each) > 1 else spread,
        spread=spread,
        play=float(np.mean(plays)),
        order=cycle,
        edges=np.array(rows),
        against=1.0 - len(rows) / max(len(crossings), 1),
    )


def _crossings(
    edges: list[tuple[int, int, int]], angle: Array, way: Array
) -> list[tuple[int, int, int, float]]:
    """Return (row, state before, state after, rad) of each crossing.

    A rotor that trembles at an edge meets it several times: that is one crossing, in their
    middle, or none where it ends in the state in which it began.
    """
    found: list[tuple[int, int, int, float]] = []
    n = 0
    while n < len(edges):
        last = n
        while (
            last + 1 < len(edges)
            and edges[last + 1][1:] == edges[last][:0:-1]
            and way[edges[last + 1][0]] == way[edges[n][0]]
        ):
            last += 1
        if (last - n) % 2 == 0:
            # The state changed between two samples: the edge lies in the middle.
            met = [edge[0] for edge in edges[n : last + 1]]
            at = [angle[r - 1] + 0.5 * wrap(float(angle[r] - angle[r - 1])) for r in met]
            found.append((met[0], *edges[n][1:], wrap(mean_angle(np.array(at)))))
        n = last + 1
    return found


def _cycle(pairs: set[tuple[int, int]]) -> tuple[int, ...]:
    nexts = dict(pairs)
    state, found = next(iter(nexts)), []
    while state not in found:
        found.append(state)
        state = nexts[state]
    return tuple(found)


def widths(table: HallTable) -> Array:
    """Return how wide each sector is, rad, in the order of `table.order`."""
    starts = [table.starts[state] for state in table.order]
    return np.array(
        [(b - a) % math.tau for a, b in zip(starts, starts[1:] + starts[:1], strict=True)]
    )


def even_error(table: HallTable) -> tuple[float, float]:
    """Return (largest error rad, speed ripple ratio) if all sectors were taken for 60° wide.

    The speed made of one sector's time is wrong by what that sector's width is off.
    """
    wide = widths(table)
    starts = np.array([table.starts[state] for state in table.order])
    ideal = starts[0] + np.arange(6) * math.tau / 6.0
    off = wrapped(starts - ideal)
    off -= off.mean()
    return float(np.abs(off).max()), float(np.abs(wide / (math.tau / 6.0) - 1.0).max())


def left_ripple(table: HallTable) -> float:
    """Return the speed ripple (ratio) that remains with the table: pole pairs that differ."""
    return 2.0 * left_error(table) / (math.tau / 6.0)


def moved_from(table: HallTable, before: tuple[float, ...]) -> float | None:
    """Return by how much (rad) the table differs from one before, at most; None without one."""
    apart = [
        abs(wrap(new - old))
        for new, old in zip(table.starts, before, strict=True)
        if new > ILLEGAL and old > ILLEGAL
    ]
    return max(apart, default=None)


def left_error(table: HallTable) -> float:
    """Return the largest angle error (rad) that remains with the table: pole pairs that differ.

    Each edge was met forward and, in the opposite order, backward; the mean of both is free of
    friction as the table is.
    """
    worst = 0.0
    for n, state in enumerate(table.order):
        met = table.edges[table.edges[:, 0] == n]
        up = wrapped(met[met[:, 2] > 0.0, 1] - table.starts[state])
        down = wrapped(met[met[:, 2] < 0.0, 1] - table.starts[state])[::-1]
        if up.size == down.size and up.size:
            worst = max(worst, float(np.abs(0.5 * (up + down)).max()))
        else:
            worst = max(worst, 2.0 * table.spread)
    return worst
