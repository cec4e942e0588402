"""Statements of a loop, written anew on vectors, and done under masks where lanes part."""

import ast
import inspect
import textwrap
from collections.abc import Mapping, Sequence

from oarlock.lanes.expressions import (
    DIFFERS,
    SETTING,
    SHARED,
    Expressions,
    Part,
    Source,
    Spreads,
    widened,
)


class Function(Expressions):
    """One function on its way to vectors."""

    def __init__(self, whole: Spreads, source: Source, kinds: Sequence[int], name: str) -> None:
        tree = ast.parse(textwrap.dedent(inspect.getsource(source))).body[0]
        assert isinstance(tree, ast.FunctionDef)
        self.tree = tree
        self.parameters = [one.arg for one in tree.args.args]
        known: Mapping[str, object] = source.__globals__
        super().__init__(whole, name, dict(zip(self.parameters, kinds, strict=True)), known)
        self.results: list[int] = []
        self.lines: list[str] = []

    def text(self) -> str:
        """Return the function's new source."""
        while True:
            before = (dict(self.kinds), list(self.results))
            self.lines, self.masks, self.defined = [], 0, set(self.parameters)
            self.asked = {}
            self.leaves = False  # whether some lanes may have returned
            self.looped = 0  # loops round the statement
            self.flags: list[str] = []  # of variables that are first set within one
            self.block(self.tree.body, "on", 1)
            if before == (self.kinds, self.results):
                break
        if self.leaves and self.results:
            self.lines.append(f"    return {self.returned()}")
        head = f"def {self.name}({', '.join(['on', 'apart', *self.parameters])}):\n"
        live = "    live = on\n" if self.leaves else ""
        live += "".join(f"    {flag} = False\n" for flag in self.flags)
        return head + live + "\n".join(self.lines or ["    pass"]) + "\n"

    def returned(self) -> str:
        """Return what was gathered from the lanes that returned."""
        return ", ".join(f"ret{n}" for n in range(len(self.results)))

    def write(self, depth: int, text: str) -> None:
        """Add a line."""
        self.lines.append("    " * depth + text)

    def fresh(self, depth: int, text: str) -> str:
        """Add a mask; return its name."""
        self.masks += 1
        name = f"on{self.masks}"
        self.write(depth, f"{name} = {text}")
        return name

    def block(self, body: Sequence[ast.stmt], mask: str, depth: int) -> None:
        """Write statements that are done under a mask."""
        for statement in body:
            self.mask, self.span = mask, (body[0].lineno, body[-1].end_lineno or 0)
            begun = len(self.lines)
            self._statement(statement, mask, depth)
            if self.leaves and any("live = " in line for line in self.lines[begun:]):
                mask = self.fresh(depth, f"lanes_.both({mask}, live)")

    def _statement(self, node: ast.stmt, mask: str, depth: int) -> None:
        do = getattr(self, f"_do_{type(node).__name__.lower()}", None)
        if do is None:
            raise self.unknown(node)
        do(node, mask, depth)

    def _do_expr(self, node: ast.Expr, mask: str, depth: int) -> None:
        if isinstance(node.value, ast.Constant):
            return  # what it is for
        assert isinstance(node.value, ast.Call)
        assert isinstance(node.value.func, ast.Name)
        if node.value.func.id in self.whole.left_out:
            self.write(depth, "apart[0] = 1")
            return
        self.write(depth, self.value(node.value)[0])

    def _do_pass(self, node: ast.Pass, mask: str, depth: int) -> None:
        self.write(depth, "pass")

    def _do_assign(self, node: ast.Assign, mask: str, depth: int) -> None:
        parts = self._right(node.value, depth, len(_names(node.targets[0])))
        for target in node.targets:
            for place, part in zip(_names(target), parts, strict=True):
                self.assign(place, part, mask, depth)

    def _do_annassign(self, node: ast.AnnAssign, mask: str, depth: int) -> None:
        if node.value is None:
            raise self.unknown(node)
        self.assign(node.target, self.value(node.value), mask, depth)

    def _right(self, node: ast.expr, depth: int, many: int) -> list[Part]:
        """Return what is assigned, part by part; several are all worked out before."""
        if isinstance(node, ast.Tuple):
            parts = [self.value(one) for one in node.elts]
            texts, kinds = [text for text, _ in parts], [kind for _, kind in parts]
            if many == 1:
                return [("(" + ", ".join(texts) + ",)", max(kinds))]
            return self.held(", ".join(texts), kinds, depth)
        self.called = []
        text, kind = self.value(node)
        return [(text, kind)] if many == 1 else self.held(text, self.called or [kind] * many, depth)

    def held(self, text: str, kinds: Sequence[int], depth: int) -> list[Part]:
        """Write several values down under names of their own; return them."""
        self.masks += 1
        names = [f"now{self.masks}_{n}" for n in range(len(kinds))]
        self.write(depth, f"{', '.join(names)} = {text}")
        return list(zip(names, kinds, strict=True))

    def assign(self, target: ast.expr, part: Part, mask: str, depth: int) -> None:
        """Write one assignment under a mask."""
        if isinstance(target, ast.Subscript):
            self._into_array(target, part, mask, depth)
            return
        assert isinstance(target, ast.Name)
        name = target.id
        if name == "_":
            return
        masked = mask != "on"
        parted = masked and (name in self.defined or not self._stays_here(name))
        wanted = max(self.kinds.get(name, SHARED), part[1], DIFFERS if parted else SHARED)
        self.kinds[name] = wanted
        text = widened(part, wanted)
        if parted:
            self._merge(name, text, mask, depth)
        else:
            self.defined.add(name)
            self.write(depth, f"{name} = {text}")

    def _merge(self, name: str, text: str, mask: str, depth: int) -> None:
        """Set a variable in some lanes; what the others have stays, once there is something."""
        picked = f"{name} = lanes_.pick({mask}, {text}, {name})"
        if name in self.defined:
            self.write(depth, picked)
        elif self.looped:  # the first time round nothing is there
            flag = f"set_{name}"
            self.flags.append(flag)
            self.write(depth, f"if not {flag}:")
            self.write(depth + 1, f"{name} = {text}")
            self.write(depth, "else:")
            self.write(depth + 1, picked)
            self.write(depth, f"{flag} = True")
        else:
            self.write(depth, f"{name} = {text}")
        self.defined.add(name)

    def _stays_here(self, name: str) -> bool:
        """Return whether a name is read only in the block that is being written."""
        first, last = self.span
        return all(first <= part.lineno <= last for part in ast.walk(self.tree)
                   if isinstance(part, ast.Name) and part.id == name)  # fmt: skip

    def _into_array(self, target: ast.Subscript, part: Part, mask: str, depth: int) -> None:
        text, kind = part
        base, held = self.value(target.value)
        if isinstance(target.slice, ast.Slice):
            if kind or not held or target.slice.lower or target.slice.upper:
                raise self.unknown(target)
            self.write(depth, f"for each in range({base}.shape[0]):")
            self.write(depth + 1, f"memory_.put({base}, each, {mask}, {text})")
            return
        at = self.places(target)
        if held:
            call = f"memory_.put{len(at) if len(at) > 1 else ''}"
            self.write(depth, f"{call}({base}, {', '.join(at)}, {mask}, {text})")
            return
        if kind:
            raise self.unknown(target)
        if mask != "on":
            self.write(depth, f"if lanes_.some({mask}):")
            depth += 1
        self.write(depth, f"{base}[{', '.join(at)}] = {text}")

    def _do_augassign(self, node: ast.AugAssign, mask: str, depth: int) -> None:
        before = ast.parse(ast.unparse(node.target), mode="eval").body
        self.assign(node.target, self.value(ast.BinOp(before, node.op, node.value)), mask, depth)

    def _do_return(self, node: ast.Return, mask: str, depth: int) -> None:
        parts = self._given_back(node.value, depth) if node.value is not None else []
        masked = mask != "on"
        least = DIFFERS if masked else SHARED
        if not self.results:
            self.results = [least] * len(parts)
        self.results = [max(old, kind, least)
                        for old, (_, kind) in zip(self.results, parts, strict=True)]  # fmt: skip
        texts = [widened(part, kind) for part, kind in zip(parts, self.results, strict=True)]
        if not masked:
            self.write(depth, f"return {', '.join(texts)}")
            return
        for n, text in enumerate(texts):
            self._merge(f"ret{n}", text, mask, depth)
        self.leaves = True
        self.write(depth, f"live = lanes_.both(live, lanes_.flip({mask}))")

    def _given_back(self, node: ast.expr, depth: int) -> list[Part]:
        """Return the parts of what a function gives back."""
        if isinstance(node, ast.Tuple):
            return [self.value(one) for one in node.elts]
        self.called = []
        text, kind = self.value(node)
        return self.held(text, self.called, depth) if len(self.called) > 1 else [(text, kind)]

    def _do_if(self, node: ast.If, mask: str, depth: int) -> None:
        test, kind = self.value(node.test)
        if kind < DIFFERS:
            if kind == SETTING:
                test = self.one_for_all("same", node.test, test)
            self.write(depth, f"if {test}:")
            self.block(node.body, mask, depth + 1)
            if node.orelse:
                self.write(depth, "else:")
                self.block(node.orelse, mask, depth + 1)
            return
        flags = self.fresh(depth, test)
        self._way(node.body, f"lanes_.both({mask}, {flags})", depth)
        if node.orelse:
            self._way(node.orelse, f"lanes_.both({mask}, lanes_.flip({flags}))", depth)

    def _way(self, body: Sequence[ast.stmt], mask: str, depth: int) -> None:
        """Write one of two ways; one that costs something is gone only where a lane goes it."""
        name = self.fresh(depth, mask)
        if any(isinstance(part, ast.Call | ast.For) for one in body for part in ast.walk(one)):
            self.write(depth, f"if lanes_.some({name}):")
            depth += 1
        self.block(body, name, depth)

    def _do_for(self, node: ast.For, mask: str, depth: int) -> None:
        if not isinstance(node.target, ast.Name):
            raise self.unknown(node)
        over, kind = self.value(node.iter) if not _is_range(node.iter) else self._range(node.iter)
        name = node.target.id
        self.kinds[name] = max(self.kinds.get(name, SHARED), kind)
        self.defined.add(name)
        self.write(depth, f"for {name} in {over}:")
        if any(isinstance(part, ast.Return) for one in node.body for part in ast.walk(one)):
            mask = self.fresh(depth + 1, f"lanes_.both({mask}, live)")
            self.leaves = True
        self.looped += 1
        self.block(node.body, mask, depth + 1)
        self.looped -= 1

    def _range(self, node: ast.expr) -> Part:
        assert isinstance(node, ast.Call)
        parts = [self.value(one) for one in node.args]
        if any(kind for _, kind in parts):  # each lane as often as it likes
            raise self.unknown(node)
        return f"range({', '.join(text for text, _ in parts)})", SHARED


def _names(target: ast.expr) -> list[ast.expr]:
    return list(target.elts) if isinstance(target, ast.Tuple) else [target]


def _is_range(node: ast.expr) -> bool:
    called = node.func if isinstance(node, ast.Call) else None
    return isinstance(called, ast.Name) and called.id == "range"
