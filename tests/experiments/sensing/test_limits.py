"""Each check at rest and by hand holds just within the limit that it states, and fails beyond."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from benchmarks.machines import printed_axis

from oarlock.experiments.sensing.hand_reading import read_hand
from oarlock.experiments.sensing.rest import read_rest
from oarlock.experiments.sensing.turn_reading import read_turn
from oarlock.machine import Axis, SensorKind
from oarlock.records import Finding, Record
from tests.experiments.limits import limited


def made(settings: dict[str, Any], **columns: Any) -> Record:
    return Record(
        experiment="x", sample_time=1e-3, settings=settings, units=dict.fromkeys(columns, ""),
        columns={name: np.asarray(c, dtype=float) for name, c in columns.items()},
    )  # fmt: skip


# Currents at rest


def rest(
    axis: Axis, *, offset: float = 0.0, noise: float = 0.5, shift: float = 0.0, moved: float = 0.0,
    silent: bool = False, taken_off: float = 0.0,
) -> Finding:  # fmt: skip
    """Currents at rest of which phase b is off (A), noisy (counts), or shifts (counts)."""
    rng = np.random.default_rng(4)
    count, rows = axis.inverter.current_count, 4000
    wave = rng.standard_normal((3, rows))
    wave -= wave.mean(axis=1, keepdims=True)
    wave /= wave.std(axis=1, keepdims=True)
    currents = {f"i{p}": 0.5 * count * wave[n] for n, p in enumerate("abc")}
    currents["ib"] = 0.0 * wave[1] if silent else noise * count * wave[1]
    currents["ib"] = currents["ib"] + offset - taken_off
    currents["ib"][: rows // 2] -= currents["ib"][: rows // 2].mean() - offset + taken_off
    currents["ib"][rows // 2 :] += (
        offset - taken_off + shift * count - currents["ib"][rows // 2 :].mean()
    )
    settings = {"rows_off": rows // 2, "offsets": [0.0, taken_off, 0.0]}
    theta = np.linspace(0.0, moved, rows)
    return read_rest(made(settings, theta_m=theta, **currents), axis)


def test_currents_at_rest_and_their_limits(axis: Axis) -> None:
    count, scale = axis.inverter.current_count, axis.inverter.current_full_scale.value
    right = rest(axis, offset=3.0 * count)
    assert right.holds, right.failed
    assert right.estimates["inverter.offset_b"].value == pytest.approx(3.0 * count, rel=1e-6)
    limited(lambda x: rest(axis, noise=x), "noise", within=5.9, beyond=6.1, told="6 allowed")
    limited(lambda x: rest(axis, shift=x), "no current", within=1.45, beyond=1.55,
            told="1.5 allowed")  # fmt: skip
    limited(lambda x: rest(axis, moved=math.radians(x)), "shaft at rest", within=0.48, beyond=0.52)
    limited(lambda x: rest(axis, offset=x * scale), "sensor at its end", within=0.97, beyond=0.99,
            told="phase b")  # fmt: skip


def test_an_offset_may_be_a_part_of_the_range(axis: Axis) -> None:
    from oarlock.experiments.sensing.rest import MOST_OFFSET

    count, scale = axis.inverter.current_count, axis.inverter.current_full_scale.value
    assert 0.02 <= MOST_OFFSET <= 0.1
    for side in (1.0, -1.0):
        limited(lambda x, side=side: rest(axis, offset=side * x * MOST_OFFSET * scale),  # type: ignore[misc]
                "offset", within=0.99, beyond=1.01,
                told=f"{MOST_OFFSET * scale / count:.0f} allowed")  # fmt: skip


def test_what_was_taken_off_while_recording_counts_for_the_whole(axis: Axis) -> None:
    finding = rest(axis, offset=0.3, taken_off=0.25)
    assert finding.estimates["inverter.offset_b"].value == pytest.approx(0.3, rel=1e-6)
    scale = axis.inverter.current_full_scale.value
    at_end = rest(axis, offset=0.99 * scale, taken_off=0.9 * scale)
    assert "phase b" in at_end.failed[0].sentence


def test_a_sensor_that_gives_one_number_only_is_named(axis: Axis) -> None:
    silent = rest(axis, silent=True)
    assert [c.code for c in silent.failed] == ["alive"]
    assert "phase b" in silent.failed[0].sentence


# A turn by hand: resolver


def resolver(
    axis: Axis, *, size: float = 0.6, ratio: float = 1.0, skew: float = 0.0, off: float = 0.0,
    scatter: float = 0.0, clipped: float = 0.0, crept: float = 0.0, rounds: float = 2.0,
) -> Finding:  # fmt: skip
    """A turn by hand of a resolver whose lines are not what they should be."""
    rng = np.random.default_rng(6)
    t = np.arange(0.0, 3.0, 1e-3)
    way = np.clip((t - 0.4) / 2.0, 0.0, 1.0)
    phase = 0.7 + math.tau * rounds * (3.0 * way**2 - 2.0 * way**3)
    far = np.hypot(*rng.standard_normal((2, t.size)))
    far *= scatter * size / math.sqrt(float(np.mean(far**2))) * rng.choice([-1.0, 1.0], t.size)
    sine = ratio * (size + far) * np.sin(phase + skew) + off * size
    cosine = (size + far) * np.cos(phase)
    sine[100 : 100 + round(clipped * t.size)] = 1.0
    theta = phase + crept * np.clip(t / 0.15, 0.0, 1.0)
    kind = replace(axis.sensor, kind=SensorKind.RESOLVER)
    record = made({}, t=t, theta_m=theta, sine=sine, cosine=cosine)
    return read_hand(record, replace(axis, sensor=kind))


@pytest.fixture
def turned() -> Axis:
    """The winch, whose sensor has two rounds in a turn."""
    return printed_axis("winch")


def test_a_resolver_turned_by_hand_and_its_limits(turned: Axis) -> None:
    right = resolver(turned)
    assert right.holds, right.failed
    limited(lambda x: resolver(turned, size=x), "range", within=0.153, beyond=0.147,
            told="15 to 98 allowed")  # fmt: skip
    limited(lambda x: resolver(turned, clipped=x), "range", within=0.0015, beyond=0.0025,
            told="clipped")  # fmt: skip
    for side in (1.0, -1.0):
        limited(lambda x, side=side: resolver(turned, ratio=1.0 + side * x), "ellipse",  # type: ignore[misc]
                within=0.098, beyond=0.102)  # fmt: skip
        limited(lambda x, side=side: resolver(turned, skew=side * math.radians(x)), "ellipse",  # type: ignore[misc]
                within=9.8, beyond=10.2)  # fmt: skip
        limited(lambda x, side=side: resolver(turned, off=side * x), "ellipse",  # type: ignore[misc]
                within=0.098, beyond=0.102)  # fmt: skip
    limited(lambda x: resolver(turned, scatter=x), "scatter", within=0.019, beyond=0.021,
            told="2 allowed")  # fmt: skip
    limited(lambda x: resolver(turned, crept=math.radians(x)), "no load drives it", within=1.4,
            beyond=1.6)  # fmt: skip
    limited(lambda x: resolver(turned, rounds=x), "rounds a turn", within=2.23, beyond=2.27)
    limited(lambda x: resolver(turned, rounds=x), "rounds a turn", within=1.77, beyond=1.73)


def test_of_a_shaft_that_stood_and_of_a_missing_line_nothing_is_adopted(turned: Axis) -> None:
    assert resolver(turned, rounds=0.0).estimates == {}
    missing = resolver(turned, ratio=0.05)
    assert missing.estimates == {}
    assert "sine is missing" in missing.failed[0].sentence
    assert set(resolver(turned).estimates) >= {"sensor.sine_ratio", "sensor.skew"}


# A turn by hand: encoder


def encoder(
    axis: Axis, *, share: float = 1.0, left: float = 0.0, wander: float = 0.0
) -> Finding:  # fmt: skip
    """A turn by hand and back of an encoder; `left` counts at the end, an index that wanders."""
    t = np.arange(0.0, 4.0, 1e-3)
    whole = axis.sensor.counts.value
    way = np.clip((t - 0.3) / 1.5, 0.0, 1.0) - np.clip((t - 2.0) / 1.5, 0.0, 1.0)
    counts = np.floor(share * whole * way + left * np.clip((t - 2.0) / 1.5, 0.0, 1.0))
    index = np.where(t < 1.0, 0.0, np.where(t < 2.5, whole, 2.0 * whole + wander))
    kind = replace(axis.sensor, kind=SensorKind.ENCODER)
    record = made({}, t=t, theta_m=math.tau * counts / whole, counts=counts, index=index)
    return read_hand(record, replace(axis, sensor=kind))


def test_an_encoder_turned_by_hand_and_its_limits(turned: Axis) -> None:
    whole = turned.sensor.counts.value
    assert encoder(turned).holds
    limited(lambda x: encoder(turned, share=x), "counts a turn", within=1.097, beyond=1.103)
    limited(lambda x: encoder(turned, share=x), "counts a turn", within=0.903, beyond=0.897)
    allowed = 0.031 * whole + 1.5
    limited(lambda x: encoder(turned, left=x * allowed), "counts come back", within=0.99,
            beyond=1.02, told=f"{allowed:.0f} allowed")  # fmt: skip
    limited(lambda x: encoder(turned, wander=x), "index", within=2.0, beyond=3.0, told="wanders")
    for share in (4.0, 0.25):
        told = next(c for c in encoder(turned, share=share).checks if c.code == "counts a turn")
        assert "lines entered for counts" in told.sentence


# A forced turn


def forced(
    axis: Axis, *, short: float = 0.0, missing: float = 0.0, pairs: float = 1.0,
    friction: float = 5.0, stray: float = 0.0, follows: float = 1.0, slips: float = 0.0,
) -> Finding:  # fmt: skip
    """A turn and a bit by a forced field, and back; angles in degrees, electrical.

    Parameters
    ----------
    short : ratio by which the current was not reached, for a moment
    missing : of the current, what the three do not add up to, for a moment
    pairs : times the pole pairs that were entered
    follows : ratio of what the shaft turns to what the field does
    slips : degrees of scatter

    """
    rng = np.random.default_rng(8)
    many, entered = 6000, axis.machine.pole_pairs.value
    way = np.concatenate([np.linspace(0.0, 1.3, many), np.linspace(1.3, 0.0, many)[1:]])
    field = math.tau * entered * way
    side = np.concatenate([np.full(many, 1.0), np.full(many - 1, -1.0)])
    held = np.radians(friction) * side
    round_it = 0.5 * np.radians(stray) * np.sin(field / entered)
    shaken = np.radians(slips) * rng.standard_normal(field.size)
    theta_m = (field * follows - held + round_it + shaken) / (entered * pairs)
    current = 4.0
    i_d = np.full(field.size, current)
    i_d[7000] *= 1.0 - short
    phases = [current * np.cos(field - n * math.tau / 3.0) for n in range(3)]
    phases[1][5000] += missing * current
    record = made(
        {"current": current, "side": 1.0, "shake": 0.0}, t=np.arange(field.size) * 1e-3,
        theta_e=np.mod(field, math.tau), theta_m=theta_m, id=i_d,
        **{f"i{p}": phase for p, phase in zip("abc", phases, strict=True)},
    )  # fmt: skip
    return read_turn(record, axis)


def test_a_forced_turn_and_its_limits(turned: Axis) -> None:
    right = forced(turned)
    assert right.holds, right.failed
    assert right.extra["friction"].value == pytest.approx(math.radians(5.0), rel=0.02)
    limited(lambda x: forced(turned, short=x), "current reached", within=0.048, beyond=0.052,
            told="5 % allowed")  # fmt: skip
    limited(lambda x: forced(turned, missing=x), "sum of three", within=0.058, beyond=0.062,
            told="6 allowed")  # fmt: skip
    limited(lambda x: forced(turned, friction=x), "friction", within=39.0, beyond=41.0,
            told="80 allowed")  # fmt: skip
    limited(lambda x: forced(turned, stray=x), "angle over the turn", within=24.0, beyond=26.0,
            told="25 allowed")  # fmt: skip
    limited(lambda x: forced(turned, pairs=x), "pole pairs", within=1.045, beyond=1.055)
    limited(lambda x: forced(turned, pairs=x), "pole pairs", within=0.955, beyond=0.945)
    limited(lambda x: forced(turned, slips=x), "pole pairs", within=24.0, beyond=29.0,
            told="the shaft slipped")  # fmt: skip
    limited(lambda x: forced(turned, follows=x), "followed", within=0.52, beyond=0.48,
            told="it slipped")  # fmt: skip
    still = next(c for c in forced(turned, follows=0.015).checks if c.code == "followed")
    assert "did not turn" in still.sentence
