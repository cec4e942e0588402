"""What keeps the house in order: sizes, signatures, and no control flow on sentences."""

import ast
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import oarlock

ROOT = Path(oarlock.__file__).parent
CORE = (
    "machine", "control", "simulate", "drive", "experiments", "records", "quantities", "handover",
    "store", "views",
)  # fmt: skip
MOST_LINES, MOST_OF_A_FUNCTION = 400, 60
# What is told to people, by the names of fields that hold it: code may show it, never ask it.
TOLD = {"sentence", "remark", "words", "ended", "cause", "remedy"}
# Where a text is the thing itself: files that are read, and what was typed.
READS_TEXT = {"records", "quantities", "store"}


def sources(*rooms: str) -> Iterator[tuple[Path, ast.Module]]:
    for path, tree in _trees().items():
        if not rooms or path.relative_to(ROOT).parts[0] in rooms:
            yield path, tree


@cache
def _trees() -> dict[Path, ast.Module]:
    return {path: ast.parse(path.read_text()) for path in sorted(ROOT.rglob("*.py"))}


def functions(tree: ast.AST) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            yield node


def test_no_module_is_longer_than_a_newcomer_reads_at_once() -> None:
    lines = {path: len(path.read_text().splitlines()) for path in ROOT.rglob("*.py")}
    assert {path: many for path, many in lines.items() if many > MOST_LINES} == {}


def test_no_function_is_longer_than_a_screen() -> None:
    long = [
        f"{path.name}: {f.name}, {f.end_lineno - f.lineno + 1} lines"
        for path, tree in sources()
        for f in functions(tree)
        if f.end_lineno is not None and f.end_lineno - f.lineno + 1 > MOST_OF_A_FUNCTION
    ]
    assert long == []


def _names(node: ast.AST | None) -> set[str]:
    return {n.id for n in ast.walk(node) if isinstance(n, ast.Name)} if node else set()


def test_no_public_signature_of_the_core_says_any() -> None:
    vague = [
        f"{path.relative_to(ROOT)}: {f.name}"
        for path, tree in sources(*CORE)
        for f in functions(tree)
        if not f.name.startswith("_") and "Any" in _names(f.args) | _names(f.returns)
    ]
    assert vague == []


def _asked(node: ast.AST) -> list[ast.expr]:
    """Return what a search in a text looks at: `"words" in x`, `x.startswith(…)` and the like."""
    if isinstance(node, ast.Compare) and isinstance(node.ops[0], ast.In | ast.NotIn):
        sides = [node.left, *node.comparators]
        plain = any(isinstance(s, ast.Constant) and isinstance(s.value, str) for s in sides)
        return sides if plain else []
    searches = ("startswith", "endswith", "find", "count")
    called = node.func if isinstance(node, ast.Call) else None
    if isinstance(called, ast.Attribute) and called.attr in searches:
        return [called.value]
    return []


def test_nothing_is_decided_by_what_is_told_to_people() -> None:
    """A comparison or a search in a sentence breaks when somebody words it better."""
    asked = []
    for path, tree in sources():
        if path.relative_to(ROOT).parts[0] in READS_TEXT:
            continue
        told = [
            side
            for node in ast.walk(tree)
            for side in _asked(node)
            if isinstance(side, ast.Attribute) and side.attr in TOLD
        ]
        asked += [f"{path.relative_to(ROOT)}, line {s.lineno}: {ast.unparse(s)}" for s in told]
    assert asked == []
