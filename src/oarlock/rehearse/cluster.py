"""A study on a Dask cluster: the same figures, from as many machines as there are.

Each variant is a run of its own with its own seed, so that it comes to the same bits wherever and
in whichever order it is made. What a worker that is lost had in hand is made again by another.
"""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from oarlock.cancel import Cancel
from oarlock.errors import InputError
from oarlock.lanes.vectors import LANES
from oarlock.machine import Axis
from oarlock.rehearse.beside import rehearse_beside
from oarlock.rehearse.figures import RehearsalFigures, figures_of
from oarlock.rehearse.scenario import Scenario
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

if TYPE_CHECKING:
    from distributed import Client

_PATIENCE = 10.0  # s, for the scheduler to answer, and for a worker to come back
_PARTS = 8  # for each thread of the cluster: small enough to share out, large enough to send
_RETRIES = 3  # of a part whose worker was lost
_LOOK = 0.05  # s between two looks at what is done


@dataclass(frozen=True, slots=True)
class Cluster:
    """Workers behind a scheduler; close it when the study is done."""

    client: "Client"

    def close(self) -> None:
        """Leave it; the workers go on."""
        self.client.close()

    def figures(
        self, scenario: Scenario, axis: Axis, plants: Sequence[PlantParameters],
        bridge: Modulation, cancel: Cancel, told: Callable[[int], None],
    ) -> list[RehearsalFigures]:  # fmt: skip
        """Return the figures of each plant, in their order.

        Raises
        ------
        InputError : no worker is left
        Cancelled : it is not wanted any more

        """
        from distributed import KilledWorker

        threads = self._threads()
        if not threads:
            raise _deserted("no worker is there")
        size = max(len(plants) // (_PARTS * threads), 1)
        parts = [tuple(plants[at : at + size]) for at in range(0, len(plants), size)]
        given = (scenario, axis, bridge)
        waiting = {self.client.submit(_part, given, part, pure=False, retries=_RETRIES): n
                   for n, part in enumerate(parts)}  # fmt: skip
        made: dict[int, list[RehearsalFigures]] = {}
        seen = time.monotonic()
        try:
            while waiting:
                for future in [one for one in waiting if one.done()]:
                    made[waiting.pop(future)] = future.result()
                    told(sum(len(one) for one in made.values()))
                cancel.check()
                now = time.monotonic()
                seen = now if self._threads() else seen
                if now - seen > _PATIENCE:
                    raise _deserted("no worker is left")
                time.sleep(_LOOK)
        except KilledWorker as error:
            raise InputError("its workers die of it, one after another", place="cluster",
                             remedy="Look at their output, or vary here") from error  # fmt: skip
        finally:
            self.client.cancel(list(waiting))
        return [one for n in range(len(parts)) for one in made[n]]

    def _threads(self) -> int:
        return sum(self.client.nthreads().values())


def _deserted(cause: str) -> InputError:
    return InputError(cause, place="cluster", remedy="Start one: dask worker ADDRESS")


def join(address: str) -> Cluster:
    """Return the cluster whose scheduler answers at an address, "host:port" or "tcp://host:port".

    Raises
    ------
    InputError : Dask is not installed, or nobody answers there

    """
    try:
        from distributed import Client
    except ImportError as error:
        remedy = "Install it: pip install 'oarlock[cluster]'"
        raise InputError("Dask is not installed", place="cluster", remedy=remedy) from error
    try:
        return Cluster(Client(address, timeout=_PATIENCE, set_as_default=False))
    except (OSError, ValueError, TimeoutError) as error:
        raise InputError(f"no scheduler answers at {address}", place="cluster",
                         remedy="Start one: dask scheduler") from error  # fmt: skip


def _part(
    given: tuple[Scenario, Axis, Modulation], plants: tuple[PlantParameters, ...]
) -> list[RehearsalFigures]:
    """Return the figures of some variants. Runs on a worker."""
    scenario, axis, bridge = given
    return [figures_of(run, axis) for first in range(0, len(plants), LANES)
            for run in rehearse_beside(scenario, axis, plants[first : first + LANES],
                                       bridge=bridge)]  # fmt: skip
