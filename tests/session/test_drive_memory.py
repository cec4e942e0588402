"""What a drive would start with: told, saved, and named where it is another set than in use."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.current import loops_with
from oarlock.control.margins import margins
from oarlock.control.position import PositionLoop
from oarlock.control.position_design import design_position
from oarlock.control.speed_design import loop_in_use
from oarlock.errors import InputError
from oarlock.experiments.loops.cascade import differing, standing_numbers
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.position_loop import PositionGains
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedGains
from oarlock.practice.truth import draw
from oarlock.session.drive_memory import memory_of
from oarlock.views.saved import saved_crossovers
from oarlock.views.strip import LoopMark, strip
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


def test_where_a_restart_would_put_each_loop_is_told_from_the_gains_it_begins_with() -> None:
    axis, link = tuned_winch(), ModelLink(draw("winch", 0))
    axis = axis.with_loop_gains(POSITION, design_position(axis).gains)
    link.write(standing_numbers(axis))
    link.save()
    gains, holds = axis.loops[SPEED].gains, memory_of(link)
    assert isinstance(gains, SpeedGains)
    assert axis.gains is not None
    speed = loop_in_use(axis)
    position = axis.loops[POSITION].gains
    assert isinstance(position, PositionGains)
    kept = {"current": margins(loops_with(axis, axis.gains)[1].opened).crossover,
            "speed": speed.margins.crossover,
            "position": PositionLoop(speed, position).margins.crossover}  # fmt: skip
    # Whatever is in use here meanwhile, the drive would begin with what it has saved.
    softer = replace(gains, Kp=0.5 * gains.Kp, Ki=0.5 * gains.Ki)
    other = axis.with_loop_gains(SPEED, softer).with_gains(replace(axis.gains, Kp_q=5.0))
    assert saved_crossovers(other, holds, "q") == pytest.approx(kept, rel=1e-5)
    along_d = margins(loops_with(axis, axis.gains)[0].opened).crossover
    assert saved_crossovers(other, holds, "d")["current"] == pytest.approx(along_d, rel=1e-5)
    marks = [LoopMark(key=key, crossover=(0.6 if key == "speed" else 1.0) * w / math.tau,
                      verified=True, limits=(1e3, 2e3, 3e3), end=8e3)
             for key, w in kept.items()]  # fmt: skip
    drawn = {m.label.split()[0]: m.saved for m in strip(axis, marks, saved=kept).loops}
    assert drawn["speed"] == pytest.approx(kept["speed"] / math.tau)
    assert drawn["current"] == drawn["position"] == 0.0  # where they are: nothing to tell


def test_a_loop_whose_saved_filters_are_others_or_that_swings_is_not_placed() -> None:
    axis, link = tuned_winch(), ModelLink(draw("winch", 0))
    link.write(standing_numbers(axis))
    link.save()
    holds = memory_of(link)
    assert set(saved_crossovers(axis, holds, "q")) == {"current", "speed"}
    filtered = {**holds, "Torque filter 1.b1": 0.3}
    assert set(saved_crossovers(axis, filtered, "q")) == {"current"}
    wild = {**holds, "Speed controller.Kp": 900.0}
    assert set(saved_crossovers(axis, wild, "q")) == {"current"}
    assert saved_crossovers(axis, {**holds, "Current controller.Kp d": 0.0}, "q") == {}
    assert saved_crossovers(axis, {}, "q") == {}


def test_what_is_not_known_is_not_told_as_the_same() -> None:
    axis = tuned_winch()
    assert differing(axis, {}) is None
    assert differing(known_winch().with_gains(None), {"Current controller.Kp q": 1.0}) is None
    with pytest.raises(InputError, match="no gains of the current loop"):
        standing_numbers(known_winch().with_gains(None))
