"""The position loop's part of the demo's job: the fastest gain without overshoot, and a move."""

import math
from collections.abc import Callable
from dataclasses import replace

from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.machine.position_loop import KEY, PositionTarget
from oarlock.quantities.display import digits
from oarlock.records import Reading, Run
from oarlock.session.session import Session
from oarlock.views.position import designed, picture

Say = Callable[[str], None]
Play = Callable[[Experiment, str], tuple[Run, Reading | None]]


def tune_position(session: Session, play: Play, say: Say) -> list[str]:
    """Design the position loop, make a move with it, and return what does not hold."""
    axis, target = session.axis, PositionTarget()
    try:
        loops = axis.loops.with_target(KEY, target).with_gains(KEY, designed(axis, target))
        axis = replace(axis, loops=loops)
        shown = picture(axis, session.screen.move)
    except InputError as error:
        return [f"position loop: {error}"]
    session.edit("Take the designed gains of the position loop", axis)
    move = shown.test.move
    say("")
    say(f"position Kp {shown.gains.Kp:.4g} 1/s, crossover {digits(shown.crossover, 3)} Hz; a move "
        f"of {move.distance / math.tau:.3g} turns with {move.acceleration:.0f} rad/s²")  # fmt: skip
    run, result = play(shown.test, "move")
    if not isinstance(result, MoveResult):
        return [f"move: {run.ended}"]
    say(f"{'':10}{'behind °':>10}{'beyond °':>10}{'in place ms':>13}")
    for word, f in (("predicted", result.expected), ("measured", result.measured)):
        place = 1e3 * (move.duration + f.settling)
        say(f"{word:10}{math.degrees(f.following):10.2f}{math.degrees(f.overshoot):10.3f}"
            f"{place:13.0f}")  # fmt: skip
    return [f"move: {check.sentence}" for check in result.checks if not check.passed]
