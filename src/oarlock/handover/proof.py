"""Proof that a header carries the gains: compile it with a reference controller and run both.

The compiled controller and the float32 model see the same errors; outputs and integrator must
agree bit for bit.
"""

import importlib.resources
import shutil
import subprocess
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from oarlock.control.single import Single, run_current
from oarlock.errors import InputError
from oarlock.handover import position_proof, speed_proof
from oarlock.handover.values import HandoverValue
from oarlock.records import Record

_FLAGS = ("-std=c99", "-O2", "-ffp-contract=off", "-Wall", "-Wextra", "-Werror")
_COMPILERS = ("cc", "gcc", "clang")
OUTER = {"speed": speed_proof, "position": position_proof}  # each lane that is one of its own
_PATIENCE = 60.0  # s for compiler and program each


@dataclass(frozen=True, slots=True, kw_only=True)
class Lane:
    """The proof of one axis."""

    axis_name: str  # "d", "q" of the current loop, "speed" or "position"
    samples: int
    differ: int  # outputs or states that are not bit-equal
    worst: float  # largest difference of outputs, in `unit`
    saturated: int
    output: Single  # for the picture
    unit: str = "V"

    @property
    def title(self) -> str:
        """What was proven."""
        return self.axis_name if self.axis_name in OUTER else f"current {self.axis_name}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Proof:
    """What came out; without a compiler `lanes` is empty and `missing` says so."""

    lanes: tuple[Lane, ...]
    compiler: str = ""
    missing: str = ""

    @property
    def exact(self) -> bool:
        """Whether every lane ran and none differs."""
        return bool(self.lanes) and all(lane.differ == 0 for lane in self.lanes)

    @property
    def sentence(self) -> str:
        """The result in one line."""
        if self.missing:
            return self.missing
        samples = sum(lane.samples for lane in self.lanes)
        differ = sum(lane.differ for lane in self.lanes)
        if differ:
            return f"{differ} of {samples} samples differ"
        return f"bit-exact over {samples} samples, integrator included ({self.compiler})"


def error_sequence(record: Record, axis_name: str) -> Single:
    """Return what the controller is given, (n, 2): current asked for and measured, of a step.

    Once as they were, once large enough to limit, once backward.
    """
    pair = np.stack([record[f"i{axis_name}_ref"], record[f"i{axis_name}"]], axis=1)
    given = pair.astype(np.float32)
    return np.ascontiguousarray(np.concatenate([given, given * np.float32(-40.0), given[::-1]]))


def find_compiler() -> str:
    """Return the path of a C compiler, or nothing."""
    return next((path for name in _COMPILERS if (path := shutil.which(name))), "")


def prove(
    text: bytes,
    mapping: Mapping[str, str],
    values: tuple[HandoverValue, ...],
    errors: Mapping[str, Single],
    *,
    compiler: str | None = None,
    beside: Path | None = None,
) -> Proof:
    """Compile the header `text` and hold it against the float32 model.

    Parameters
    ----------
    text : the header as it will be written
    mapping : its symbols to keys of `values`
    errors : float32, by lane: current asked for and measured (A) of the axes "d" and "q", (n, 2),
        what the outer controllers are given under "speed" and "position"; each that is given is run
    beside : folder of the header, where the files that it includes lie

    Raises
    ------
    InputError : the header does not compile, or the program does not come to its end

    """
    compiler = find_compiler() if compiler is None else compiler
    if not compiler:
        return Proof(lanes=(), missing="no C compiler here (cc, gcc or clang): not proven")
    by_key = {value.key: value.value for value in values}
    symbols = {key: symbol for symbol, key in mapping.items()}
    lanes = []
    with tempfile.TemporaryDirectory(prefix="oarlock-") as folder:
        header = Path(folder) / "gains.h"
        header.write_bytes(text)
        for axis_name, error in errors.items():
            built = _Build(Path(folder), compiler, beside)
            if axis_name in OUTER:
                lanes.append(_outer_lane(built, axis_name, symbols, by_key, error))
                continue
            output, state = _run(built, axis_name, symbols, by_key, error)
            lanes.append(_lane(axis_name, by_key, error, output, state))
    return Proof(lanes=tuple(lanes), compiler=Path(compiler).name)


def _lane(
    axis_name: str, by_key: Mapping[str, float], error: Single, output: Single, state: Single
) -> Lane:
    Kp, Ki = by_key[f"current.Kp_{axis_name}"], by_key[f"current.Ki_{axis_name}"]
    v_max = by_key["current.v_max"]
    asked, seen = (np.ascontiguousarray(error[:, n]) for n in range(2))
    expected, states = run_current(Kp, Ki, by_key["current.Ts"], v_max, asked, seen,
                                   weight=by_key["current.weight"],
                                   newest=by_key["current.newest"])  # fmt: skip
    unequal = (_bits(output) != _bits(expected)) | (_bits(state) != _bits(states))
    return Lane(
        axis_name=axis_name,
        samples=error.shape[0],
        differ=int(np.sum(unequal)),
        worst=float(np.max(np.abs(output - expected), initial=0.0)),
        saturated=int(np.sum(np.abs(expected) >= np.float32(v_max))),
        output=output,
    )


def _outer_lane(
    build: "_Build", name: str, symbols: Mapping[str, str], by_key: Mapping[str, float],
    given: Single,
) -> Lane:  # fmt: skip
    lane = OUTER[name]
    texts = {macro: _text(key, symbols, by_key) for macro, key in lane.MACROS.items()}
    for macro, keys in lane.sections(by_key).items():
        texts[macro] = ", ".join(f"(float)({_text(key, symbols, by_key)})" for key in keys)
    size = 4 * lane.COLUMNS * given.shape[0]
    table = _compiled(build, f"{name}_reference", texts, given.tobytes(), size)
    table, model = table.reshape(-1, lane.COLUMNS), lane.expected(by_key, given)
    return Lane(
        axis_name=name,
        samples=given.shape[0],
        differ=int(np.sum(np.any(_bits(table) != _bits(model), axis=1))),
        worst=float(np.max(np.abs(table - model), initial=0.0)),
        saturated=lane.limited(by_key, model),
        output=model[:, 0].copy(),
        unit=lane.UNIT,
    )


def _text(key: str, symbols: Mapping[str, str], by_key: Mapping[str, float]) -> str:
    """Return a number's symbol; what the header does not hold stands there as firmware has it."""
    return symbols.get(key) or f"{float(np.float32(by_key[key])).hex()}f"


def _bits(values: Single) -> NDArray[np.uint32]:
    return np.ascontiguousarray(values).view(np.uint32)


@dataclass(frozen=True, slots=True)
class _Build:
    """Where and with what the reference is compiled."""

    folder: Path
    compiler: str
    beside: Path | None


def _run(
    build: _Build,
    axis_name: str,
    symbols: Mapping[str, str],
    by_key: Mapping[str, float],
    error: Single,
) -> tuple[Single, Single]:
    names = {"KP": f"current.Kp_{axis_name}", "KI": f"current.Ki_{axis_name}"}
    names |= {"WEIGHT": "current.weight", "NEWEST": "current.newest", "TS": "current.Ts",
              "V_MAX": "current.v_max"}  # fmt: skip
    texts = {macro: _text(key, symbols, by_key) for macro, key in names.items()}
    table = _compiled(build, "reference", texts, error.tobytes(), 8 * error.shape[0]).reshape(-1, 2)
    return table[:, 0].copy(), table[:, 1].copy()


def _compiled(
    build: _Build, name: str, texts: Mapping[str, str], given: bytes, size: int
) -> Single:
    """Compile a reference with the header, run it over `given`, and return `size` bytes of it."""
    folder = build.folder
    program = folder / f"{name}_program"
    source = importlib.resources.files("oarlock.handover") / f"{name}.c"
    with importlib.resources.as_file(source) as path:
        command = [build.compiler, *_FLAGS, f'-DHEADER="{folder / "gains.h"}"']
        command += ["-iquote", str(build.beside)] if build.beside else []
        command += [f"-D{macro}={text}" for macro, text in texts.items()]
        built = _done([*command, str(path), "-o", str(program)], b"", "the compiler")
    if built.returncode:
        said = built.stderr.decode("utf-8", errors="replace")
        lines = [line for line in said.splitlines() if "error" in line]
        cause = f"the header does not compile: {(lines or [_crash(built.returncode)])[0].strip()}"
        raise InputError(cause, place="proof", remedy="Mend the header")
    ran = _done([str(program)], given, "the compiled controller")
    if ran.returncode or len(ran.stdout) != size:
        cause = f"the compiled controller did not come to its end: {_crash(ran.returncode)}"
        raise InputError(cause, place="proof", remedy="What does the header do besides?")
    return np.frombuffer(ran.stdout, dtype=np.float32)


def _done(command: list[str], given: bytes, what: str) -> subprocess.CompletedProcess[bytes]:
    """Run a program to its end; what keeps it from that is told in one line."""
    try:
        return subprocess.run(
            command, input=given, capture_output=True, timeout=_PATIENCE, check=False
        )
    except subprocess.TimeoutExpired as error:
        raise InputError(f"{what} did not end within {_PATIENCE:.0f} s", place="proof",
                         remedy="Look for what it waits for") from error  # fmt: skip
    except OSError as error:
        raise InputError(f"{what} cannot be run: {error.strerror}", place="proof",
                         remedy="Check the compiler") from error  # fmt: skip


def _crash(status: int) -> str:
    if status < 0:
        return f"ended by signal {-status}"
    return f"exit status {status}, and no word why"
