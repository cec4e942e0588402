"""What a drive would start with: told, saved, and named where it is another set than in use."""

from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.position_design import design_position
from oarlock.errors import InputError
from oarlock.experiments.loops.cascade import differing, standing_numbers
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedGains
from oarlock.practice.truth import draw
from oarlock.session.drive_memory import memory_of
from tests.model_link import ModelLink
from tests.speed_axis import known_winch, tuned_winch


def test_a_drive_is_asked_what_it_keeps_and_keeps_what_is_saved() -> None:
    axis, link = tuned_winch(), ModelLink(draw("winch", 0))
    axis = axis.with_loop_gains(POSITION, design_position(axis).gains)
    before = memory_of(link)
    assert before["Current controller.Kp q"] == 0.0
    assert {"Speed controller.Kp", "Torque filter 1.b0", "Position controller.Kp"} <= set(before)
    found = differing(axis, before)
    assert found is not None
    assert "Torque filter 1.In use" in found
    link.write(standing_numbers(axis))
    assert differing(axis, memory_of(link)) == found  # written, but not kept yet
    link.save()
    assert differing(axis, memory_of(link)) == ()
    gains = axis.loops[SPEED].gains
    assert isinstance(gains, SpeedGains)
    other = axis.with_loop_gains(SPEED, replace(gains, Kp=np.nextafter(np.float32(gains.Kp), 9.0)))
    assert differing(other, memory_of(link)) == ("Speed controller.Kp",)


def test_what_is_not_known_is_not_told_as_the_same() -> None:
    axis = tuned_winch()
    assert differing(axis, {}) is None
    assert differing(known_winch().with_gains(None), {"Current controller.Kp q": 1.0}) is None
    with pytest.raises(InputError, match="no gains of the current loop"):
        standing_numbers(known_winch().with_gains(None))
