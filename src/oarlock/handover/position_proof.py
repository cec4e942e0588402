"""The position controller's lane of the proof: what it is given, and what the model makes of it."""

from collections.abc import Mapping

import numpy as np

from oarlock.control.single import Single, run_position
from oarlock.records import Record

NAME = "position"
UNIT, COLUMNS = "rad/s", 2
# What the reference calls each number, and its key.
MACROS = {"KP": "position.Kp", "SPEED_SHARE": "position.speed_share"}


def sections(_by_key: Mapping[str, float]) -> dict[str, list[str]]:
    """Return its filters: it has none."""
    return {}


def sequence(record: Record | None, samples: int = 6000) -> Single:
    """Return what the controller is given, (n, 2): how far it is off, the profile's speed.

    A recorded move as it was; without one, both at random.
    """
    needed = {"position_ref", "theta_m", "speed_ref"}
    if record is not None and needed <= set(record.columns) and record.rows:
        every = max(record.rows // samples, 1)
        off = (record["position_ref"] - record["theta_m"])[::every]
        profile = record["speed_ref"][::every]
    else:
        rng = np.random.default_rng(11)
        off, profile = rng.normal(0.0, 0.3, samples), rng.normal(0.0, 40.0, samples)
    plain = np.stack([off, profile], axis=1).astype(np.float32)
    return np.ascontiguousarray(np.concatenate([plain, np.float32(-40.0) * plain]))


def expected(by_key: Mapping[str, float], given: Single) -> Single:
    """Return speed asked for and speed asked ahead, (n, 2)."""
    off, profile = (np.ascontiguousarray(given[:, n]) for n in range(2))
    asked = run_position(by_key["position.Kp"], by_key["position.speed_share"], off, profile)
    return np.stack(asked, axis=1)


def limited(_by_key: Mapping[str, float], _model: Single) -> int:
    """Return how many outputs stand at a limit: there is none."""
    return 0
