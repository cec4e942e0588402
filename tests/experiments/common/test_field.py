"""A turning field is brought from one speed to another in small even steps."""

import numpy as np
import pytest

from oarlock.drive.steps import Frame, Step
from oarlock.experiments.common.field import field_ramp


@pytest.mark.parametrize(("start", "end"), [(0.0, 30.0), (30.0, -10.0)])
def test_a_ramp_takes_its_time_and_has_no_jerk(start: float, end: float) -> None:
    carried = Step(duration=9.0, frame=Frame.CARRIED, i_d=2.0)
    steps = field_ramp(carried, start, end, 0.5)
    speeds = np.array([step.turning for step in steps])
    assert sum(step.duration for step in steps) == pytest.approx(0.5)
    assert np.diff(speeds) == pytest.approx((end - start) / len(steps))
    assert speeds.mean() == pytest.approx(0.5 * (start + end))  # as far as an even ramp goes
    assert abs(speeds[0] - start) < abs(end - start) / 20.0
    assert {(step.i_d, step.frame) for step in steps} == {(2.0, Frame.CARRIED)}
