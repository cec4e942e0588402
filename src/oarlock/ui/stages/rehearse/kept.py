"""What a window in other colours shows again of a rehearsal."""

from typing import NamedTuple

from oarlock.machine import Axis
from oarlock.views.rehearsal import RehearsePicture, Split, Varied
from oarlock.views.replayed import ReplayPicture


class Kept(NamedTuple):
    """All that was simulated and is shown; where it is `told`, with what it is of."""

    shown: RehearsePicture | None
    replay: ReplayPicture | None
    replayed_on: Axis | None
    before: RehearsePicture | None  # what is compared with
    varied: tuple[Varied, str] | None
    many_drawn: bool
    split: tuple[Split, str] | None
