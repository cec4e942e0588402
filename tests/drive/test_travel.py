"""How far the shaft goes: announced, kept within its limit over all plays, and turned back."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import random_axis, sensed, the_axis

from oarlock.cancel import Cancel
from oarlock.drive.dry_run import problems
from oarlock.drive.runner import play
from oarlock.drive.steps import Frame, Limits, Plan, SpeedLoop, Step
from oarlock.drive.travel import Ledger, Span, excursion, room, steps_back, within
from oarlock.errors import InputError, LinkLost
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.repeat import largest_try
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.flux import FluxSpin
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.resonance import TorqueSines
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis, SensorKind
from oarlock.machine.parameter import Parameter
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.records.quantity import KEYS
from tests.model_link import Hasty, ModelLink

TURN = math.tau


def limited(axis: Axis, turns: float) -> Axis:
    printed = Estimate(value=turns, unit="1", origin=Origin.DATASHEET, source=f"{turns}")
    mechanics = replace(axis.mechanics, max_turns=Parameter(printed=printed))
    return replace(axis, mechanics=mechanics)


def moving(axis: Axis, turns: float, speed: float = 30.0) -> Plan:
    """A plan that goes `turns` forward and stays there."""
    way = math.copysign(1.0, turns)
    seconds = abs(turns) * TURN / speed
    going = Step(duration=0.02, frame=Frame.SPEED, release=True, record=False)
    up = [replace(going, speed=way * speed * (n + 0.5) / 10) for n in range(10)]
    flat = replace(going, duration=seconds - 0.2, speed=way * speed)
    Kp = axis.machine.inertia.value * TURN * 5 / axis.machine.torque_constant  # type: ignore[union-attr]
    return Plan(
        name="go", steps=(*up, flat, *reversed(up), replace(going, duration=0.3, record=True)),
        channels=("t", "theta_m"), decimation=16,
        limits=Limits(current=9.0, speed=2.0 * speed + 10, travel=1.05 * abs(turns) * TURN,
                      time=seconds + 2.0),
        gains=gentle_gains(axis, TURN * 150), speed=SpeedLoop(Kp=Kp, Ki=Kp * 8.0), decouple=True,
    )  # fmt: skip


def test_the_excursion_of_each_frame() -> None:
    axis = the_axis()  # four pole pairs
    gains = gentle_gains(axis, 100.0)
    limits = Limits(current=5.0, speed=100.0, travel=2.0, time=100.0)

    def way(*steps: Step) -> tuple[Span, Span]:
        plan = Plan(name="x", steps=steps, channels=("t",), limits=limits, gains=gains)
        return excursion(plan, axis)

    fast = Step(duration=2.0, frame=Frame.SPEED, speed=TURN)
    assert way(fast, replace(fast, speed=-1.5 * TURN)) == (Span(-1.0, 2.0), Span(-1.0, -1.0))
    field = Step(duration=2.0, frame=Frame.CARRIED, turning=4 * TURN, i_d=1.0)
    there, ends = way(field)
    assert (there.least, there.most) == pytest.approx((-0.125, 2.125))
    assert (ends.least, ends.most) == pytest.approx((-0.125, 2.125))  # it may follow, or slip
    swung = Step(duration=1.0, frame=Frame.PATH, distance=0.0, speed=-TURN)
    there, ends = way(replace(fast, duration=1.0), swung, replace(swung, distance=TURN, speed=0.0))
    assert there.most == pytest.approx(2.0)
    assert there.least == pytest.approx(0.0)
    assert (ends.least, ends.most) == pytest.approx((2.0, 2.0))
    back, _ = way(replace(fast, duration=1.0), swung)  # t − t² turns on from the first
    assert back.most == pytest.approx(1.25)
    out, _ = way(swung)  # from rest: t² − t³ turns
    assert out.most == pytest.approx(4.0 / 27.0)
    held = Step(duration=0.1, frame=Frame.FIXED, i_d=1.0)
    round_, _ = way(*(replace(held, angle=n * TURN / 6) for n in range(7)))
    assert round_.most == pytest.approx(0.25 + 0.125)  # once round, electrically
    _, loose = way(Step(duration=0.1, i_q=1.0))
    assert loose.most == pytest.approx(2.0 / TURN)  # as far as the limit lets it
    assert way(Step(duration=1.0, frame=Frame.OFF)) == (Span(), Span())


def test_the_drives_limit_never_lies_beyond_what_is_left() -> None:
    axis = limited(the_axis(), 12.0)
    assert room(axis, Span(6.0, 6.5)) == 5.5
    plan = moving(axis, 5.0)
    fits = within(plan, axis, Span(6.0, 6.0))
    assert fits is not None
    assert fits.limits.travel <= 6.0 * TURN
    assert within(plan, axis, Span(8.0, 8.0)) is None
    assert within(plan, axis, Span(-8.0, -8.0)) is None
    assert within(plan, the_axis(), Span(1e6, 1e6)) is plan


def test_a_plan_beyond_the_travel_is_refused_dry() -> None:
    axis = limited(the_axis(), 3.0)
    assert any("turns the shaft 5" in text.sentence for text in problems(moving(axis, 5.0), axis))
    assert any(
        "aborts only after 5.25 turns" in t.sentence for t in problems(moving(axis, 5.0), axis)
    )
    assert problems(moving(axis, 2.5), axis) == []


def where(link: ModelLink) -> float:
    return link.model.angle / TURN


def test_the_shaft_is_turned_back_where_there_is_no_room() -> None:
    """Three plays of five turns each in a travel of twelve: it never stands beyond."""
    plant = draw("winch", 0)
    axis = limited(sensed(the_axis(), plant), 12.0)
    link = ModelLink(plant)
    begun = where(link)
    ends = []
    for _ in range(3):
        record = play(moving(axis, 5.0), axis, link, settings={}, cancel=Hasty())
        assert record.ended == "done"
        ends.append(where(link) - begun)
        assert link.ledger.standing(axis).most == pytest.approx(ends[-1], abs=0.05)
    assert ends[0] == pytest.approx(5.0, abs=0.3)
    assert ends[1] == pytest.approx(10.0, abs=0.4)
    assert max(ends) < 12.0
    assert ends[2] < ends[1] + 1.0  # it was turned back before it went on


def test_a_hand_that_turns_the_shaft_meanwhile_is_seen() -> None:
    axis = limited(the_axis(), 12.0)
    ledger = Ledger()
    ledger.begin(axis, 100.0)
    ledger.look(axis, 100.0 + 3.0 * TURN)
    assert ledger.standing(axis).least == pytest.approx(3.0)
    other = replace(axis, name="other")
    ledger.look(other, 5.0)  # another shaft, another place
    assert ledger.standing(other) == Span()


def test_a_sensor_that_counts_the_other_way_from_now_on() -> None:
    axis = limited(the_axis(), 12.0)
    ledger = Ledger()
    ledger.begin(axis, 0.0)
    ledger.look(axis, 3.0 * TURN)
    side = axis.sensor.side
    flipped = replace(axis.sensor, side=replace(
        side, adopted=Estimate(value=-side.value, unit="1", origin=Origin.MEASURED)))  # fmt: skip
    ledger.look(replace(axis, sensor=flipped), -3.0 * TURN)
    assert ledger.standing(axis) == Span(-3.0, -3.0)


def test_without_a_sensor_the_worst_is_assumed() -> None:
    plant = replace(draw("winch", 0), sensor="none")
    axis = limited(sensed(the_axis(), plant), 12.0)
    assert axis.sensor.kind is SensorKind.NONE
    link = ModelLink(plant)
    spin = ForcedSpin()
    play(spin.plan(axis), axis, link, settings=spin.settings(axis), cancel=Hasty())
    stands = link.ledger.standing(axis)
    way, _ = excursion(spin.plan(axis), axis)
    assert stands.most == pytest.approx(way.most)
    with pytest.raises(InputError, match="Turn it back by hand, gates off"):
        play(spin.plan(axis), axis, link, settings=spin.settings(axis), cancel=Hasty())


def test_when_the_line_breaks_nobody_knows_how_far_it_went() -> None:
    plant = draw("winch", 0)
    axis = limited(sensed(the_axis(), plant), 12.0)

    class Breaking(ModelLink):
        def start(self) -> None:
            super().start()
            for name in ("read", "status"):
                setattr(self, name, lost)

    def lost(*_: object) -> None:
        raise LinkLost("gone")

    link = Breaking(plant)
    with pytest.raises(LinkLost):
        play(moving(axis, 5.0), axis, link, settings={}, cancel=Cancel())
    assert link.ledger.standing(axis).most == pytest.approx(5.0, abs=0.1)


def test_before_the_zero_is_known_a_hand_must_turn_it_back() -> None:
    axis = limited(the_axis(), 12.0)
    blind = replace(axis, machine=replace(axis.machine, inertia=None))
    with pytest.raises(InputError, match=r"stands 8 turns .* Turn it back by hand"):
        steps_back(blind, moving(axis, 5.0), Span(8.0, 8.0))
    with pytest.raises(InputError, match="Turn it forward by hand"):
        steps_back(blind, moving(axis, 5.0), Span(-8.0, -8.0))


def experiments(axis: Axis) -> list[Experiment]:
    made: list[Experiment] = [experiment_for(q, held=False) for q in KEYS]
    made += [ForcedTurn(), BoundedSearch(), FourPushes(), ForcedSpin()]
    made += [TorqueSines(fine=(100.0, 200.0), way=-1.0), FluxSpin(), SpeedTrapezoids()]
    try:
        made.append(StartWithoutSensor(start=propose(axis)))
    except InputError:
        return made
    return made + [s for s in (largest_try(e, axis) for e in made) if s is not None]


def check_plans(count: int) -> tuple[int, int]:
    """Return (plans, refused) over random axes with random travels; none leaves its travel."""
    rng = np.random.default_rng(5)
    plans = refused = 0
    for seed in range(count):
        axis, plant = random_axis(np.random.default_rng(seed))
        turns = float(np.exp(rng.uniform(math.log(0.2), math.log(60.0))))
        axis = limited(sensed(axis, plant), turns)
        for experiment in experiments(axis):
            plans += 1
            try:
                plan = experiment.plan(axis)
            except InputError:
                refused += 1
                continue
            if any("travel" in t.sentence or "turn" in t.sentence for t in problems(plan, axis)):
                refused += 1
                continue
            way, _ = excursion(plan, axis)
            assert way.farthest <= turns, (seed, experiment)
            assert plan.limits.travel <= TURN * turns * 1.000001, (seed, experiment)
            stands = float(rng.uniform(-turns, turns))
            fits = within(plan, axis, Span(stands, stands))
            if fits is not None:
                assert abs(stands) + way.farthest <= turns
                assert abs(stands) + fits.limits.travel / TURN <= turns * 1.000001
    return plans, refused


def test_no_plan_of_any_experiment_leaves_the_travel() -> None:
    plans, refused = check_plans(40)
    assert plans > 500
    assert refused < 0.7 * plans


@pytest.mark.parametrize("experiment", [ForcedSpin(), TorqueSines(), FluxSpin(), SpeedTrapezoids()])
def test_a_played_experiment_stays_within_what_it_announced(experiment: Experiment) -> None:
    plant = draw("winch", 0)
    plant = replace(plant, brake=0.0)
    axis = limited(sensed(the_axis(), plant), 12.0)
    link = ModelLink(plant)
    far = 0.0
    begun = where(link)
    plain = link.model.advance

    def watched(samples: int) -> None:
        nonlocal far
        for _ in range(0, samples, 160):
            plain(min(160, samples))
            far = max(far, abs(where(link) - begun))

    link.model.advance = watched  # type: ignore[method-assign]
    staged = getattr(experiment, "perform", None)
    if staged:
        staged(axis, link, Hasty())
    else:
        play(experiment.plan(axis), axis, link, settings={}, cancel=Hasty())
    assert 0.3 < far < 12.0
    assert link.ledger.standing(axis).farthest < 12.0


def test_a_shaft_that_is_turned_back_ends_at_rest() -> None:
    back = steps_back(limited(the_axis(), 12.0), moving(the_axis(), 5.0), Span(8.0, 8.0))
    last = back.steps[-1]
    assert last.speed == 0.0
    assert last.record
    assert [one.speed for one in back.steps[:-1]] == [one.speed for one in back.steps[-2::-1]]
    assert all(one.speed < 0.0 for one in back.steps[:-1])
