"""Sweeps of the current loop on a simulated drive, against the exact loop."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.current import loops_with
from oarlock.control.margins import margins
from oarlock.control.measured_loop import LoopPoints
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.loops.current_multisine import CurrentMultisine
from oarlock.experiments.loops.current_response import CurrentSwept, _between, _checks
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Plain
from tests.conftest import play_on_model
from tests.speed_axis import known_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return known_winch()


@pytest.mark.parametrize("kind", [CurrentSweep, CurrentMultisine])
@pytest.mark.parametrize("which", ["d", "q"])
def test_the_open_loop_is_measured_up_to_nearly_half_the_sampling(
    axis: Axis, which: str, kind: type[CurrentSweep] | type[CurrentMultisine]
) -> None:
    sweep = kind(axis_name=which, bias=4.0, amplitude=0.8)
    assert not problems(sweep.plan(axis), axis)
    found = read(play_on_model(sweep, axis, draw("winch", 0)), axis)
    assert isinstance(found, CurrentSwept)
    assert found.holds, found.said
    assert found.points.omega[-1] > 0.7 * math.pi / axis.inverter.Ts
    assert axis.gains is not None
    exact = margins(loops_with(axis, axis.gains)["dq".index(which)].opened)
    assert found.found is not None
    assert found.found.crossover == pytest.approx(exact.crossover, rel=0.05)
    assert found.found.phase_margin == pytest.approx(exact.phase_margin, abs=math.radians(2.0))
    assert found.found.gain_margin == pytest.approx(exact.gain_margin, rel=0.06)
    ratio = found.points.opened / found.points.model(found.points.omega)
    assert np.max(np.abs(ratio - ratio.mean())) < 0.04  # nothing but a gain lies between them


def test_all_sines_at_once_take_half_the_time_and_stay_within_what_is_said(axis: Axis) -> None:
    many = CurrentMultisine(axis_name="q", bias=4.0, amplitude=0.8)
    apart = CurrentSweep(axis_name="q", bias=4.0, amplitude=0.8)
    assert many.plan(axis).duration < 0.5 * apart.plan(axis).duration
    assert many.title(axis) == "multisine 60 Hz to 5.9 kHz, q axis"
    record = play_on_model(many, axis, draw("winch", 1))
    assert record.rows == many.periods * many.rows(axis)
    moved = np.abs(record["iq"] - record["iq"].mean())
    assert 0.6 * many.amplitude < float(np.max(moved)) < 1.3 * many.amplitude
    sounding = set(many.bins(axis))
    assert all({k - 2, k + 2} - sounding for k in sounding)  # each has a quiet odd one beside it
    most = float(np.max(np.abs(record["vq"] - record["vq"].mean())))
    assert most < 0.6 * axis.inverter.v_max


@pytest.mark.parametrize("seed", range(4))
def test_the_scatter_of_a_multisine_is_what_it_says(axis: Axis, seed: int) -> None:
    # Without dead time noise is all that is left.
    plant = replace(draw("winch", 0), dead_voltage=0.0, runout=0.0, gains=(1.0, 1.0, 1.0))
    many = CurrentMultisine(axis_name="q", bias=4.0, amplitude=0.8)
    found = [read(play_on_model(many, axis, plant, seed=10 * seed + n), axis) for n in range(6)]
    opened = np.stack([one.points.opened for one in found if isinstance(one, CurrentSwept)])
    stated = np.stack([one.points.std for one in found if isinstance(one, CurrentSwept)])
    seen = np.std(opened, axis=0, ddof=1) / math.sqrt(2.0) / np.abs(opened.mean(axis=0))
    assert 0.7 < float(np.median(seen / stated.mean(axis=0))) < 1.3


def test_what_repeats_between_the_lines_widens_their_scatter(axis: Axis) -> None:
    # At no current the dead time bends the voltage with every change of sign.
    many = CurrentMultisine(axis_name="q", bias=0.0, amplitude=0.8)
    bent = replace(draw("winch", 0), dead_voltage=8.0, dead_knee=0.02)
    straight = replace(bent, dead_voltage=0.0)
    found = [read(play_on_model(many, axis, plant), axis) for plant in (bent, straight)]
    stated = [float(np.median(x.points.std)) for x in found if isinstance(x, CurrentSwept)]
    assert stated[0] > 3.0 * stated[1]
    codes = [{c.code for c in x.checks if not c.passed} for x in found
             if isinstance(x, CurrentSwept)]  # fmt: skip
    assert "bias" in codes[0]
    crossing = read(play_on_model(replace(many, bias=0.5), axis, bent), axis)
    assert isinstance(crossing, CurrentSwept)
    assert "hold 2 times the size of the sweep, 1.6 A, or more" in crossing.said
    apart = replace(many, amplitude=0.4, bias=1.0)
    held = read(play_on_model(apart, axis, straight), axis)
    assert isinstance(held, CurrentSwept)
    assert not any(c.code == "bias" for c in held.checks)


@pytest.mark.parametrize(
    "change",
    [
        {"rows": 0.0},
        {"rows": 799.0},
        {"bins": [-3.0] * 26},
        {"bins": [3.0, 401.0]},
        {"volts": []},
        {"base": -20.0},
    ],
)
def test_a_multisine_whose_settings_do_not_fit_is_refused(
    axis: Axis, change: dict[str, Plain]
) -> None:
    many = CurrentMultisine(axis_name="q", bias=4.0, amplitude=0.8)
    record = play_on_model(many, axis, draw("winch", 0))
    with pytest.raises(InputError, match="whole periods of the multisine"):
        read(replace(record, settings={**record.settings, **change}), axis)


def test_an_inductance_that_is_wrong_is_seen(axis: Axis) -> None:
    plant = replace(draw("winch", 0), Lq=0.75 * draw("winch", 0).Lq,
                    Lq_saturated=0.75 * draw("winch", 0).Lq_saturated)  # fmt: skip
    sweep = CurrentSweep(axis_name="q", bias=4.0, amplitude=0.8)
    found = read(play_on_model(sweep, axis, plant), axis)
    assert isinstance(found, CurrentSwept)
    assert "crossover" in {c.code for c in found.checks if not c.passed}


def test_what_is_no_sweep_is_refused(axis: Axis) -> None:
    with pytest.raises(InputError, match="cannot sweep z"):
        CurrentSweep(axis_name="z", bias=4.0, amplitude=0.8).plan(axis)
    sweep = CurrentSweep(axis_name="q", bias=4.0, amplitude=0.8)
    with pytest.raises(InputError, match="no gains"):
        sweep.plan(axis.with_gains(None))
    record = play_on_model(sweep, axis, draw("winch", 0))
    with pytest.raises(InputError, match="sums of the sweep are not complete"):
        read(replace(record, sums=None), axis)


def test_what_repeats_beside_a_line_is_the_larger_of_both_kinds() -> None:
    """Of the neighbours that sound nothing themselves; rms over both parts of a phasor."""
    size = np.array([0.0, 3.0, 9.0, 4.0, 7.0, 9.0, 1.0, 2.0, 5.0])
    bins = np.array([2, 5])
    # Beside 2: odd neighbours 1 and 3, even ones 0 and 4. Beside 5: 4 and 6, then 3 and 7.
    wanted = [
        max(math.sqrt(0.5 * (9 + 16) / 2), math.sqrt(0.5 * (0 + 49) / 2)),
        max(math.sqrt(0.5 * (49 + 1) / 2), math.sqrt(0.5 * (16 + 4) / 2)),
    ]
    assert _between(size, bins) == pytest.approx(wanted)
    close = np.array([2, 3])  # one beside another: the neighbour that sounds does not count
    wanted = [max(math.sqrt(0.5 * 9 / 1), math.sqrt(0.5 * (0 + 49) / 2)),
              max(math.sqrt(0.5 * 49 / 1), math.sqrt(0.5 * (9 + 81) / 2))]  # fmt: skip
    assert _between(size, close) == pytest.approx(wanted)


@pytest.mark.parametrize(("many", "enough"), [(30, True), (29, False)])
def test_a_sweep_of_which_few_points_can_be_trusted_does_not_hold(many: int, enough: bool) -> None:
    flat = np.ones(50, dtype=np.complex128)
    points = LoopPoints(omega=np.arange(1.0, 51.0), opened=flat, std=np.zeros(50), nyquist=60.0,
                        trusted=np.arange(50) < many, model=lambda _: flat)  # fmt: skip
    said = _checks(points, None, 10.0, 1.0, np.zeros(50))[0]
    assert said.passed is enough
    assert said.sentence == f"{many} of 50 points can be trusted"
