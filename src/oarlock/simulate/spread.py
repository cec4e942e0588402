"""Spreads functions that work on one drive over lanes: the same source, on eight drives at a time.

Functions are read as they are written and written anew on vectors (`vectors`). Values are of three
kinds: the same in all lanes (the clock, the step table), settings (what plant and firmware are told,
which may have other values but lead the same way), and those that differ. What decides by a setting
stays a branch, and where the lanes do not agree that is noted; what decides by a value that differs
becomes a mask, under which both ways are gone (if-conversion; Allen, Kennedy, Porterfield and
Warren, "Conversion of control dependence to data dependence", POPL 1983).
"""

import ast
import inspect
import textwrap
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

SHARED, SETTING, DIFFERS = 0, 1, 2
_OPERATORS = {ast.Add: "add", ast.Sub: "sub", ast.Mult: "mul", ast.Div: "div", ast.BitAnd: "both",
              ast.BitOr: "either", ast.Lt: "less", ast.LtE: "less_equal", ast.Gt: "more",
              ast.GtE: "more_equal", ast.Eq: "equal", ast.NotEq: "differ"}  # fmt: skip
_BUILTINS = {"abs": "size", "min": "least", "max": "most", "float": "double", "round": "nearest"}
_OF_MATH = {"sqrt": "root", "floor": "floor", "copysign": "signed"}
_HEAVY = ("exp", "log", "log1p", "expm1", "sin", "cos", "atan2", "hypot")
_HEAD = '''"""Made by oarlock.simulate.spread."""
import math
import numpy as np
from oarlock.jit import njit
from oarlock.simulate import vectors as lanes_'''
_PART = "_part = njit(inline=True)"
Source = Callable[..., object]


class CannotSpreadError(Exception):
    """A function does what has no counterpart on vectors."""


@dataclass
class Spreading:
    """All functions that were spread, and what they call that is the same in all lanes."""

    left_out: frozenset[str]  # functions after which the lanes go alone
    alike: frozenset[str]  # places of settings that have one value in all lanes
    own: frozenset[str] = frozenset({"power_of_two"})  # functions that `vectors` has itself
    written: dict[str, str] = field(default_factory=dict)  # name: source
    results: dict[str, list[int]] = field(default_factory=dict)
    plain: dict[str, str] = field(default_factory=dict)  # name: where it is imported from

    def function(self, plain: Source, kinds: Sequence[int]) -> str:
        """Spread one function for arguments of these kinds; return its new name."""
        source: Source = getattr(plain, "py_func", plain)
        module = source.__module__.rpartition(".")[2]
        name = f"{module}_{source.__name__}_{''.join(map(str, kinds))}".replace("__", "_")
        if name not in self.written:
            one = _Function(self, source, kinds, name)
            self.written[name] = ""  # a function that calls itself would not end
            text = one.text()
            del self.written[name]
            self.written[name] = text  # after those that it calls
            self.results[name] = one.results
        return name

    def module(self, entries: Mapping[str, tuple[Source, Mapping[str, int], Sequence[str]]]) -> str:
        """Return the source of a module with functions that work on lanes.

        Parameters
        ----------
        entries : by name the function, kinds of its parameters that are not shared, and those that
            are numbers: they come as arrays (1, lanes)

        """
        lines = []
        for name, (plain, kinds, numbers) in entries.items():
            parameters = list(inspect.signature(getattr(plain, "py_func", plain)).parameters)
            made = self.function(plain, [kinds.get(one, SHARED) for one in parameters])
            given = [f"lanes_.get({one}, 0)" if one in numbers else one for one in parameters]
            lines += [f"@njit()\ndef {name}({', '.join([*parameters, 'apart'])}):\n"
                      f"    {made}(lanes_.wide(True), apart, {', '.join(given)})\n"]  # fmt: skip
        parts = [f"@_part\n{text}" for text in self.written.values()]
        return "\n\n".join([_HEAD, "\n".join(self.plain.values()), _PART, *parts, *lines])

    def shared(self, plain: Source) -> str:
        """Return the name under which a function is called as it is."""
        source: Source = getattr(plain, "py_func", plain)
        name = f"{source.__module__.rpartition('.')[2]}_{source.__name__}".replace("__", "_")
        self.plain[name] = f"from {source.__module__} import {source.__name__} as {name}"
        return name


class _Function:
    """One function on its way to vectors."""

    def __init__(
        self, whole: Spreading, source: Source, kinds: Sequence[int], name: str
    ) -> None:
        self.whole, self.name = whole, name
        self.globals: Mapping[str, object] = source.__globals__
        tree = ast.parse(textwrap.dedent(inspect.getsource(source))).body[0]
        assert isinstance(tree, ast.FunctionDef)
        self.tree = tree
        self.parameters = [one.arg for one in tree.args.args]
        self.kinds = dict(zip(self.parameters, kinds, strict=True))
        self.results: list[int] = []
        self.lines: list[str] = []

    def text(self) -> str:
        """Return the function's new source."""
        while True:
            before = (dict(self.kinds), list(self.results))
            self.lines, self.masks, self.defined = [], 0, set(self.parameters)
            self.leaves = False  # whether some lanes may have returned
            self.block(self.tree.body, "on", 1)
            if before == (self.kinds, self.results):
                break
        if self.leaves and self.results:
            self.lines.append(f"    return {self.returned()}")
        head = f"def {self.name}({', '.join(['on', 'apart', *self.parameters])}):\n"
        live = "    live = on\n" if self.leaves else ""
        return head + live + "\n".join(self.lines or ["    pass"]) + "\n"

    def returned(self) -> str:
        """Return what was gathered from the lanes that returned."""
        return ", ".join(f"ret{n}" for n in range(len(self.results)))

    # -- expressions ---------------------------------------------------------------------------

    def value(self, node: ast.expr) -> tuple[str, int]:
        """Return an expression's new source, and the kind of what it gives."""
        found: tuple[str, int] = getattr(self, f"_{type(node).__name__.lower()}", self._unknown)(
            node
        )
        return found

    def _unknown(self, node: ast.AST) -> tuple[str, int]:
        raise CannotSpreadError(f"{self.name}, {self.kinds}: {ast.unparse(node)}")

    def _constant(self, node: ast.Constant) -> tuple[str, int]:
        return repr(node.value), SHARED

    def _name(self, node: ast.Name) -> tuple[str, int]:
        if node.id in self.kinds:
            return node.id, self.kinds[node.id]
        value = self.globals.get(node.id, self)
        if isinstance(value, np.float32):
            return f"np.float32({float(value)!r})", SHARED
        if isinstance(value, bool | int | float | tuple):
            return repr(value), SHARED
        return node.id, SHARED  # assigned below, or in a loop

    def _attribute(self, node: ast.Attribute) -> tuple[str, int]:
        return ast.unparse(node), SHARED  # math.pi, the size of an array

    def _tuple(self, node: ast.Tuple) -> tuple[str, int]:
        parts = [self.value(one) for one in node.elts]
        kind = max((one for _, one in parts), default=SHARED)
        return f"({', '.join(self.widened(*one, kind) for one in parts)},)", kind

    def widened(self, text: str, kind: int, wanted: int) -> str:
        """Return an expression as a vector where the wanted kind is one."""
        return text if kind or not wanted else f"lanes_.wide({text})"

    def places(self, node: ast.Subscript) -> list[str]:
        """Return where in an array it is."""
        parts = node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice]
        found = [self.value(one) for one in parts]
        if any(kind for _, kind in found):
            self._unknown(node)
        return [text for text, _ in found]

    def _subscript(self, node: ast.Subscript) -> tuple[str, int]:
        base, kind = self.value(node.value)
        at = self.places(node)
        if not kind:
            return f"{base}[{', '.join(at)}]", SHARED
        get = "setting" if kind == SETTING else f"get{len(at) if len(at) > 1 else ''}"
        text = f"lanes_.{get}({base}, {', '.join(at)})"
        if isinstance(node.slice, ast.Name) and node.slice.id in self.whole.alike:
            return f"lanes_.same_number({text}, apart)", SHARED
        return text, kind

    def _joined(self, name: str, parts: Sequence[tuple[str, int]]) -> tuple[str, int]:
        """Return nested calls of a function of two."""
        text, kind = parts[0]
        for other, more in parts[1:]:
            text, kind = f"lanes_.{name}({text}, {other})", max(kind, more)
        return text, kind

    def _binop(self, node: ast.BinOp) -> tuple[str, int]:
        parts = [self.value(node.left), self.value(node.right)]
        if not any(kind for _, kind in parts):
            return self._as_it_is(node, [text for text, _ in parts])
        if isinstance(node.op, ast.Pow) and parts[1][0] == "2":
            return self._joined("mul", [parts[0], parts[0]])
        if type(node.op) not in _OPERATORS:
            self._unknown(node)
        return self._joined(_OPERATORS[type(node.op)], parts)

    def _as_it_is(self, node: ast.BinOp, parts: Sequence[str]) -> tuple[str, int]:
        sign = ast.unparse(ast.BinOp(ast.Name("a"), node.op, ast.Name("b")))[1:-1].strip()
        return f"({parts[0]} {sign} {parts[1]})", SHARED

    def _unaryop(self, node: ast.UnaryOp) -> tuple[str, int]:
        text, kind = self.value(node.operand)
        flips = isinstance(node.op, ast.Not)
        if not kind:
            return f"({'not ' if flips else '-'}{text})", SHARED
        return f"lanes_.{'flip' if flips else 'neg'}({text})", kind

    def _boolop(self, node: ast.BoolOp) -> tuple[str, int]:
        parts = [self.value(one) for one in node.values]
        joins = isinstance(node.op, ast.And)
        if any(kind for _, kind in parts):
            return self._joined("both" if joins else "either", parts)
        return f"({(' and ' if joins else ' or ').join(text for text, _ in parts)})", SHARED

    def _compare(self, node: ast.Compare) -> tuple[str, int]:
        sides = [self.value(one) for one in (node.left, *node.comparators)]
        if not any(kind for _, kind in sides):
            text = sides[0][0]
            for op, (side, _) in zip(node.ops, sides[1:], strict=True):
                sign = ast.unparse(ast.Compare(ast.Name("a"), [op], [ast.Name("b")]))[1:-1]
                text += f" {sign.strip()} {side}"
            return f"({text})", SHARED
        parts = []
        for op, a, b in zip(node.ops, sides, sides[1:], strict=False):
            if a[1] or b[1]:
                parts.append(self._joined(_OPERATORS[type(op)], [a, b]))
            else:
                sign = ast.unparse(ast.Compare(ast.Name("a"), [op], [ast.Name("b")]))[1:-1]
                parts.append((f"({a[0]} {sign.strip()} {b[0]})", SHARED))
        return self._joined("both", parts)

    def _ifexp(self, node: ast.IfExp) -> tuple[str, int]:
        test, how = self.value(node.test)
        parts = [self.value(node.body), self.value(node.orelse)]
        kind = max(how, *(one for _, one in parts))
        a, b = (self.widened(*one, kind) for one in parts)
        if how == DIFFERS:
            return f"lanes_.pick({test}, {a}, {b})", DIFFERS
        if how == SETTING:
            test = f"lanes_.same({test}, apart)"
        return f"({a} if {test} else {b})", kind

    def _call(self, node: ast.Call) -> tuple[str, int]:
        parts = [self.value(one) for one in node.args]
        kind = max((one for _, one in parts), default=SHARED)
        given = ", ".join(text for text, _ in parts)
        if isinstance(node.func, ast.Attribute):
            return self._of_module(node.func, given, kind)
        assert isinstance(node.func, ast.Name)
        called = node.func.id
        if kind and called in self.whole.own:
            return f"lanes_.{called}({given})", kind
        if callable(self.globals.get(called)):
            return self._of_kernel(self.globals[called], parts)  # type: ignore[arg-type]
        if not kind:
            return f"{called}({given})", SHARED
        if called == "int":
            return f"lanes_.same_whole({given}, apart)", SHARED
        if called in ("min", "max"):
            return self._joined(_BUILTINS[called], parts)
        if called not in _BUILTINS:
            self._unknown(node)
        return f"lanes_.{_BUILTINS[called]}({given})", kind

    def _of_module(self, function: ast.Attribute, given: str, kind: int) -> tuple[str, int]:
        if not kind:
            return f"{ast.unparse(function)}({given})", SHARED
        if function.attr in ("float32", "float64"):
            return f"lanes_.{'single' if function.attr == 'float32' else 'double'}({given})", kind
        if function.attr in _OF_MATH:
            return f"lanes_.{_OF_MATH[function.attr]}({given})", kind
        if function.attr not in _HEAVY:
            self._unknown(function)
        return f"lanes_.each_{function.attr}({given})", kind

    def _of_kernel(self, plain: Source, parts: Sequence[tuple[str, int]]) -> tuple[str, int]:
        given, kinds = [text for text, _ in parts], [kind for _, kind in parts]
        if not any(kinds):
            return f"{self.whole.shared(plain)}({', '.join(given)})", SHARED
        name = self.whole.function(plain, kinds)
        results = self.whole.results[name]
        self.called = results
        kind = max(results, default=SHARED)
        return f"{name}({', '.join([self.mask, 'apart', *given])})", kind

    # -- statements ----------------------------------------------------------------------------

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
            getattr(self, f"_do_{type(statement).__name__.lower()}", self._unknown)(
                statement, mask, depth
            )
            if self.leaves and any("live = " in line for line in self.lines[begun:]):
                mask = self.fresh(depth, f"lanes_.both({mask}, live)")

    def _do_expr(self, node: ast.Expr, mask: str, depth: int) -> None:
        if isinstance(node.value, ast.Constant):
            return  # what it is for
        assert isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Name)
        if node.value.func.id in self.whole.left_out:
            self.write(depth, "apart[0] = 1")
            return
        self.write(depth, self.value(node.value)[0])

    def _do_pass(self, node: ast.Pass, mask: str, depth: int) -> None:
        self.write(depth, "pass")

    def _do_assign(self, node: ast.Assign, mask: str, depth: int) -> None:
        text, kinds = self._right(node.value, depth, len(_names(node.targets[0])))
        for target in node.targets:
            places = _names(target)
            for place, one, kind in zip(places, text, kinds, strict=True):
                self.assign(place, one, kind, mask, depth)

    def _right(self, node: ast.expr, depth: int, many: int) -> tuple[list[str], list[int]]:
        """Return what is assigned, part by part."""
        if isinstance(node, ast.Tuple):
            parts = [self.value(one) for one in node.elts]
            texts = [text for text, _ in parts]
            if many > 1 and any(kind for _, kind in parts):  # all are worked out before
                self.masks += 1
                held = [f"now{self.masks}_{n}" for n in range(many)]
                for name, (text, _) in zip(held, parts, strict=True):
                    self.write(depth, f"{name} = {text}")
                texts = held
            elif many > 1:
                self.masks += 1
                held = [f"now{self.masks}_{n}" for n in range(many)]
                self.write(depth, f"{', '.join(held)} = {', '.join(texts)}")
                texts = held
            return texts, [kind for _, kind in parts]
        self.called: list[int] = []
        text, kind = self.value(node)
        if many == 1:
            return [text], [kind]
        self.masks += 1
        held = [f"now{self.masks}_{n}" for n in range(many)]
        self.write(depth, f"{', '.join(held)} = {text}")
        return held, self.called or [kind] * many

    def assign(self, target: ast.expr, text: str, kind: int, mask: str, depth: int) -> None:
        """Write one assignment under a mask."""
        if isinstance(target, ast.Subscript):
            self._into_array(target, text, kind, mask, depth)
            return
        assert isinstance(target, ast.Name)
        name = target.id
        if name == "_":
            return
        masked = mask != "on"
        parted = masked and (name in self.defined or not self._stays_here(name))
        wanted = max(self.kinds.get(name, SHARED), kind, DIFFERS if parted else SHARED)
        self.kinds[name] = wanted
        text = self.widened(text, kind, wanted)
        if masked and name in self.defined:
            text = f"lanes_.pick({mask}, {text}, {name})"
        self.defined.add(name)
        self.write(depth, f"{name} = {text}")

    def _stays_here(self, name: str) -> bool:
        """Return whether a name is read only in the block that is being written."""
        first, last = self.span
        return all(first <= part.lineno <= last for part in ast.walk(self.tree)
                   if isinstance(part, ast.Name) and part.id == name)  # fmt: skip

    def _into_array(
        self, target: ast.Subscript, text: str, kind: int, mask: str, depth: int
    ) -> None:
        base, held = self.value(target.value)
        if isinstance(target.slice, ast.Slice):
            if kind or not held or target.slice.lower or target.slice.upper:
                self._unknown(target)
            self.write(depth, f"for each in range({base}.shape[0]):")
            self.write(depth + 1, f"lanes_.put({base}, each, {mask}, {text})")
            return
        at = self.places(target)
        if held:
            call = f"lanes_.put{len(at) if len(at) > 1 else ''}"
            self.write(depth, f"{call}({base}, {', '.join(at)}, {mask}, {text})")
            return
        if kind:
            self._unknown(target)
        if mask != "on":
            self.write(depth, f"if lanes_.some({mask}):")
            depth += 1
        self.write(depth, f"{base}[{', '.join(at)}] = {text}")

    def _do_augassign(self, node: ast.AugAssign, mask: str, depth: int) -> None:
        before = ast.parse(ast.unparse(node.target), mode="eval").body
        text, kind = self.value(ast.BinOp(before, node.op, node.value))
        self.assign(node.target, text, kind, mask, depth)

    def _do_return(self, node: ast.Return, mask: str, depth: int) -> None:
        parts = []
        if node.value is not None:
            plain = node.value.elts if isinstance(node.value, ast.Tuple) else [node.value]
            if len(plain) == 1:
                self.called = []
                text, kind = self.value(plain[0])
                if len(self.called) > 1:
                    self.masks += 1
                    held = [f"now{self.masks}_{n}" for n in range(len(self.called))]
                    self.write(depth, f"{', '.join(held)} = {text}")
                    parts = list(zip(held, self.called, strict=True))
                else:
                    parts = [(text, kind)]
            else:
                parts = [self.value(one) for one in plain]
        masked = mask != "on"
        least = DIFFERS if masked else SHARED
        if not self.results:
            self.results = [least] * len(parts)
        self.results = [max(old, kind, least)
                        for old, (_, kind) in zip(self.results, parts, strict=True)]  # fmt: skip
        texts = [self.widened(*part, kind)
                 for part, kind in zip(parts, self.results, strict=True)]  # fmt: skip
        if not masked:
            self.write(depth, f"return {', '.join(texts)}")
            return
        for n, text in enumerate(texts):
            name = f"ret{n}"
            if name in self.defined:
                text = f"lanes_.pick({mask}, {text}, {name})"  # noqa: PLW2901
            self.defined.add(name)
            self.write(depth, f"{name} = {text}")
        self.leaves = True
        self.write(depth, f"live = lanes_.both(live, lanes_.flip({mask}))")

    def _do_if(self, node: ast.If, mask: str, depth: int) -> None:
        test, kind = self.value(node.test)
        if kind < DIFFERS:
            if kind == SETTING:
                test = f"lanes_.same({test}, apart)"
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
            self._unknown(node)
        over, kind = self.value(node.iter) if not _is_range(node.iter) else self._range(node.iter)
        name = node.target.id
        if kind == SHARED or not _is_range(node.iter):
            self.kinds[name] = max(self.kinds.get(name, SHARED), kind)
            self.defined.add(name)
            self.write(depth, f"for {name} in {over}:")
        else:  # as often as the lane that goes on longest
            self.masks += 1
            name = f"turn{self.masks}"
            self.write(depth, f"for {name} in range(lanes_.highest({over})):")
            mask = self.fresh(depth + 1, f"lanes_.both({mask}, lanes_.less({name}, {over}))")
        if any(isinstance(part, ast.Return) for one in node.body for part in ast.walk(one)):
            mask = self.fresh(depth + 1, f"lanes_.both({mask}, live)")
            self.leaves = True
        self.block(node.body, mask, depth + 1)

    def _range(self, node: ast.expr) -> tuple[str, int]:
        assert isinstance(node, ast.Call)
        parts = [self.value(one) for one in node.args]
        kind = max(one for _, one in parts)
        if not kind:
            return f"range({', '.join(text for text, _ in parts)})", SHARED
        if len(parts) > 1:
            self._unknown(node)
        return parts[0]


def _names(target: ast.expr) -> list[ast.expr]:
    return list(target.elts) if isinstance(target, ast.Tuple) else [target]


def _is_range(node: ast.expr) -> bool:
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "range"
