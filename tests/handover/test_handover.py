"""Headers written, patched and proven: nothing else in the file moves, not a bit is lost."""

import random
import re
import stat
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from oarlock.control.current import design_current
from oarlock.control.single import Single, warm
from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.handover.header import DEFAULT_MAP, default_map, header
from oarlock.handover.patch import patch_file, read_map
from oarlock.handover.proof import error_sequence, find_compiler, prove
from oarlock.handover.values import float32_literal, handover_values, rounding
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.current_loop import IntegralRule
from oarlock.records import Record

needs_compiler = pytest.mark.skipif(not find_compiler(), reason="no C compiler here")
GAINS = CurrentGains(Kp_d=44.644363, Ki_d=4575.299, Kp_q=82.273834, Ki_q=4575.299)


def pair(asked: NDArray[np.float64]) -> Single:
    """What a current controller is given: currents asked for, none measured."""
    return np.ascontiguousarray(np.stack([asked, np.zeros_like(asked)], axis=1), dtype=np.float32)


@pytest.fixture
def tuned(axis: Axis) -> Axis:
    return axis.with_gains(GAINS)


@needs_compiler
@pytest.mark.parametrize(
    ("rule", "samples"),
    [(IntegralRule.BACKWARD, 60_000), (IntegralRule.FORWARD, 60_000),
     (IntegralRule.TRAPEZOIDAL, 1_010_000)],
)  # fmt: skip
def test_every_rule_and_weight_agrees_bit_by_bit(
    tuned: Axis, rule: IntegralRule, samples: int
) -> None:
    if samples > 1_000_000:
        warm()
    axis = replace(tuned, inverter=replace(tuned.inverter, integral=rule))
    axis = axis.with_gains(replace(GAINS, weight=0.37))
    rng = np.random.default_rng(3)
    asked = np.cumsum(rng.normal(0.0, 0.02, samples))
    seen = asked + rng.normal(0.0, 0.4, asked.size)
    values, text = handover_values(axis), header(axis)
    lanes = {"q": np.ascontiguousarray(np.stack([asked, seen], axis=1), dtype=np.float32)}
    found = prove(text.encode(), default_map(text, values), values, lanes)
    assert found.exact
    wrong = re.sub(r"(CUR_WEIGHT +)0", r"\g<1>1", text)
    assert not prove(wrong.encode(), default_map(wrong, values), values, lanes).exact


@pytest.fixture
def firmware(tmp_path: Path) -> Path:
    path = tmp_path / "winch_gains.h"
    path.write_text(demo_text("winch_gains.h"))
    return path


@given(st.floats(width=32, allow_nan=False, allow_infinity=False))
def test_every_float32_reads_back_as_itself(value: float) -> None:
    literal = float32_literal(value)
    assert literal.endswith("f")
    assert "." in literal
    assert np.float32(literal[:-1]) == np.float32(value)
    assert np.float32(float(literal[:-1])) == np.float32(value)  # by way of double, too


@pytest.mark.parametrize("value", [float("nan"), float("inf"), 1e39, 1e-60])
def test_what_float32_cannot_hold_is_refused(value: float) -> None:
    with pytest.raises(InputError, match="float32"):
        float32_literal(value)


def test_rounding_is_told_as_a_ratio() -> None:
    assert rounding(0.5) == 0.0
    assert 0.0 < rounding(0.1) < 6e-8
    assert rounding(0.0) == 0.0


def test_without_gains_there_is_nothing_to_hand_over(axis: Axis) -> None:
    with pytest.raises(InputError, match="no gains") as caught:
        handover_values(axis)
    assert "tune" in caught.value.remedy


def test_a_new_header_has_names_values_and_units(tuned: Axis) -> None:
    text = header(replace(tuned, name="evil */ name"))
    assert text.count("*/") == text.count("/*")
    for value in handover_values(tuned):
        line = next(line for line in text.splitlines() if f"#define {value.symbol} " in line)
        assert float32_literal(value.value) in line
        assert value.unit in line
    assert "#ifndef EVIL_NAME_GAINS_H" in text


@needs_compiler
def test_a_new_header_compiles_in_c_and_is_exact(tuned: Axis, tmp_path: Path) -> None:
    values = handover_values(tuned)
    errors = {"q": pair(np.linspace(-3, 3, 500))}
    found = prove(header(tuned).encode(), DEFAULT_MAP, values, errors)
    assert found.exact
    assert "bit-exact over 500 samples" in found.sentence


def test_only_values_change_and_everything_else_stays(tuned: Axis, firmware: Path) -> None:
    before = firmware.read_bytes()
    patch = patch_file(firmware, DEFAULT_MAP, handover_values(tuned))
    assert firmware.read_bytes() == before  # looking writes nothing
    assert len(patch.changes) == 6
    after = patch.after.decode()
    assert "#define CUR_KP_Q      82.273834f      /* V/A */" in after
    assert "#define CUR_TRACK     8192 " in after
    assert "CUR_KP_Q      12.0f      /* first light" in after  # inside #if 0
    assert [change.line for change in patch.changes] == sorted(c.line for c in patch.changes)
    diff = patch.diff()
    assert "-#define CUR_KP_Q      58.6f" in diff
    assert "+#define CUR_KP_Q      82.273834f" in diff
    kept = patch.write()
    assert kept is not None
    assert kept.read_bytes() == before
    assert firmware.read_bytes() == patch.after
    again = patch_file(firmware, DEFAULT_MAP, handover_values(tuned))
    assert not any(change.differs for change in again.changes)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("#define CUR_KP_Q      58.6f", "", "no value of CUR_KP_Q"),
        ("#define CUR_KP_D ", "#define CUR_KP_Q 1.0f\n#define CUR_KP_D ", "stands 2 times"),
        ("58.6f", "(2.0f * 29.3f)", "not a plain number"),
        ("58.6f", "KP_TABLE[3]", "not a plain number"),
        ("58.6f", "", "no value|not a plain number"),
        ("58.6f", "1967928161", "integer 1967928161"),
        (
            "#define CUR_KP_Q      58.6f",
            "#ifdef A\n#define CUR_KP_Q 1.0f\n#else\n#define CUR_KP_Q 2.0f\n#endif",
            "stands 2 times",
        ),
    ],
)
def test_what_is_not_clear_is_refused(
    tuned: Axis, firmware: Path, old: str, new: str, words: str
) -> None:
    text = firmware.read_text()
    assert old in text
    firmware.write_text(text.replace(old, new, 1))
    with pytest.raises(InputError, match=words) as caught:
        patch_file(firmware, DEFAULT_MAP, handover_values(tuned))
    assert str(firmware) in str(caught.value)
    assert caught.value.remedy


def test_key_value_files_and_their_styles(tuned: Axis, tmp_path: Path) -> None:
    path = tmp_path / "drive.conf"
    path.write_bytes(b"# gains\r\nkp.q = 58.6 ; old\r\nki.q=( 3237.0 )\r\nname = \xe9t\xe9\r\n")
    mapping = {"kp.q": "current.Kp_q", "ki.q": "current.Ki_q"}
    patch = patch_file(path, mapping, handover_values(tuned))
    assert patch.after == (
        b"# gains\r\nkp.q = 82.273834 ; old\r\nki.q=( 4575.299 )\r\nname = \xe9t\xe9\r\n"
    )


def test_comments_and_strings_hold_no_values(tuned: Axis, tmp_path: Path) -> None:
    path = tmp_path / "a.h"
    path.write_text(
        '/* #define KP 1.0f */\n// KP = 2.0f\nconst char *s = "KP = 3.0f";\n'
        "static const float KP = 4.0f; /* KP = 5 */\n"
    )
    patch = patch_file(path, {"KP": "current.Kp_q"}, handover_values(tuned))
    assert patch.changes[0].line == 4
    assert patch.changes[0].was == 4.0
    assert patch.after.decode().count("82.273834f") == 1


def test_random_files_change_in_one_place_only(tuned: Axis, tmp_path: Path) -> None:
    rng = random.Random(7)
    noise = ["", "/* c */", "int x = 3;", "#define OTHER 5.0f", "#if 0", "#endif", "// KP", "\f"]
    path = tmp_path / "r.h"
    for _ in range(200):
        head = [rng.choice(noise[:4] + noise[6:]) for _ in range(rng.randrange(8))]
        tail = [rng.choice(noise[:4] + noise[6:]) for _ in range(rng.randrange(8))]
        end = rng.choice(["\n", "\r\n"])
        value = f"{rng.uniform(-1e3, 1e3):.{rng.randrange(1, 7)}f}{rng.choice(['', 'f'])}"
        line = f"#define{rng.choice([' ', '  '])}KP{rng.choice([' ', '   '])}{value}"
        text = end.join([*head, line, *tail]).encode("latin-1")
        path.write_bytes(text)
        patch = patch_file(path, {"KP": "current.Kp_q"}, handover_values(tuned))
        start = text.index(line.encode()) + line.rindex(value)
        assert patch.after[:start] == text[:start]
        assert patch.after.endswith(text[start + len(value) :])


def test_broken_read_only_and_changed_files(tuned: Axis, firmware: Path) -> None:
    values = handover_values(tuned)
    with pytest.raises(InputError, match="no such file"):
        patch_file(firmware.with_name("gone.h"), DEFAULT_MAP, values)
    patch = patch_file(firmware, DEFAULT_MAP, values)
    firmware.write_text(firmware.read_text() + "\n")
    with pytest.raises(InputError, match="changed since it was read"):
        patch.write()
    firmware.write_bytes(b"\0\1")
    with pytest.raises(InputError, match="not a text file"):
        patch_file(firmware, DEFAULT_MAP, values)


def test_a_read_only_header_is_told(
    tuned: Axis, firmware: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    patch = patch_file(firmware, DEFAULT_MAP, handover_values(tuned))
    firmware.chmod(stat.S_IRUSR)
    monkeypatch.setattr("os.access", lambda *_: False)  # root may write anything
    with pytest.raises(InputError, match="read-only"):
        patch.write()
    assert firmware.read_bytes() == patch.before


def test_maps_are_checked(tuned: Axis, firmware: Path, tmp_path: Path) -> None:
    path = tmp_path / "map.toml"
    path.write_text('CUR_KP_Q = "current.Kp_q"\n')
    assert read_map(path) == {"CUR_KP_Q": "current.Kp_q"}
    for text, words in (("CUR = 3", "not a text"), ("CUR =", "not TOML")):
        path.write_text(text)
        with pytest.raises(InputError, match=words):
            read_map(path)
    with pytest.raises(InputError, match=r"no value speed\.Kp"):
        patch_file(firmware, {"CUR_KP_Q": "speed.Kp"}, handover_values(tuned))


@pytest.fixture
def errors() -> dict[str, Single]:
    rng = np.random.default_rng(5)
    return {name: pair(rng.normal(0.0, 2.0, 20_000)) for name in ("d", "q")}


@needs_compiler
def test_the_proof_is_bit_exact_and_can_fail(
    tuned: Axis,
    firmware: Path,
    errors: dict[str, Single],
) -> None:
    values = handover_values(tuned)
    patch = patch_file(firmware, DEFAULT_MAP, values)
    good = prove(patch.after, DEFAULT_MAP, values, errors)
    assert good.exact
    assert [lane.samples for lane in good.lanes] == [20_000, 20_000]
    assert all(lane.saturated > 0 for lane in good.lanes)
    one_bit = np.nextafter(np.float32(GAINS.Kp_q), np.float32(100.0))
    text = patch.after.replace(b"82.273834f", float32_literal(float(one_bit)).encode())
    bad = prove(text, DEFAULT_MAP, values, errors)
    assert not bad.exact
    assert bad.lanes[0].differ == 0  # the d lane is as it was
    assert bad.lanes[1].differ > 0
    assert "differ" in bad.sentence


@needs_compiler
def test_a_header_that_does_not_compile_is_told(tuned: Axis) -> None:
    values = handover_values(tuned)
    with pytest.raises(InputError, match="does not compile"):
        prove(b"#define CUR_KP_Q oops\n", DEFAULT_MAP, values, {"q": pair(np.zeros(2))})


@needs_compiler
def test_what_a_header_does_not_hold_is_given_to_the_compiler(tuned: Axis) -> None:
    values = handover_values(tuned)
    text = f"#define MY_KP {float32_literal(GAINS.Kp_q)}\n".encode()
    errors = {"q": pair(np.linspace(-2, 2, 300))}
    assert prove(text, {"MY_KP": "current.Kp_q"}, values, errors).exact


def test_without_a_compiler_it_says_so(tuned: Axis, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", "")
    values = handover_values(tuned)
    found = prove(b"", DEFAULT_MAP, values, {"q": pair(np.zeros(2))})
    assert not found.exact
    assert "no C compiler here" in found.sentence


def test_the_error_sequence_reaches_the_limits() -> None:
    record = Record(
        experiment="current step",
        sample_time=1e-4,
        columns={"iq": np.array([0.0, 0.5, 1.0]), "iq_ref": np.ones(3)},
        units={"iq": "A", "iq_ref": "A"},
    )
    found = error_sequence(record, "q")
    assert found.dtype == np.float32
    assert found[:3].tolist() == [[1.0, 0.0], [1.0, 0.5], [1.0, 1.0]]
    assert found[3].tolist() == [-40.0, -0.0]
    assert found[-1].tolist() == [1.0, 0.0]


@needs_compiler
def test_the_reference_is_strict_c99(tmp_path: Path) -> None:
    source = Path(__file__).parents[2] / "src/oarlock/handover/reference.c"
    (tmp_path / "g.h").write_text("#define K 1.0f\n")
    macros = [
        f'-DHEADER="{tmp_path}/g.h"',
        "-DKP=K",
        "-DKI=K",
        "-DWEIGHT=K",
        "-DNEWEST=K",
        "-DTS=K",
        "-DV_MAX=K",
    ]
    flags = ["-std=c99", "-pedantic", "-Wall", "-Wextra", "-Wconversion", "-Werror"]
    command = [find_compiler(), *flags, *macros, str(source), "-o", str(tmp_path / "p")]
    assert subprocess.run(command, check=False).returncode == 0


def test_what_sensing_found_goes_where_the_header_names_it(axis: Axis) -> None:
    from oarlock.handover.header import default_map

    tuned_axis = axis.with_gains(design_current(axis).gains)
    values = handover_values(tuned_axis)
    keys = {value.symbol: value for value in values}
    assert keys["ANGLE_ZERO"].value == axis.sensor.zero.value
    count = axis.inverter.current_count
    assert keys["CUR_OFFSET_B"].value == axis.inverter.offset_b.value / count
    assert keys["CUR_SCALE_A"].unit == "A/count"
    plain = default_map("#define CUR_KP_Q 1.0f\n", values)
    assert plain == DEFAULT_MAP
    named = default_map("#define ANGLE_ZERO 0.0f\n#define HALL_START_1 0.0f\n", values)
    assert named["ANGLE_ZERO"] == "angle.zero"
    assert "HALL_START_1" not in named  # this axis has a resolver
    text = header(tuned_axis)
    assert "ANGLE_SINE_RATIO" in text
    assert default_map(text, values).keys() >= keys.keys()


@pytest.mark.parametrize(
    "line",
    [
        "static const int16_t CUR_KP_Q = 3200;",
        "static const int16_t\n    CUR_KP_Q = 3200;",
        "const unsigned long CUR_KP_Q = 3200UL;",
        "int CUR_KP_Q = 3200;",
        "q15_t CUR_KP_Q = 3200;",
        "CUR_KP_Q = 3200",
        "#define CUR_KP_Q (3200)",
        "#define CUR_KP_Q 3200L",
        "static const int CUR_KP_Q = 3200.0;",
    ],
)
def test_integer_constants_are_refused_in_every_form(
    tuned: Axis, tmp_path: Path, line: str
) -> None:
    path = tmp_path / "gains.h"
    path.write_text(f"/* int */\nfloat other = 1;\n{line}\n")
    with pytest.raises(InputError, match=r"is the integer 3200|not a plain number"):
        patch_file(path, {"CUR_KP_Q": "current.Kp_q"}, handover_values(tuned))


@pytest.mark.parametrize(
    "line",
    [
        "static const float CUR_KP_Q = 3;",
        "double CUR_KP_Q = 3200;",
        "static const float a = 1.0f, CUR_KP_Q = 2;",
        "CUR_KP_Q = 3.0",
        "#define CUR_KP_Q 3.0",
        "#define CUR_KP_Q 3f",
    ],
)
def test_floats_are_taken_however_they_are_written(tuned: Axis, tmp_path: Path, line: str) -> None:
    path = tmp_path / "gains.h"
    path.write_text(f"int other = 1;\n{line}\n")
    patch = patch_file(path, {"CUR_KP_Q": "current.Kp_q"}, handover_values(tuned))
    assert "82.27383" in patch.after.decode()


@pytest.mark.parametrize(
    "dead",
    [
        "// an old note \\\n#define CUR_KP_Q 1.0f",
        "#if (0)\n#define CUR_KP_Q 1.0f\n#endif",
        "#if 0L\n#define CUR_KP_Q 1.0f\n#endif",
        "#if false\n#ifdef A\n#define CUR_KP_Q 1.0f\n#endif\n#endif",
        "#if 1\n#else\n#define CUR_KP_Q 1.0f\n#endif",
        "#if (1)\n#elif X\n#define CUR_KP_Q 1.0f\n#endif",
        '#define DOC R"x(\nCUR_KP_Q = 1.0f;\n)x"',
        "#if 0\n#if 1\n#define CUR_KP_Q 1.0f\n#else\n#define CUR_KP_Q 2.0f\n#endif\n#endif",
    ],
)
def test_what_is_never_compiled_holds_no_value(tuned: Axis, tmp_path: Path, dead: str) -> None:
    path = tmp_path / "gains.h"
    path.write_text(f"{dead}\n#define CUR_KP_Q 5.0f\n")
    patch = patch_file(path, {"CUR_KP_Q": "current.Kp_q"}, handover_values(tuned))
    assert patch.after.decode().startswith(dead)
    assert patch.changes[0].was == 5.0


def test_the_live_branch_is_found(tuned: Axis, tmp_path: Path) -> None:
    path = tmp_path / "gains.h"
    path.write_text("#if 0\n#define CUR_KP_Q 1.0f\n#else\n#define CUR_KP_Q 2.0f\n#endif\n")
    patch = patch_file(path, {"CUR_KP_Q": "current.Kp_q"}, handover_values(tuned))
    assert patch.changes[0].line == 4


@needs_compiler
@pytest.mark.parametrize("name", ["3-phase winch", "Straße", "…", "_", "winch"])
def test_any_axis_gives_a_header_that_compiles(tuned: Axis, name: str) -> None:
    text = header(replace(tuned, name=name)).encode()
    errors = {"q": pair(np.linspace(-3, 3, 50))}
    assert prove(text, DEFAULT_MAP, handover_values(tuned), errors).exact


def test_our_own_header_after_sensing_can_be_updated(tuned: Axis, tmp_path: Path) -> None:
    """Names in its comment are not taken for values that it holds."""
    from oarlock.handover.header import default_map

    path = tmp_path / "gains.h"
    path.write_text(header(tuned))
    values = handover_values(tuned)
    patch = patch_file(path, default_map(path.read_text(), values), values)
    assert not any(change.differs for change in patch.changes)
    assert "A_NAME" not in default_map("/* A_NAME ANGLE_ZERO */", values)


@needs_compiler
def test_a_header_that_includes_its_neighbour(tuned: Axis, tmp_path: Path) -> None:
    (tmp_path / "units.h").write_text("#define ONE 1.0f\n")
    text = b'#include "units.h"\n' + header(tuned).encode()
    errors = {"q": pair(np.linspace(-3, 3, 50))}
    values = handover_values(tuned)
    assert prove(text, DEFAULT_MAP, values, errors, beside=tmp_path).exact
    with pytest.raises(InputError, match="does not compile"):
        prove(text, DEFAULT_MAP, values, errors)


@pytest.mark.parametrize(
    ("script", "words"),
    [
        ("sleep 5", "the compiler did not end within"),
        ("kill -SEGV $$", "ended by signal 11"),
        ("exit 3", "exit status 3"),
        ("for last; do :; done; printf '#!/bin/sh\nsleep 5\n' > $last; chmod +x $last",
         "the compiled controller did not end"),
        ("for last; do :; done; printf '#!/bin/sh\nkill -ABRT $$\n' > $last; chmod +x $last",
         "did not come to its end: ended by signal 6"),
        ("for last; do :; done; printf '#!/bin/sh\necho x\n' > $last; chmod +x $last",
         "did not come to its end"),
    ],
)  # fmt: skip
def test_compilers_that_hang_or_crash_are_one_line(
    tuned: Axis, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, script: str, words: str
) -> None:
    monkeypatch.setattr("oarlock.handover.proof._PATIENCE", 0.5)
    compiler = tmp_path / "cc"
    compiler.write_text(f"#!/bin/sh\n{script}\n")
    compiler.chmod(0o755)
    errors = {"q": pair(np.linspace(-3, 3, 50))}
    with pytest.raises(InputError, match=words) as caught:
        prove(header(tuned).encode(), DEFAULT_MAP, handover_values(tuned), errors,
              compiler=str(compiler))  # fmt: skip
    assert "\n" not in str(caught.value)
    with pytest.raises(InputError, match="cannot be run"):
        prove(header(tuned).encode(), DEFAULT_MAP, handover_values(tuned), errors,
              compiler=str(tmp_path / "nobody"))  # fmt: skip
