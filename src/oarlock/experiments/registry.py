"""Every kind of experiment there is: one row each, in the room of its subject."""

from oarlock.experiments.common.kind import Kind
from oarlock.experiments.identify.kinds import IDENTIFY
from oarlock.experiments.loops.kinds import LOOPS
from oarlock.experiments.sensing.kinds import SENSING

KINDS: tuple[Kind, ...] = (*IDENTIFY, *LOOPS, *SENSING)
KIND = {kind.key: kind for kind in KINDS}
