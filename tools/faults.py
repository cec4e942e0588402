"""`make faults`: put random faults into the core, one at a time, and see whether the tests find it.

A comparison or an operator turned round, a condition reversed, a whole number one too large, any
other ten times too large. The tests run once with the lines that each of them touches noted
(`coverage`); then each fault meets the tests that touch its line: first those of what is kept, then
the quickest. Code that is compiled is not seen line by line: there all tests of the room run, once
that uses it is compiled anew. What no test finds is listed with its place: a fault that changes
nothing that anybody sees is to be named as such, any other needs a test.
"""

import ast
import itertools
import os
import queue
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from coverage import CoverageData

ROOT = Path(__file__).resolve().parent.parent
ROOMS = ("control", "drive", "experiments", "handover", "machine", "quantities", "records",
         "rehearse", "session", "simulate", "store")  # fmt: skip
COMPILED = ("simulate/", "control/_figures.py", "control/_kernels.py", "control/_sought.py",
            "control/_speed_steps.py", "control/_steps.py", "control/single.py")  # fmt: skip
KEPT = "tests/test_kept.py"  # finds most of them
MOST_TESTS, MOST_SECONDS = 100, 900
LONGEST = 400  # s, of one test: the first of compiled code waits until that is compiled
TURNED: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.GtE, ast.GtE: ast.Lt, ast.Gt: ast.LtE, ast.LtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.Pow: ast.Mult,
    ast.And: ast.Or, ast.Or: ast.And, ast.USub: ast.UAdd,
}  # fmt: skip


_TURNABLE = (ast.Compare, ast.BinOp, ast.BoolOp, ast.UnaryOp)


@dataclass(frozen=True, slots=True)
class Fault:
    """One change of one file."""

    path: Path  # from the root
    line: int
    start: int  # of what it takes the place of, bytes from the file's start
    end: int
    now: str

    def was(self) -> str:
        """Return what stands there without it."""
        return (ROOT / self.path).read_bytes()[self.start : self.end].decode()

    def put_into(self, data: bytes) -> bytes:
        """Return the whole file with it."""
        return data[: self.start] + self.now.encode() + data[self.end :]


def faults_in(path: Path) -> Iterator[Fault]:
    """Yield every fault that can be put into a file."""
    data = (ROOT / path).read_bytes()
    begins = list(itertools.accumulate(map(len, data.splitlines(keepends=True)), initial=0))
    for place in sorted(_places(ast.parse(data)), key=lambda n: (n.lineno, n.col_offset)):
        now = _turned(place)
        if now is not None and place.end_lineno is not None and place.end_col_offset is not None:
            start = begins[place.lineno - 1] + place.col_offset
            end = begins[place.end_lineno - 1] + place.end_col_offset
            yield Fault(path, place.lineno, start, end, now)


def _places(tree: ast.AST) -> Iterator[ast.expr]:
    """Yield what can be turned; what stands in annotations, texts and `__all__` cannot."""
    for name, value in ast.iter_fields(tree):
        if name in ("annotation", "returns", "decorator_list", "type_params"):
            continue
        for node in value if isinstance(value, list) else [value]:
            if not isinstance(node, ast.AST) or isinstance(node, ast.JoinedStr):
                continue
            is_number = isinstance(node, ast.Constant) and type(node.value) in (int, float)
            if is_number or isinstance(node, _TURNABLE):
                assert isinstance(node, ast.expr)
                yield node
            yield from _places(node)


def _turned(node: ast.expr) -> str | None:
    """Return the expression with one thing wrong; None where there is nothing to turn."""
    if isinstance(node, ast.Constant):
        value = node.value
        assert isinstance(value, int | float)
        return repr(value + 1) if isinstance(value, int) else repr(10.0 * value if value else 0.5)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return f"({ast.unparse(node.operand)})"
    op = node.ops[0] if isinstance(node, ast.Compare) else getattr(node, "op", None)
    if type(op) not in TURNED or _is_text(node):
        return None
    new = TURNED[type(op)]()
    if isinstance(node, ast.Compare):
        node.ops[0] = new  # type: ignore[call-overload]
    else:
        node.op = new  # type: ignore[attr-defined]
    turned = f"({ast.unparse(node)})"
    if isinstance(node, ast.Compare):
        node.ops[0] = op  # type: ignore[assignment]
    else:
        node.op = op  # type: ignore[attr-defined]
    return turned


def _is_text(node: ast.expr) -> bool:
    """Return whether it joins types or texts."""
    return any(isinstance(n, ast.JoinedStr) or (isinstance(n, ast.Constant)
               and isinstance(n.value, str | bytes)) for n in ast.walk(node)) and isinstance(
                   node, ast.BinOp)  # fmt: skip


def mapped(folder: Path) -> tuple[CoverageData, dict[str, float]]:
    """Run the core's tests once; return who touches what, and how long each test takes."""
    data, report = folder / "coverage", folder / "times.xml"
    if not report.exists():
        subprocess.run(
            [sys.executable, "-m", "pytest", "tests", "-q", "-m", "not realtime",
             "-n", str(os.cpu_count() or 1), "--reruns", "2",
             "--cov=src/oarlock", "--cov-context=test", "--cov-report=",
             f"--junitxml={report}", "-o", "addopts="],
            cwd=ROOT, env=os.environ | {"COVERAGE_FILE": str(data)}, check=True,
        )  # fmt: skip
    seen = CoverageData(basename=str(data))
    seen.read()
    times = {}
    for case in ElementTree.parse(report).iter("testcase"):
        file = case.get("classname", "").replace(".", "/") + ".py"
        times[f"{file}::{case.get('name')}"] = float(case.get("time", 0.0))
    return seen, times


def tests_for(fault: Fault, seen: CoverageData, times: dict[str, float]) -> list[str]:
    """Return the tests that touch the fault's line, the quickest first."""
    inside = str(fault.path.relative_to("src/oarlock"))
    room = inside.split("/")[0]
    if inside.startswith(COMPILED):
        return [KEPT, f"tests/{room}", "tests/practice", "tests/rehearse"]
    lines = seen.contexts_by_lineno(str(ROOT / fault.path))
    at = max((line for line in lines if line <= fault.line), default=0)  # of a longer statement
    found = {name.split("|")[0] for name in lines.get(at, []) if name}
    if not found and at:  # it ran as the module was imported
        found = {name.split("|")[0] for names in lines.values() for name in names if name}
    own = {f for f in found if f.startswith(f"tests/{room}")}
    if not found:  # nothing but what is worked out at the import
        return [f"tests/{room}"]
    kept = {f for f in found if f.startswith(KEPT)}
    first = sorted(found, key=lambda f: (f not in kept, f not in own, times.get(f, 9.0)))
    return first[: max(MOST_TESTS, len(own | kept))]  # those of the room itself, however slow


def environment(copy: Path) -> dict[str, str]:
    """Return what a process is run with in a copy of the project; its kernels are its own."""
    return os.environ | {
        "PYTHONPATH": f"{copy / 'src'}:{copy}", "PYTHONDONTWRITEBYTECODE": "1",
        "NUMBA_CACHE_DIR": str(copy.parent / "kernels"),
    }  # fmt: skip


def kernels(copy: Path, env: dict[str, str]) -> Path:
    """Return the folder of a copy's compiled code, as it stands now."""
    command = [sys.executable, "-c", "from oarlock.jit import kernel_folder as f; print(f())"]
    done = subprocess.run(command, cwd=copy, env=env, check=True, capture_output=True, text=True)
    return Path(done.stdout.strip())


def take_over(compiled: Path, changed: Path, fault: Fault, copy: Path) -> None:
    """Copy what is compiled of those modules that do not come to a fault's module by imports."""
    sources = {p.stem: p.read_text() for room in ("control", "simulate")
               for p in (copy / "src/oarlock" / room).glob("*.py")}  # fmt: skip
    touched, more = set(), {fault.path.stem}
    while more:
        touched |= more
        by = re.compile(rf"import \(?[^)]*\b({'|'.join(more)})\b|\.({'|'.join(more)}) import")
        more = {name for name, text in sources.items() if by.search(text)} - touched
    every = [file for room in ("control", "simulate") for file in compiled.glob(f"{room}_*/*.nb?")]
    for file in every:
        if file.name.split(".")[0] not in touched:
            (changed / file.parent.name).mkdir(exist_ok=True)
            shutil.copy2(file, changed / file.parent.name)


def is_found(fault: Fault, tests: list[str], copy: Path) -> bool:
    """Return whether a test fails with the fault in place."""
    target, env = copy / fault.path, environment(copy)
    plain, compiled, dated = target.read_bytes(), kernels(copy, env), target.stat().st_mtime_ns
    target.write_bytes(fault.put_into(plain))
    changed = kernels(copy, env)
    inside = str(fault.path.relative_to("src/oarlock"))
    if changed != compiled and inside.startswith(COMPILED):
        take_over(compiled, changed, fault, copy)
    elif changed != compiled:
        changed.rmdir()  # no kernel has changed: those that are compiled serve
        changed.symlink_to(compiled)
    try:
        done = subprocess.run(
            [sys.executable, "-m", "pytest", *tests, "-x", "-q", "-o", "addopts=",
             "-m", "not realtime", "-p", "no:cacheprovider", "--timeout", str(LONGEST)],
            cwd=copy, env=env, timeout=MOST_SECONDS, check=False, capture_output=True,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return False  # no single test took too long: nothing was found
    finally:
        target.write_bytes(plain)
        os.utime(target, ns=(dated, dated))  # what is compiled goes by it
        if changed.is_symlink():
            changed.unlink()
    return done.returncode != 0


def tried(fault: Fault, tests: list[str], copies: "queue.SimpleQueue[Path]") -> tuple[bool, str]:
    """Return whether a fault is found, in the first copy that is free, and what is told of it."""
    copy, begun = copies.get(), time.monotonic()
    try:
        caught = bool(tests) and is_found(fault, tests, copy)
    finally:
        copies.put(copy)
    took = f"{time.monotonic() - begun:.0f} s"
    if caught:
        return True, f"  found ({took})"
    why = f"{len(tests)} tests, {took}" if tests else "no test comes here"
    return False, f"{fault.path}:{fault.line}: {fault.was()!r} -> {fault.now!r} ({why})"


def copied(folder: Path) -> Path:
    """Return a copy of the project that is ready for tests."""
    copy = folder / "copy"
    keep = shutil.ignore_patterns(".git", ".venv", ".faults", "*_cache", "__pycache__")
    shutil.copytree(ROOT, copy, ignore=keep)
    subprocess.run([sys.executable, "-m", "oarlock.warm"], env=environment(copy), check=True)
    return copy


def main(many: int, seed: int, since: int = 0) -> int:
    """Put in `many` faults, one a core at a time; return 1 where under 92 of 100 were found.

    Parameters
    ----------
    since : how many of them are left out: they were put in before

    """
    folder = ROOT / ".faults"
    folder.mkdir(exist_ok=True)
    seen, times = mapped(folder)
    files = [f for room in ROOMS for f in sorted((ROOT / "src/oarlock" / room).rglob("*.py"))]
    every = [fault for file in files for fault in faults_in(file.relative_to(ROOT))]
    chosen = random.Random(seed).sample(every, many)[since:]
    found, cores = 0, os.cpu_count() or 1
    with tempfile.TemporaryDirectory() as temporary, ThreadPoolExecutor(cores) as pool:
        copies: queue.SimpleQueue[Path] = queue.SimpleQueue()
        for copy in pool.map(copied, [Path(temporary) / str(n) for n in range(cores)]):
            copies.put(copy)
        tests = [tests_for(fault, seen, times) for fault in chosen]
        told = pool.map(tried, chosen, tests, itertools.repeat(copies))
        for done, (caught, said) in enumerate(told, 1):
            found += caught
            print(f"{said}\n  {found} of {done} found", flush=True)
    print(f"{found} of {len(chosen)} faults were found, of {len(every)} that could be put in")
    return 0 if found >= 0.92 * len(chosen) else 1


if __name__ == "__main__":
    arguments = [int(a) for a in sys.argv[1:4]]
    sys.exit(main(*(arguments + [200, 1, 0][len(arguments) :])))
