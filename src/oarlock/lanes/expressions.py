"""Expressions of a loop, written anew on vectors."""

import ast
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

import numpy as np

# What a value is: the same in all lanes, a setting, or one that differs from lane to lane.
SHARED, SETTING, DIFFERS = 0, 1, 2
_OPERATORS = {ast.Add: "add", ast.Sub: "sub", ast.Mult: "mul", ast.Div: "div", ast.BitAnd: "both",
              ast.BitOr: "either", ast.Lt: "less", ast.LtE: "less_equal", ast.Gt: "more",
              ast.GtE: "more_equal", ast.Eq: "equal", ast.NotEq: "differ"}  # fmt: skip
_SIGNS = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.BitAnd: "&", ast.BitOr: "|",
          ast.FloorDiv: "//", ast.Mod: "%", ast.Pow: "**", ast.LShift: "<<", ast.RShift: ">>",
          ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=",
          ast.In: "in", ast.NotIn: "not in"}  # fmt: skip
_BUILTINS = {"abs": "size", "min": "least", "max": "most", "float": "double", "round": "nearest"}
_OF_MATH = {"sqrt": "root", "floor": "floor", "copysign": "signed"}
_OF_NUMPY = {"float32": "single", "float64": "double"}
_ONE_BY_ONE = ("exp", "sin", "cos", "atan2", "hypot")
_OWN = ("power_of_two",)  # functions that vectors have themselves
Source = Callable[..., object]
Part = tuple[str, int]  # the source of a value, and what it is


class CannotSpreadError(Exception):
    """A function does what has no counterpart on vectors."""


class Spreads(Protocol):
    """All functions that are spread."""

    left_out: frozenset[str]
    alike: frozenset[str]
    settings: frozenset[str]
    results: dict[str, list[int]]
    asked: dict[str, dict[str, None]]

    def function(self, plain: Source, kinds: Sequence[int], given: Sequence[str]) -> str:
        """Spread one function for arguments of these kinds; return its new name."""
        ...

    def shared(self, plain: Source) -> str:
        """Return the name under which a function is called as it is."""
        ...


def _is_constant(text: str) -> bool:
    """Return whether a new source is made of numbers alone."""
    return not any(isinstance(part, ast.Name | ast.Call) for part in ast.walk(ast.parse(text)))


def widened(part: Part, wanted: int) -> str:
    """Return a value as a vector where what is wanted is one."""
    text, kind = part
    return text if kind or not wanted else f"lanes_.wide({text})"


class Expressions:
    """Values that a function works out, as its variables are known so far."""

    def __init__(
        self, whole: Spreads, name: str, kinds: dict[str, int], known: Mapping[str, object]
    ) -> None:
        self.whole, self.name, self.kinds, self.globals = whole, name, kinds, known
        self.mask = "on"  # under which the statement is done that is being written
        self.asked: dict[str, None] = {}  # of settings, once for all samples
        self.called: list[int] = []  # what the parts are that the last called function gives

    def value(self, node: ast.expr) -> Part:
        """Return an expression's new source, and the kind of what it gives."""
        of = getattr(self, f"_{type(node).__name__.lower()}", None)
        if of is None:
            raise self.unknown(node)
        found: Part = of(node)
        return found

    def unknown(self, node: ast.AST) -> CannotSpreadError:
        """Return the error: there is no counterpart on vectors."""
        return CannotSpreadError(f"{self.name}, {self.kinds}: {ast.unparse(node)}")

    def _constant(self, node: ast.Constant) -> Part:
        return repr(node.value), SHARED

    def _name(self, node: ast.Name) -> Part:
        if node.id in self.kinds:
            return node.id, self.kinds[node.id]
        value = self.globals.get(node.id, self)
        if isinstance(value, np.float32):
            return f"np.float32({float(value)!r})", SHARED
        if isinstance(value, bool | int | float | tuple):
            return repr(value), SHARED
        return node.id, SHARED  # assigned below, or in a loop

    def _attribute(self, node: ast.Attribute) -> Part:
        return ast.unparse(node), SHARED  # math.pi, the size of an array

    def _tuple(self, node: ast.Tuple) -> Part:
        parts = [self.value(one) for one in node.elts]
        kind = max((one for _, one in parts), default=SHARED)
        return f"({', '.join(widened(one, kind) for one in parts)},)", kind

    def places(self, node: ast.Subscript) -> list[str]:
        """Return where in an array it is."""
        parts = node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice]
        found = [self.value(one) for one in parts]
        if any(kind for _, kind in found):
            raise self.unknown(node)
        return [text for text, _ in found]

    def _subscript(self, node: ast.Subscript) -> Part:
        base, kind = self.value(node.value)
        at = self.places(node)
        if not kind:
            return f"{base}[{', '.join(at)}]", SHARED
        get = "setting" if kind == SETTING else f"get{len(at) if len(at) > 1 else ''}"
        text = f"memory_.{get}({base}, {', '.join(at)})"
        if isinstance(node.slice, ast.Name) and node.slice.id in self.whole.alike:
            return self.one_for_all("same_number", node, text), SHARED
        return text, kind

    def one_for_all(self, how: str, node: ast.expr, text: str) -> str:
        """Return what is the same in all lanes; of plain settings that is asked but once a call."""
        plain, asked = self._first_lane(node), f"memory_.{how}({text}, apart)"
        if plain is None:
            return asked
        if isinstance(node, ast.Subscript):
            self.asked[asked] = None
        return f"int({plain})" if how == "same_whole" else plain

    def _first_lane(self, node: ast.expr) -> str | None:
        """Return how the first lane decides by settings at fixed places; note what is to be asked.

        None where other things than these and what is the same in all lanes decide.
        """
        if isinstance(node, ast.BoolOp):
            parts = [self._first_lane(one) for one in node.values]
            joins = " and " if isinstance(node.op, ast.And) else " or "
            return None if None in parts else f"({joins.join(str(one) for one in parts)})"
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            part = self._first_lane(node.operand)
            return None if part is None else f"(not {part})"
        if isinstance(node, ast.Subscript) and self.value(node.value)[1]:
            return self._first_of(node)
        text, kind = self.value(node)
        if not kind:
            return text
        if not isinstance(node, ast.Compare):
            return None
        sides = [node.left, *node.comparators]
        parts = [self._first_of(one) or self._constant_text(one) for one in sides]
        if None in parts:
            return None
        self.asked[f"memory_.same({text}, apart)"] = None
        signs = [_SIGNS[type(op)] for op in node.ops]
        more = (f"{sign} {part}" for sign, part in zip(signs, parts[1:], strict=True))
        return f"({parts[0]} {' '.join(more)})"

    def _first_of(self, node: ast.expr) -> str | None:
        """Return a setting at a fixed place as the first lane has it; None for anything else."""
        if not isinstance(node, ast.Subscript) or not isinstance(node.value, ast.Name):
            return None
        at = self.places(node)
        fixed = len(at) == 1 and _is_constant(at[0])
        if not fixed or node.value.id not in self.whole.settings:
            return None
        return f"{node.value.id}[{at[0]}, 0]"

    def _constant_text(self, node: ast.expr) -> str | None:
        text, kind = self.value(node)
        return text if not kind and _is_constant(text) else None

    def _joined(self, name: str, parts: Sequence[Part]) -> Part:
        """Return nested calls of a function of two."""
        text, kind = parts[0]
        for other, more in parts[1:]:
            text, kind = f"lanes_.{name}({text}, {other})", max(kind, more)
        return text, kind

    def _binop(self, node: ast.BinOp) -> Part:
        parts = [self.value(node.left), self.value(node.right)]
        if not any(kind for _, kind in parts):
            return f"({parts[0][0]} {_SIGNS[type(node.op)]} {parts[1][0]})", SHARED
        if isinstance(node.op, ast.Pow) and parts[1][0] == "2":
            return self._joined("mul", [parts[0], parts[0]])
        if type(node.op) not in _OPERATORS:
            raise self.unknown(node)
        return self._joined(_OPERATORS[type(node.op)], parts)

    def _unaryop(self, node: ast.UnaryOp) -> Part:
        text, kind = self.value(node.operand)
        flips = isinstance(node.op, ast.Not)
        if not kind:
            return f"({'not ' if flips else '-'}{text})", SHARED
        return f"lanes_.{'flip' if flips else 'neg'}({text})", kind

    def _boolop(self, node: ast.BoolOp) -> Part:
        parts = [self.value(one) for one in node.values]
        joins = isinstance(node.op, ast.And)
        if any(kind for _, kind in parts):
            return self._joined("both" if joins else "either", parts)
        return f"({(' and ' if joins else ' or ').join(text for text, _ in parts)})", SHARED

    def _compare(self, node: ast.Compare) -> Part:
        sides = [self.value(one) for one in (node.left, *node.comparators)]
        parts = []
        for op, a, b in zip(node.ops, sides, sides[1:], strict=False):
            if a[1] or b[1]:
                parts.append(self._joined(_OPERATORS[type(op)], [a, b]))
            else:
                parts.append((f"({a[0]} {_SIGNS[type(op)]} {b[0]})", SHARED))
        if any(kind for _, kind in parts):
            return self._joined("both", parts)
        return f"({' and '.join(text for text, _ in parts)})", SHARED

    def _ifexp(self, node: ast.IfExp) -> Part:
        test, how = self.value(node.test)
        parts = [self.value(node.body), self.value(node.orelse)]
        kind = max(how, *(one for _, one in parts))
        a, b = (widened(one, kind) for one in parts)
        if how == DIFFERS:
            return f"lanes_.pick({test}, {a}, {b})", DIFFERS
        if how == SETTING:
            test = self.one_for_all("same", node.test, test)
        return f"({a} if {test} else {b})", kind

    def _call(self, node: ast.Call) -> Part:
        parts = [self.value(one) for one in node.args]
        kind = max((one for _, one in parts), default=SHARED)
        given = ", ".join(text for text, _ in parts)
        if isinstance(node.func, ast.Attribute):
            return self._of_module(node.func, given, kind)
        assert isinstance(node.func, ast.Name)
        called = node.func.id
        if kind and called in _OWN:
            return f"lanes_.{called}({given})", kind
        if callable(self.globals.get(called)):
            return self._of_kernel(self.globals[called], parts)  # type: ignore[arg-type]
        if not kind:
            return f"{called}({given})", SHARED
        if called == "int":
            return self.one_for_all("same_whole", node.args[0], given), SHARED
        if called in ("min", "max"):
            return self._joined(_BUILTINS[called], parts)
        if called not in _BUILTINS:
            raise self.unknown(node)
        return f"lanes_.{_BUILTINS[called]}({given})", kind

    def _of_module(self, function: ast.Attribute, given: str, kind: int) -> Part:
        if not kind:
            return f"{ast.unparse(function)}({given})", SHARED
        if function.attr in _OF_NUMPY:
            return f"lanes_.{_OF_NUMPY[function.attr]}({given})", kind
        if function.attr in _OF_MATH:
            return f"lanes_.{_OF_MATH[function.attr]}({given})", kind
        if function.attr not in _ONE_BY_ONE:
            raise self.unknown(function)
        return f"lanes_.each_{function.attr}({given})", kind

    def _of_kernel(self, plain: Source, parts: Sequence[Part]) -> Part:
        given, kinds = [text for text, _ in parts], [kind for _, kind in parts]
        if not any(kinds):
            return f"{self.whole.shared(plain)}({', '.join(given)})", SHARED
        name = self.whole.function(plain, kinds, given)
        results = self.whole.results[name]
        self.called = results
        self.asked.update(self.whole.asked[name])
        kind = max(results, default=SHARED)
        return f"{name}({', '.join([self.mask, 'apart', *given])})", kind
