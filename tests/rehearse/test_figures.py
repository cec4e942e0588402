"""Figures of a run against numbers worked out another way."""

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.machine import Parameter
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.bins import COLUMNS
from oarlock.rehearse.events import Load
from oarlock.rehearse.figures import RehearsalFigures, figures_of
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.supply import Supply
from oarlock.simulate.drive_model import DriveModel
from oarlock.views.rehearsal import _said
from tests.speed_axis import tuned_winch

AXIS = tuned_winch()
Table = NDArray[np.float64]


def made(control: Control, channel: str, course: list[float], *points: Point) -> Rehearsal:
    """A run of 10 bins of 0.1 s in which one channel takes a course, ± 0.5 within each bin."""
    t = np.linspace(0.0, 0.9, 10)
    zero = {name: np.zeros(10) for name in COLUMNS} | {"bus": np.full(10, 50.0 * math.sqrt(3.0))}
    mean = np.array(course)
    return Rehearsal(
        scenario=Scenario(name="s", control=control, duration=1.0, points=points), t=t,
        mean=zero | {channel: mean}, least=zero | {channel: mean - 0.5},
        most=zero | {channel: mean + 0.5}, ended="done", samples=16_000,
        squares={"current": 18.0, "following": 0.04, "ripple": 0.0}, saturated=0.25,
        plant=believed_plant(AXIS), resistance=AXIS.machine.R.value, burnt=0.0, trip=0,
        moments=(),
    )  # fmt: skip


def test_a_move_up_and_one_further() -> None:
    course = [0.0, 3.0, 8.0, 10.2, 10.0, 11.0, 13.0, 15.1, 14.8, 14.9]
    run = made(Control.POSITION, "position", course, Point(at=0.0, value=10.0),
               Point(at=0.5, value=5.0))  # fmt: skip
    first, second = figures_of(run, AXIS).points
    assert (first.asked, second.asked) == (10.0, 5.0)
    assert first.reached == 10.0
    assert first.overshoot == pytest.approx(0.07)  # 10.7 of 10
    assert second.reached == pytest.approx(14.9 - 10.0)
    assert second.overshoot == pytest.approx(0.6 / 5.0)  # 15.6 where 15 was asked for


def test_the_voltage_in_use_is_that_of_the_bus_as_it_is() -> None:
    run = made(Control.SPEED, "volts", [20.0] * 5 + [15.0] * 5, Point(at=0.0, value=20.0))
    falling = np.linspace(50.0, 20.0, 10) * math.sqrt(3.0)
    sagged = replace(run, mean=dict(run.mean) | {"bus": falling})
    told = figures_of(sagged, AXIS)
    assert told.voltage == pytest.approx(15.5 / 20.0)  # in its last bin
    assert figures_of(run, AXIS).voltage == pytest.approx(20.5 / 50.0)


def test_a_speed_down_through_zero() -> None:
    course = [0.0, 20.0, 20.0, 20.0, 20.0, -10.0, -30.0, -31.0, -30.0, -30.0]
    run = made(
        Control.SPEED, "speed", course, Point(at=0.0, value=20.0), Point(at=0.5, value=-30.0)
    )
    told = figures_of(run, AXIS)
    assert [point.overshoot for point in told.points] == pytest.approx([0.5 / 20.0, 1.5 / 50.0])
    assert told.points[1].reached == -30.0
    assert told.top_speed == 0.0  # the shaft itself stood: a sensor's word is no speed
    turned = made(Control.SPEED, "shaft", course, Point(at=0.0, value=20.0))
    assert figures_of(turned, AXIS).top_speed == 31.5
    assert math.isnan(told.following_peak)
    assert math.isnan(told.following_rms)


def test_the_same_asked_again_has_no_overshoot_and_a_point_past_the_end_no_figures() -> None:
    run = made(Control.CURRENT, "iq", [2.0] * 10, Point(at=0.0, value=2.0),
               Point(at=0.5, value=2.0), Point(at=1.0, value=3.0))  # fmt: skip
    first, second = figures_of(run, AXIS).points
    assert first.overshoot == pytest.approx(0.25)
    assert math.isnan(second.overshoot)


def test_figures_of_the_whole() -> None:
    run = made(Control.POSITION, "amperes", [4.0] * 9 + [7.0], Point(at=0.0, value=1.0))
    run = replace(run, most={**run.most, "volts": np.full(10, 30.0), "following": np.full(10, 0.1)},
                  least={**run.least, "following": np.full(10, -0.3)})  # fmt: skip
    told = figures_of(run, AXIS)
    assert told.peak_current == 7.5
    assert told.rms_current == pytest.approx(3.0)  # a vector of √18 A is a phase of 3 A rms
    assert told.copper_loss == pytest.approx(3.0 * AXIS.machine.R.value * 3.0**2)
    assert told.voltage == pytest.approx(0.6)
    assert told.saturated == 0.25
    assert told.following_peak == pytest.approx(0.3)
    assert told.following_rms == pytest.approx(0.2)
    assert told.seconds == pytest.approx(1.0)


@pytest.fixture
def samples(monkeypatch: pytest.MonkeyPatch) -> list[Table]:
    """What the drive recorded, sample by sample."""
    taken: list[Table] = []
    plain = DriveModel.window

    def window(self: DriveModel, begin: int, count: int) -> NDArray[np.float32]:
        found = plain(self, begin, count)
        taken.append(found.astype(np.float64))
        return found

    monkeypatch.setattr(DriveModel, "window", window)
    return taken


@pytest.mark.parametrize(("duration", "load"), [(0.02, 0.0), (0.4, 0.0), (2.0, 400.0)])
def test_bins_say_what_the_samples_say(samples: list[Table], duration: float, load: float) -> None:
    """One sample to a bin, many, and a run that trips within one."""
    scenario = Scenario(name="s", control=Control.SPEED, duration=duration,
                        points=(Point(at=0.002, value=150.0),),
                        loads=(Load(at=0.3, torque=load),) if load else ())  # fmt: skip
    run = rehearse(scenario, AXIS)
    told = figures_of(run, AXIS)
    table = np.concatenate(samples)
    amperes, volts = np.hypot(table[:, 4], table[:, 5]), np.hypot(table[:, 6], table[:, 7])
    assert run.samples == table.shape[0]
    assert told.peak_current == pytest.approx(amperes.max(), rel=1e-12)
    assert told.rms_current == pytest.approx(math.sqrt(np.mean(amperes**2) / 2.0), rel=1e-9)
    assert told.voltage == pytest.approx(volts.max() / AXIS.inverter.v_max, rel=1e-12)
    assert told.saturated == pytest.approx(np.mean(volts >= 0.999 * AXIS.inverter.v_max), abs=1e-12)
    assert told.top_speed == pytest.approx(np.abs(table[:, 9]).max(), rel=1e-12)
    assert run.least["speed"].min() == table[:, 2].min()
    assert run.t[-1] + 1e-9 < run.samples * AXIS.inverter.Ts


def test_the_time_at_the_limit_goes_by_the_bus_as_it_is(samples: list[Table]) -> None:
    supply = Supply(capacitance=3e-4, resistance=4.0)  # it sags within each run of samples
    scenario = Scenario(name="s", control=Control.SPEED, duration=0.3, supply=supply,
                        points=(Point(at=0.002, value=230.0),))  # fmt: skip
    compensated = replace(AXIS, inverter=replace(AXIS.inverter, bus_compensation=True))
    told = figures_of(rehearse(scenario, compensated), compensated)
    table = np.concatenate(samples)
    volts, limits = np.hypot(table[:, 6], table[:, 7]), table[:, 8] / math.sqrt(3.0)
    assert told.saturated == pytest.approx(np.mean(volts >= 0.999 * limits), abs=1e-12)
    assert told.saturated > 0.1


def printed(value: float, unit: str) -> Parameter:
    return Parameter(printed=Estimate(value=value, unit=unit, origin=Origin.DATASHEET))


SMALL = AXIS.with_parameter("inverter.max_current", printed(8.0, "A"))


def figures(**changed: float | str) -> RehearsalFigures:
    run = made(Control.SPEED, "speed", [0.0] * 10, Point(at=0.0, value=1.0))
    plain = replace(figures_of(run, AXIS), saturated=0.0, peak_current=4.0, voltage=0.5)
    return replace(plain, **changed)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({}, "It follows, with room left"),
        ({"following_peak": math.radians(12.3)}, "It gets there, 12° behind at most"),
        ({"peak_current": 7.9}, "The current is at its limit at 0.4 s"),
        ({"voltage": 0.99}, "The voltage is all but at its limit at 0.4 s"),
        ({"voltage": 1.0, "saturated": 0.034}, "The voltage is at its limit for 3.4 % of the time"),
        ({"ended": "tripped: over current"}, "No: it ends after 1.0 s, tripped: over current"),
        ({"winding": 131.0}, "It follows, with room left"),  # nobody entered what it may reach
    ],
)
def test_what_is_said(changed: dict[str, float | str], words: str) -> None:
    answer, reasons = _said(figures(**changed), SMALL, tightest=0.4)
    assert answer == words
    assert len(reasons) == 1


@pytest.mark.parametrize(
    ("winding", "words"),
    [
        (129.0, "It follows, with room left"),
        (144.6, "Repeated, it warms the winding to 145 °C; it may reach 130"),
        (math.inf, "Repeated, it warms the winding hotter and hotter; it may reach 130"),
    ],
)
def test_a_scenario_that_is_too_hot_to_be_repeated_is_told(winding: float, words: str) -> None:
    axis = SMALL.with_parameter("machine.max_temperature", printed(130.0, "°C"))
    assert _said(figures(winding=winding), axis, tightest=0.4)[0] == words


def test_room_is_told_in_per_cent_of_both_limits() -> None:
    assert _said(figures(), SMALL, tightest=0.4)[1] == (
        "Most of all at 0.4 s: 50 % of the peak current, 50 % of the bus.",
    )


def test_energy_is_what_the_bins_draw_and_return() -> None:
    """100 W for half a second, 40 W back for the other half; within a bin it may swing."""
    run = made(Control.SPEED, "power", [100.0] * 5 + [-40.0] * 5, Point(at=0.0, value=1.0))
    told = figures_of(run, AXIS)
    assert told.drawn == pytest.approx(50.0)
    assert told.returned == pytest.approx(20.0)
