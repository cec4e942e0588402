"""Tries that follow one another: none beyond what was announced, none lost, none only promised."""

from dataclasses import replace

import pytest
from benchmarks.machines import sensed, the_axis

from oarlock.drive.runner import Quiet
from oarlock.drive.travel import excursion
from oarlock.experiments.common.announce import announced, announced_together
from oarlock.experiments.common.experiment import Experiment, Scalable
from oarlock.experiments.common.repeat import Another, another, gentler_tries, largest_try
from oarlock.experiments.identify.flux import FluxSpin
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.resonance import TorqueSines
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.quantities.display import digits
from oarlock.records import Ask, Check, Finding, Record
from oarlock.session import perform as module
from oarlock.session.commission_parts import moves
from oarlock.session.perform import Performed, perform
from tests.model_link import Hasty, ModelLink

_ASKS = {"voltage limit": Ask.WEAKER, "excitation": Ask.STRONGER, "settled": Ask.LONGER}
_NOTHING = Record(experiment="x", sample_time=1e-4, columns={}, units={})


def failing(name: str) -> Finding:
    ask = _ASKS.get(name, Ask.NOTHING)
    check = Check(code=name, passed=False, sentence=f"{name} failed", ask=ask)
    return Finding(quantity="x", estimates={}, checks=(check,))


class Played:
    """Stands for the play itself: says what was asked and what came of it."""

    def __init__(self, *names: str, plain: object) -> None:
        self.names, self.plain = iter(names), plain
        self.played: list[Experiment] = []

    def __call__(self, experiment: Experiment, *rest: object) -> Performed:
        self.played.append(experiment)
        done: Performed = self.plain(experiment, *rest)  # type: ignore[operator]
        return replace(done, reading=failing(next(self.names)))


@pytest.fixture
def axis() -> Axis:
    return sensed(the_axis(), draw("winch", 0))


def tries(
    monkeypatch: pytest.MonkeyPatch, axis: Axis, experiment: Experiment, *names: str
) -> tuple[list[Experiment], list[Performed], list[str]]:
    played = Played(*names, plain=module._perform_once)
    monkeypatch.setattr(module, "_perform_once", played)
    kept: list[Performed] = []
    said: list[str] = []
    link = ModelLink(draw("winch", 0))
    perform(experiment, axis, link, lambda _f, doing: said.append(doing), Hasty(), kept.append)
    return played.played, kept, [text for text in said if text.startswith("again")]


def test_a_weak_answer_is_tried_once_as_strong_as_announced(
    monkeypatch: pytest.MonkeyPatch, axis: Axis
) -> None:
    first = InductanceSine(axis_name="d")
    played, kept, said = tries(monkeypatch, axis, first, "excitation", "excitation", "excitation")
    assert played == [first, largest_try(first, axis)]
    assert len(kept) == 1
    assert "played again, stronger" in kept[0].run.remark
    assert len(said) == 1  # and no word of a third that is not played


def test_a_strong_answer_is_tried_more_gently_twice_at_most(
    monkeypatch: pytest.MonkeyPatch, axis: Axis
) -> None:
    first = InductanceSine(axis_name="d")
    played, kept, said = tries(monkeypatch, axis, first, *["voltage limit"] * 4)
    assert [p.amplitude for p in played] == pytest.approx([0.12, 0.072, 0.0432])  # type: ignore[attr-defined]
    assert len(kept) == len(said) == 2


def test_quiet_is_quiet() -> None:
    Quiet()(0.5, "x")


def largest(experiment: Experiment, axis: Axis) -> float:
    stronger = largest_try(experiment, axis)
    assert stronger is not None
    return stronger.plan(axis).largest_current


@pytest.mark.parametrize(
    "experiment", [InductanceSine(axis_name="d"), FluxSpin(), SpeedTrapezoids(), TorqueSines()]
)
def test_the_announcement_covers_every_try(experiment: Experiment, axis: Axis) -> None:
    text = announced(experiment, axis)
    assert "If the answer is too weak, once more: " in text
    wanted = another(experiment, failing("excitation"), _NOTHING)
    assert isinstance(wanted, Another)
    assert wanted.stronger
    assert wanted.experiment == largest_try(experiment, axis)
    assert largest(experiment, axis) >= experiment.plan(axis).largest_current
    assert largest_try(ResistanceHolds(), axis) is None
    assert "once more" not in announced(ResistanceHolds(), axis)
    assert isinstance(experiment, Scalable)
    assert experiment.scaled(1.0) == experiment


def test_gentler_tries_count_in_what_is_announced(axis: Axis) -> None:
    """A spin broken off far out goes on from there, twice at most."""
    once = excursion(FluxSpin().plan(axis), axis)[0].farthest
    tries = gentler_tries(FluxSpin(), axis)
    assert [try_.levels for try_ in tries if isinstance(try_, FluxSpin)] == [
        pytest.approx((0.18, 0.36)), pytest.approx((0.108, 0.216))]  # fmt: skip
    far = once + sum(excursion(e.plan(axis), axis)[0].farthest for e in tries)
    assert far > 1.3 * once
    assert moves(FluxSpin(), axis, held=False).turns == pytest.approx(far)
    assert f"more gently from there: {digits(far, 2)} turns in all" in announced(FluxSpin(), axis)
    assert digits(far, 2) in announced_together([FluxSpin(), ResistanceHolds()], axis)
    assert gentler_tries(ResistanceHolds(), axis) == []
    assert gentler_tries(InductanceSine(axis_name="d"), axis) == []
