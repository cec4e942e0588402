"""The speed controller's lane of the proof: what it is given, and what the model makes of it."""

from collections.abc import Mapping

import numpy as np

from oarlock.control.single import Single, run_section_states, run_weighted
from oarlock.handover.values import SECTION
from oarlock.records import Record

NAME = "speed"
_MOST_FILTERS = 4
# What the reference calls each number, and its key.
MACROS = {
    "KP": "speed.Kp", "KI": "speed.Ki", "WEIGHT": "speed.weight",
    "ACCELERATION": "speed.acceleration", "TS": "speed.T", "I_MAX": "speed.i_max",
}  # fmt: skip


def filters_of(by_key: Mapping[str, float]) -> list[list[str]]:
    """Return the keys of each torque filter's numbers, in order."""
    listed = ([f"speed.torque{n}_{name}" for name in SECTION] for n in range(1, _MOST_FILTERS + 1))
    return [keys for keys in listed if keys[0] in by_key]


def speed_sequence(record: Record | None, samples: int = 6000) -> Single:
    """Return what the controller is given, (n, 4): asked, ahead, acceleration, measured.

    A recorded test as it was, then large enough to limit; without one, a random walk of both.
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
    plain = np.stack([asked, zero, zero, seen], axis=1)
    steep = np.diff(asked, append=asked[-1]).astype(np.float32)
    large = np.stack([asked * np.float32(-40.0), asked, steep, seen], axis=1)
    return np.ascontiguousarray(np.concatenate([plain, large, plain[::-1]]))


def expected(by_key: Mapping[str, float], given: Single) -> Single:
    """Return output, integrator, filtered output and the last filter's states, (n, 5)."""
    asked, ahead, steep, seen = (np.ascontiguousarray(given[:, n]) for n in range(4))
    feed = (np.float32(by_key["speed.acceleration"]) * steep).astype(np.float32)
    output, total = run_weighted(
        by_key["speed.Kp"], by_key["speed.Ki"], by_key["speed.T"], by_key["speed.i_max"],
        asked, ahead, feed, seen, weight=by_key["speed.weight"],
    )  # fmt: skip
    filtered, one, two = output, np.zeros_like(output), np.zeros_like(output)
    for keys in filters_of(by_key):
        b0, b1, b2, a1, a2 = (by_key[key] for key in keys)
        filtered, one, two = run_section_states((b0, b1, b2, a1, a2), filtered)
    return np.stack([output, total, filtered, one, two], axis=1)
