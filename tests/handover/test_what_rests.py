"""A header that stands does without what was taken away, and says where a ramp has no place."""

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.demo.project import make_demo
from oarlock.handover.header import default_map, header
from oarlock.handover.patch import code_only, patch_file, without_place
from oarlock.handover.proof import prove
from oarlock.handover.speed_proof import NAME, expected, sequence
from oarlock.handover.values import MOST_FILTERS, handover_values, values_for
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.loop import Loop
from oarlock.machine.position_loop import POSITION, PositionGains, PositionTarget
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.session.session import Session
from oarlock.simulate import layout
from oarlock.store.project import Project
from oarlock.views.handed_over import summary
from oarlock.views.handover import handover_picture, make_proof, mapping_of
from oarlock.views.stage import State
from tests.handover.test_handover import needs_compiler
from tests.speed_axis import tuned_winch

GAINS = SpeedGains(Kp=1.7, Ki=100.0)
RAMP = PositionTarget(acceleration=300.0, jerk_time=8e-3)


@pytest.fixture
def full() -> Axis:
    """The winch with two filters and every option in use."""
    axis = tuned_winch()
    filters = (Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=2500.0, poles=2),
               Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=3000.0),
               Filter(path="measured", kind=FilterKind.LOW_PASS, frequency=1500.0))  # fmt: skip
    gains = replace(GAINS, reference=0.004, friction=0.23, observer=300.0, inertia=0.0137)
    return replace(axis, loops=axis.loops.having(KEY, Loop(gains=gains, filters=filters)))


@pytest.fixture
def plain(full: Axis) -> Axis:
    """The same without any of it, but for one filter."""
    filters = full.loops[KEY].filters[:1]
    return replace(full, loops=full.loops.having(KEY, Loop(gains=GAINS, filters=filters)))


def numbers(text: str) -> dict[str, float]:
    found = re.findall(r"#define (\w+)\s+([-+.\de]+)f", text)
    return {name: float(value) for name, value in found}


def test_what_was_taken_away_does_not_go_on_in_the_firmware(
    full: Axis, plain: Axis, tmp_path: Path
) -> None:
    file = tmp_path / "gains.h"
    file.write_text(header(full))
    before = numbers(file.read_text())
    assert before["SPD_FRICTION"] == 0.23
    assert before["SPD_TORQUE2_B1"] != 0.0
    values = values_for(plain, code_only(file.read_text()))
    patch = patch_file(file, default_map(file.read_text(), values), values)
    after = numbers(patch.after.decode())
    assert after["SPD_FRICTION"] == 0.0
    assert after["SPD_SHARE"] == 1.0
    for name in ("STEP", "SPEED", "LOAD"):
        assert after[f"SPD_OBSERVER_{name}"] == 0.0
    for path in ("TORQUE2", "MEASURED1"):
        numbers_of = [after[f"SPD_{path}_{n}"] for n in ("B0", "B1", "B2", "A1", "A2")]
        assert numbers_of == [1.0, 0.0, 0.0, 0.0, 0.0]
    kept = before["SPD_TORQUE1_A1"]
    assert after["SPD_TORQUE1_A1"] == kept
    assert set(after) == set(before)


@needs_compiler
def test_it_is_proven_with_what_rests_in_it(full: Axis, plain: Axis, tmp_path: Path) -> None:
    file = tmp_path / "gains.h"
    file.write_text(header(full))
    values = values_for(plain, code_only(file.read_text()))
    mapping = default_map(file.read_text(), values)
    text = patch_file(file, mapping, values).after
    given = sequence(None, samples=3000)
    assert prove(text, mapping, values, {NAME: given}).exact
    for symbol in ("SPD_FRICTION", "SPD_OBSERVER_LOAD", "SPD_TORQUE2_B1", "SPD_SHARE"):
        wrong = re.sub(rf"({symbol} +)\d[.\d]*f", r"\g<1>0.25f", text.decode()).encode()
        assert prove(wrong, mapping, values, {NAME: given}).lanes[0].differ > 0, symbol


def test_what_rests_changes_no_output(full: Axis, plain: Axis) -> None:
    """All but the state of a filter that passes everything on, and the lag's rounding."""
    given = sequence(None, samples=3000)
    bare = {v.key: v.value for v in handover_values(plain)}
    resting = {v.key: v.value for v in values_for(plain, header(full))}
    assert len(resting) > len(bare) + 10
    one, other = expected(bare, given), expected(resting, given)
    scale = float(np.max(np.abs(one[:, 2])))
    assert np.max(np.abs(one[:, 2] - other[:, 2])) <= 1e-4 * scale


def test_only_what_the_file_names_is_added(full: Axis, plain: Axis) -> None:
    assert values_for(full, header(full)) == handover_values(full)
    assert values_for(plain, header(plain)) == handover_values(plain)
    mapped = values_for(plain, "", {"k_coulomb": "speed.friction"})
    assert [v.key for v in mapped[len(handover_values(plain)) :]] == ["speed.friction"]
    assert mapped[-1].value == 0.0
    without = plain.with_loop_gains(KEY, None)
    assert values_for(without, header(full)) == handover_values(without)
    assert not without_place(values_for(plain, header(full)), default_map("", ()))


def test_as_many_filters_as_the_firmware_has() -> None:
    assert MOST_FILTERS == {
        "torque": layout.TORQUE_SECTIONS, "measured": layout.SPEED_SECTIONS,
    }  # fmt: skip


def test_a_ramp_without_a_place_is_told(full: Axis, tmp_path: Path) -> None:
    axis = full.with_loop_gains(POSITION.key, PositionGains(Kp=20.0))
    ramped = replace(axis, loops=axis.loops.with_target(POSITION.key, RAMP))
    values = handover_values(ramped)
    lacking = without_place(values, default_map(header(axis), values))
    assert [v.symbol for v in lacking] == ["RAMP_ACCELERATION", "RAMP_JERK_TIME"]
    assert without_place(values, default_map(header(ramped), values)) == ()
    sharp = replace(axis, loops=axis.loops.with_target(
        POSITION.key, PositionTarget(acceleration=300.0)))  # fmt: skip
    values = handover_values(sharp)
    assert [v.key for v in without_place(values, default_map(header(axis), values))] == [
        "ramp.acceleration"
    ]
    alone = {f"CUR_{n.upper()}": f"current.{n}" for n in ("Kp_d", "Kp_q", "Ki_d", "Ki_q")}
    assert not [v for v in without_place(values, alone) if v.key.startswith("ramp.")]


def test_the_command_does_the_same(full: Axis, plain: Axis, tmp_path: Path) -> None:
    file, path = tmp_path / "gains.h", tmp_path / "a.axis.toml"
    file.write_text(header(full))
    path.write_text(format_axis(plain))
    assert main(["handover", str(path), "--update", str(file)]) == 0
    assert numbers(file.read_text())["SPD_FRICTION"] == 0.0
    named = tmp_path / "map.toml"
    file.write_text("float k_coulomb = 0.5;\n")
    named.write_text('k_coulomb = "speed.friction"\n')
    assert main(["handover", str(path), "--update", str(file), "--map", str(named)]) == 0
    assert file.read_text() == "float k_coulomb = 0.0;\n"


@pytest.fixture
def session(full: Axis, tmp_path: Path) -> Session:
    path = make_demo(tmp_path / "demo")
    project = Project.open(path)
    project.save_axis(full.name, format_axis(full), "full")
    project.close()
    return Session(Project.open(path), lambda call: call())


def test_the_window_shows_it_and_the_rail_sees_that_it_is_stale(
    session: Session, plain: Axis, tmp_path: Path
) -> None:
    file = tmp_path / "gains.h"
    file.write_text(header(session.axis))
    session.show(header=str(file))
    shown = handover_picture(session.now, None)
    session.written(file.name, {v.key: v.value for v in shown.values})
    assert summary(session.now).state is State.VALID
    session.edit("Take options away", replace(session.axis, loops=plain.loops))
    assert summary(session.now).state is State.STALE
    shown = handover_picture(session.now, None)
    changed = {h.key: h.will_be for h in shown.handed}
    assert changed["speed.friction"] == 0.0
    assert "speed.torque2_b0" in changed
    text = shown.patch.after if shown.patch else b""
    proof = make_proof(text, mapping_of(session.now), shown.values, {})
    assert proof.values == shown.values
    session.written(file.name, {v.key: v.value for v in shown.values})
    assert summary(session.now).state is State.VALID
    session.close()


def test_a_ramp_that_is_no_longer_set_leaves_its_symbols_alone(
    session: Session, tmp_path: Path
) -> None:
    ramped = replace(session.axis, loops=session.axis.loops.with_target(POSITION.key, RAMP))
    file = tmp_path / "gains.h"
    file.write_text(header(ramped))
    session.edit("Set a ramp", ramped)
    session.show(header=str(file), map=default_map(header(ramped), handover_values(ramped)))
    shown = handover_picture(session.now, None)
    assert "ramp.acceleration" in {h.key for h in shown.handed}
    assert shown.labels["ramp.jerk_time"] == "jerk time"
    session.undo()
    shown = handover_picture(session.now, None)
    assert not shown.trouble
    assert "ramp.acceleration" not in {h.key for h in shown.handed}
    assert "RAMP_ACCELERATION" in shown.unmapped
    session.close()
