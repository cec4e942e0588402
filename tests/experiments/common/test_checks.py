"""Checks that several experiments share."""

import math

import numpy as np
import pytest

from oarlock.experiments.common.checks import convention, voltage_limit
from oarlock.experiments.loops.sampling import lasting
from oarlock.machine import Axis
from oarlock.records import Ask, Record

ROWS = 1000


def limited_at(axis: Axis, *rows: slice) -> Record:
    """A record whose voltage is at its limit in some rows."""
    volts = np.full(ROWS, 0.5 * axis.inverter.v_max)
    for one in rows:
        volts[one] = axis.inverter.v_max
    columns = {"vd": 0.6 * volts, "vq": -0.8 * volts}
    return Record(experiment="x", sample_time=1e-4, columns=columns, units={"vd": "V", "vq": "V"},
                  settings={"divider": 10, "decimation": 2}, ended="done")  # fmt: skip


def test_a_share_of_one_per_cent_is_allowed(axis: Axis) -> None:
    assert voltage_limit(limited_at(axis, slice(0, 10)), axis).passed
    much = voltage_limit(limited_at(axis, slice(0, 11)), axis)
    assert not much.passed
    assert much.ask is Ask.WEAKER
    assert much.sentence == "The bus limited 1.1 % of the samples (1 % allowed)"


def test_moments_that_a_keen_loop_makes_of_its_sensor_are_told_and_no_fault(axis: Axis) -> None:
    moments = limited_at(axis, *(slice(n, n + 9) for n in range(0, ROWS, 50)))  # 18 %
    assert lasting(moments) == 10
    found = voltage_limit(moments, axis, lasting=10)
    assert found.passed
    assert found.sentence == (
        "The bus limited 18 % of the samples, for moments only: the sensor's steps shake the "
        "voltage"
    )
    assert not voltage_limit(moments, axis).passed
    longer = limited_at(axis, slice(100, 110), slice(500, 540), slice(990, 999))
    long = voltage_limit(longer, axis, lasting=10)
    assert not long.passed
    assert "5 % of the samples (1 % allowed)" in long.sentence  # those of 10 and of 40 rows


@pytest.mark.parametrize(("divider", "every", "rows"), [(10, 1, 20), (10, 5, 4), (10, 10, 2)])
def test_two_samples_of_the_speed_controller_last(
    axis: Axis, divider: int, every: int, rows: int
) -> None:
    record = limited_at(axis)
    settings = {"divider": divider, "decimation": every}
    assert lasting(Record(experiment="x", sample_time=1e-4, columns=record.columns,
                          units=record.units, settings=settings, ended="done")) == rows  # fmt: skip


def test_a_root_of_two_is_no_slip_of_what_has_no_effective_value() -> None:
    assert convention(math.sqrt(2.0), 1.0) == ""
    assert convention(math.sqrt(2.0), 1.0, pole_pairs=4.0) != ""
    assert convention(2.0, 1.0) != ""  # line to line has
