"""The speed controller's lane of the proof: what it is given, and what the model makes of it."""

from collections.abc import Mapping

import numpy as np

from oarlock.control.load_observer import LoadObserver
from oarlock.control.single import (
    Options,
    Single,
    run_lagged,
    run_observed,
    run_section_states,
)
from oarlock.handover.values import MOST_FILTERS, SECTION
from oarlock.records import Record

NAME = "speed"
UNIT, COLUMNS = "A", 10
_OBSERVER = ("speed.observer_step", "speed.observer_speed", "speed.observer_load")
# What the reference calls the options, and the keys of each; in use where the keys are there.
_OPTIONS = {"SHARE": ("speed.share",), "FRICTION": ("speed.friction",), "OBSERVER": _OBSERVER}
# What the reference calls each number, and its key.
MACROS = {
    "KP": "speed.Kp", "KI": "speed.Ki", "WEIGHT": "speed.weight",
    "ACCELERATION": "speed.acceleration", "TS": "speed.T", "I_MAX": "speed.i_max",
}  # fmt: skip


def filters_of(by_key: Mapping[str, float], path: str) -> list[list[str]]:
    """Return the keys of each filter's numbers on a path, in order."""
    numbers = range(1, MOST_FILTERS[path] + 1)
    listed = ([f"speed.{path}{n}_{name}" for name in SECTION] for n in numbers)
    return [keys for keys in listed if keys[0] in by_key]


def sections(by_key: Mapping[str, float]) -> dict[str, list[str]]:
    """Return what the reference calls each filter and option, with the keys of its numbers."""
    filters = {f"{letter}{n}": keys for letter, path in (("F", "torque"), ("M", "measured"))
               for n, keys in enumerate(filters_of(by_key, path), 1)}  # fmt: skip
    options = {name: list(keys) for name, keys in _OPTIONS.items() if keys[0] in by_key}
    return filters | options


def sequence(record: Record | None, samples: int = 6000) -> Single:
    """Return what the controller is given, (n, 5): asked, ahead, acceleration, side, measured.

    A recorded test as it was, then large enough to limit, then all at once; without one, a random
    walk of both.
    """
    if record is not None and "speed_ref" in record.columns and record.rows:
        every = max(record.rows // samples, 1)
        asked = record["speed_ref"][::every].astype(np.float32)
        seen = record["speed"][::every].astype(np.float32)
    else:
        rng = np.random.default_rng(7)
        asked = np.cumsum(rng.normal(0.0, 0.5, samples)).astype(np.float32)
        seen = (asked + rng.normal(0.0, 2.0, samples)).astype(np.float32)
    zero = np.zeros_like(asked)
    plain = np.stack([asked, zero, zero, asked, seen], axis=1)
    steep = np.diff(asked, append=asked[-1]).astype(np.float32)
    large = np.stack([asked * np.float32(-40.0), asked, steep, zero, seen], axis=1)
    ten = np.float32(10.0)
    mixed = np.stack([asked, asked / ten, ten * steep, -asked, seen], axis=1)
    return np.ascontiguousarray(np.concatenate([plain, large, mixed, plain[::-1]]))


def expected(by_key: Mapping[str, float], given: Single) -> Single:
    """Return what the reference writes, (n, 10).

    Output, integrator, filtered output and the last torque filter's states; then the filtered
    speed and its last filter's; the observer's load and the speed asked for as it was taken.
    """
    asked, ahead, steep, side, plain = (np.ascontiguousarray(given[:, n]) for n in range(5))
    seen, first, second = _filtered(by_key, "measured", plain)
    feed = (np.float32(by_key["speed.acceleration"]) * steep).astype(np.float32)
    options = _options(by_key)
    taken = run_lagged(options.share, asked) if options.share < 1.0 else asked
    output, total, load = run_observed(
        by_key["speed.Kp"], by_key["speed.Ki"], by_key["speed.T"], by_key["speed.i_max"],
        asked, ahead, feed, seen, weight=by_key["speed.weight"], options=options, turning=side,
    )  # fmt: skip
    filtered, one, two = _filtered(by_key, "torque", output)
    columns = [output, total, filtered, one, two, seen, first, second, load, taken]
    return np.stack(columns, axis=1)


def _options(by_key: Mapping[str, float]) -> Options:
    return Options(
        share=by_key.get("speed.share", 1.0),
        friction=by_key.get("speed.friction", 0.0),
        observer=LoadObserver(
            step=by_key.get("speed.observer_step", 0.0),
            speed=by_key.get("speed.observer_speed", 0.0),
            load=by_key.get("speed.observer_load", 0.0),
        ),
    )


def limited(by_key: Mapping[str, float], model: Single) -> int:
    """Return how many outputs stand at the limit."""
    return int(np.sum(np.abs(model[:, 0]) >= np.float32(by_key["speed.i_max"])))


def _filtered(by_key: Mapping[str, float], path: str, x: Single) -> tuple[Single, Single, Single]:
    """Return `x` behind a path's filters, and the last one's states."""
    one, two = np.zeros_like(x), np.zeros_like(x)
    for keys in filters_of(by_key, path):
        b0, b1, b2, a1, a2 = (by_key[key] for key in keys)
        x, one, two = run_section_states((b0, b1, b2, a1, a2), x)
    return x, one, two
