"""Small loops that do everything that a loop may do; each works on arrays of plain numbers."""

import math

import numpy as np

from oarlock.jit import njit

_part = njit(inline=True)
LIMIT, FEW = 1.5, 3


@_part
def bounded(x: float, most: float) -> float:
    """Give back early, on either side."""
    if x > most:
        return most
    if x < -most:
        return -most
    return x


@_part
def sorted_pair(a: float, b: float) -> tuple[float, float]:
    """Give back two."""
    if a > b:
        return b, a
    return a, b


@_part
def first_above(settings: np.ndarray, x: float) -> float:
    """Give back from within a loop."""
    for n in range(FEW):
        at = 2 * n
        if x < settings[at]:
            return float(settings[at + 1])
    return -1.0


@_part
def note(state: np.ndarray, meta: np.ndarray, x: float) -> None:
    """Write where only some lanes come, and leave early."""
    if x < 0.0:
        state[3] += 1.0
        return
    state[4] += x
    if x > LIMIT:
        meta[1] = 7


def parted(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """Ways that part, within one another."""
    x, y = state[0], state[1]
    if x > 0.0 and not y > 1.0:
        x -= 0.5
        if y < -0.25 or x > LIMIT:
            state[2] = x * y
            x = -x
        else:
            state[2] += k
    elif 0.0 < y <= 2.0:
        y = x if x < -1.0 else y * settings[0]
    low, high = sorted_pair(x, y)
    state[0], state[1] = bounded(high, 2.0), low
    note(state, meta, x)
    meta[0] += 1


def counted(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """A loop that each lane leaves when it likes, and one with a way out."""
    parts = 3 if abs(state[0]) > 1.0 else (2 if state[0] > 0.0 else 1)
    for n in range(3):
        if n < parts:
            state[0] = 0.5 * state[0] + k
            state[1] += state[0] / parts
    state[2] = first_above(settings, state[1])
    for n in range(2):
        step = 0.25 * n
        if state[3] > step:
            state[4] += step


def rounded(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """Rounding, signs and single precision as plain code has them."""
    x, y = state[0], state[1]
    state[2] = round(x * 4.0) * 0.25 + math.floor(y)
    state[3] = math.copysign(min(abs(x), abs(y)), x) + max(x, y) + min(x, 0.0)
    single = np.float32(np.float32(x) * np.float32(y))
    state[4] = single if single > 0 else np.float32(-single)
    state[0] = math.sqrt(x * x + float(y) ** 2) / (1.0 + abs(y))
    code = 0
    for n in range(FEW):
        if x > n - 1.0:
            code += 1 << n
    state[1] = (code & 3) + math.exp(-abs(x)) + math.atan2(y, x)


def remembered(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """A whole number that all lanes share, kept from the turn in which each came there."""
    last = 0
    for n in range(4):
        if state[0] > n:
            last = n
            here = 2 * n  # read in this block alone
            state[3] += here
    for n in range(2):
        if state[1] > n:
            found = 5 + n
    if state[1] > 0.0:
        state[2] += found
    state[4] = last


def unlike(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What is no number is unlike all; single precision times a whole number is double."""
    if state[0] != state[1]:
        state[2] += 1.0
    if state[0] == state[1]:
        state[2] -= 1.0
    state[3] = np.float32(state[1]) * k / 3.0


def set_apart(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What a setting decides stays a branch."""
    many = int(settings[1])
    if settings[0] > 0.5:
        state[0] += many
    else:
        state[0] -= settings[0] * (1.0 if settings[2] > 0.0 else 2.0)


def steered(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What several settings decide, at fixed places, at counted ones, and beside what is shared."""
    if not (settings[0] <= 0.0 or settings[1] == settings[2]):
        state[0] += 1.0 if settings[3] < 2.0 or k > 1 else 3.0
        if settings[4] > state[0]:
            state[1] -= settings[4]
    elif k == 2 and settings[5] != 0.0:
        state[0] *= int(settings[5])
    for n in range(2):
        if settings[n + 4] >= 1.0:
            state[2] += n + 1.0


@_part
def asked_below(settings: np.ndarray, state: np.ndarray) -> None:
    """Have a setting decide in a function that is called."""
    if settings[1] > 0.0:
        state[0] += 1.0


def passed_on(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What a setting decides further down."""
    if settings[0] > 0.0:
        asked_below(settings, state)


@_part
def told_otherwise(given: np.ndarray, state: np.ndarray) -> None:
    """Take settings under a name of its own."""
    if given[0] > 0.0:
        state[0] += 1.0


def renamed(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What has no counterpart: settings that are called otherwise in a function."""
    told_otherwise(settings, state)


def endless(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What has no counterpart: a loop until something is so."""
    while state[0] > 1.0:
        state[0] *= 0.5


def by_lane(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What has no counterpart: a place that each lane has for itself."""
    here = 1 if state[0] > 0.0 else 2
    state[3] = state[here]


def shared_by_some(settings: np.ndarray, state: np.ndarray, meta: np.ndarray, k: int) -> None:
    """What has no counterpart: a value that differs, in a place that all share."""
    meta[0] = state[0]
