"""A drive of known truth to do sensing on, step by step, without a process."""

from dataclasses import replace
from typing import Any

from benchmarks.machines import printed_axis, sensed

from oarlock.drive.runner import play
from oarlock.experiments.registry import kind_of
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Finding, Record
from oarlock.session.perform import perform
from oarlock.simulate.plant_parameters import PlantParameters
from tests.model_link import Hasty, ModelLink


class Rig:
    """One axis as printed, on a drive that may have faults."""

    def __init__(self, name: str, seed: int = 0, **faults: Any) -> None:
        self.plant: PlantParameters = replace(draw(name, seed), **faults)
        self.axis: Axis = printed_axis(name)
        self.link = ModelLink(self.plant, seed=seed)

    def record(self, experiment: Any) -> Record:
        """Play one experiment."""
        if isinstance(experiment, BoundedSearch):
            return experiment.perform(self.axis, self.link, Hasty())
        plan, settings = experiment.plan(self.axis), experiment.settings(self.axis)
        return play(plan, self.axis, self.link, settings=settings, cancel=Hasty())

    def find(self, experiment: Any) -> Finding:
        """Play one experiment and read it."""
        kind = kind_of(experiment.name)
        assert kind is not None
        found = kind.read(self.record(experiment), self.axis)
        assert isinstance(found, Finding)
        return found

    def performed(self, experiment: Any) -> Finding:
        """Play and read as a session does, trips included."""
        reading = perform(experiment, self.axis, self.link, lambda _f, _d: None, Hasty()).reading
        assert isinstance(reading, Finding)
        return reading

    def adopt(self, finding: Finding) -> Finding:
        """Use what was found, if it holds."""
        if finding.holds:
            for path, estimate in finding.estimates.items():
                parameter = replace(self.axis.parameter(path), adopted=estimate)
                self.axis = self.axis.with_parameter(path, parameter)
        return finding

    def ready(self) -> "Rig":
        """Do what comes before the shaft may turn."""
        for experiment in (CurrentsAtRest(), TurnByHand(), StandingPulses()):
            finding = self.adopt(self.find(experiment))
            assert finding.holds, finding.failed
        return self

    def known(self, **changes: float) -> "Rig":
        """Take the sensors as they truly are, but for `changes` by path with dots as `__`."""
        self.axis = sensed(self.axis, self.plant)
        for path, value in changes.items():
            where = path.replace("__", ".")
            old = self.axis.parameter(where)
            found = replace(old.best, value=value)
            self.axis = self.axis.with_parameter(where, replace(old, adopted=found))
        return self

    def enter(self, path: str, value: float) -> "Rig":
        """Have a wrong value stand on paper."""
        old = self.axis.parameter(path)
        self.axis = self.axis.with_parameter(
            path, replace(old, printed=replace(old.printed, value=value))
        )
        return self

    @property
    def carries_no_current(self) -> bool:
        """Whether the drive is safe."""
        self.link.status()
        return not self.link.model.is_running and self.link.model.current < 1e-6


def failed(finding: Finding) -> dict[str, str]:
    """Return the sentences of the checks that failed, by name."""
    return {check.code: check.sentence for check in finding.failed}


TURN, PUSHES = ForcedTurn(), FourPushes(friction=0.25)
