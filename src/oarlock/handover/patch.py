"""Change values in an existing header or key = value file, and nothing else in it.

Works on bytes read as Latin-1, so that whatever encoding the file has comes back unharmed.
Values stand as `#define NAME value` or `NAME = value`.
"""

import difflib
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import parse_toml, read_bytes, read_text, write_atomic
from oarlock.handover.values import HandoverValue, float32_literal
from oarlock.machine.current_loop import CURRENT
from oarlock.machine.loops import LOOPS

_LITERAL = re.compile(
    r"^(?P<open>\(?\s*)(?P<number>[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)(?P<suffix>[fFlL]?)"
    r"(?P<close>\s*\)?)$"
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One value that changes, or stays as it is."""

    symbol: str
    key: str
    line: int  # from 1
    before: str  # as it stands
    after: str  # as it will stand
    was: float
    will_be: float
    unit: str

    @property
    def differs(self) -> bool:
        """Whether the text changes at all."""
        return self.before != self.after


@dataclass(frozen=True, slots=True, kw_only=True)
class Patch:
    """A file as it is and as it will be."""

    path: Path
    before: bytes
    after: bytes
    changes: tuple[Change, ...]

    def diff(self) -> str:
        """Return the change as a unified diff."""
        old, new = (
            b.decode("latin-1").splitlines(keepends=True) for b in (self.before, self.after)
        )
        return "".join(difflib.unified_diff(old, new, str(self.path), str(self.path), n=1))

    def write(self) -> Path | None:
        """Write it, whole or not at all; return where the old file was kept.

        Raises
        ------
        InputError : the file changed on disk since it was read, or cannot be written

        """
        if read_bytes(self.path) != self.before:
            remedy = "Look at the difference again"
            raise InputError("changed since it was read", place=str(self.path), remedy=remedy)
        return write_atomic(self.path, self.after)


def read_map(path: Path) -> dict[str, str]:
    """Read which symbol takes which value: TOML lines such as CUR_KP_Q = "current.Kp_q"."""
    table = parse_toml(read_text(path), place=str(path))
    for symbol, key in table.items():
        if not isinstance(key, str):
            remedy = f'Write {symbol} = "current.Kp_q"'
            raise InputError(f"{symbol} is not a text", place=str(path), remedy=remedy)
    return table


def patch_file(path: Path, mapping: Mapping[str, str], values: tuple[HandoverValue, ...]) -> Patch:
    """Return what handing `values` over to `path` would change.

    Parameters
    ----------
    path : a C header or a key = value file
    mapping : symbol in the file to key of a value
    values : what there is to hand over

    Raises
    ------
    InputError : a symbol that is missing, stands twice, or whose value is no plain number

    """
    by_key = {value.key: value for value in values}
    before = read_bytes(path)
    if b"\0" in before:
        raise InputError("this is not a text file", place=str(path), remedy="Choose a header")
    text = before.decode("latin-1")
    code = code_only(text)
    edits: list[tuple[int, int, str]] = []
    changes: list[Change] = []
    for symbol, key in mapping.items():
        if key not in by_key:
            remedy = f"Known: {', '.join(by_key)}"
            raise InputError(f"no value {key}", place=f"map of {path}", remedy=remedy)
        start, end = _find(symbol, code, text, path)
        change, literal = _change(symbol, by_key[key], text, code, (start, end), path)
        changes.append(change)
        edits.append((start, end, literal))
    after = text
    for start, end, literal in sorted(edits, reverse=True):
        after = after[:start] + literal + after[end:]
    changes.sort(key=lambda change: change.line)
    return Patch(path=path, before=before, after=after.encode("latin-1"), changes=tuple(changes))


# Of a loop, what firmware may hold elsewhere; and what is as if it were not there.
_ELSEWHERE = ("T", "Ts", "i_max", "v_max")
_NEUTRAL = {"current.weight": 1.0, "current.newest": 1.0, "speed.Ki": 0.0, "speed.weight": 1.0,
            "speed.acceleration": 0.0, "position.speed_share": 1.0,
            "ramp.jerk_time": 0.0}  # fmt: skip


def without_place(
    values: tuple[HandoverValue, ...], mapping: Mapping[str, str]
) -> tuple[HandoverValue, ...]:
    """Return gains, options and filters that a file has no place for, of loops that it holds.

    Firmware with such a file does not do what was tuned. A ramp belongs to the outer loops.

    Parameters
    ----------
    mapping : symbol in the file to key of a value

    """
    held = set(mapping.values())
    loops = {key.split(".")[0] for key in held} & {spec.key for spec in LOOPS}
    loops |= {"ramp"} if loops - {CURRENT.key} else set()
    return tuple(
        value for value in values
        if value.key not in held and value.key.split(".")[0] in loops
        and value.key.split(".")[1] not in _ELSEWHERE
        and value.value != _NEUTRAL.get(value.key)
    )  # fmt: skip


def told_without_place(lacking: tuple[HandoverValue, ...]) -> str:
    """Return their symbols in a few words."""
    first = ", ".join(value.symbol for value in lacking[:2])
    more = f" and {len(lacking) - 2} more" if len(lacking) > 2 else ""
    return f"{first}{more}"


def _find(symbol: str, code: str, text: str, path: Path) -> tuple[int, int]:
    """Return where the value of `symbol` stands."""
    name = re.escape(symbol)
    pattern = re.compile(
        rf"^[ \t]*#[ \t]*define[ \t]+{name}[ \t]+(?P<define>[^\r\n]*?)[ \t]*\r?$"
        rf"|(?<![\w.]){name}[ \t]*=(?!=)[ \t]*(?P<assign>[^;,\r\n]*?)[ \t]*(?=[;,\r\n]|\Z)",
        re.MULTILINE,
    )
    found = list(pattern.finditer(code))
    if not found:
        remedy = "Add it to the file, or take it out of the map"
        raise InputError(f"no value of {symbol}", place=str(path), remedy=remedy)
    if len(found) > 1:
        lines = ", ".join(str(_line(text, match.start())) for match in found)
        remedy = "Keep one, or map another name"
        cause = f"{symbol} stands {len(found)} times, lines {lines}"
        raise InputError(cause, place=str(path), remedy=remedy)
    group = "define" if found[0]["define"] is not None else "assign"
    return found[0].span(group)


def _change(
    symbol: str, value: HandoverValue, text: str, code: str, span: tuple[int, int], path: Path
) -> tuple[Change, str]:
    start, end = span
    old = text[start:end]
    match = _LITERAL.match(old)
    line = _line(text, start)
    if not match:
        shown = old.strip() or "nothing"
        raise InputError(
            f"{symbol} is {shown!r}, not a plain number",
            place=f"{path}, line {line}",
            remedy="Put a number there first",
        )
    suffix = match["suffix"]
    whole = re.fullmatch(r"[-+]?\d+", match["number"]) and suffix not in tuple("fF")
    before = _declaration(code, start)
    if (whole and not _FLOATING.search(before)) or _INTEGER.search(before):
        raise InputError(
            f"{symbol} is the integer {match['number']}: fixed point?",
            place=f"{path}, line {line}",
            remedy="Write it as a float, such as 1.0f",
        )
    literal = float32_literal(value.value, suffix)
    after = f"{match['open']}{literal}{match['close']}"
    change = Change(
        symbol=symbol,
        key=value.key,
        line=line,
        before=old,
        after=after,
        was=float(match["number"]),
        will_be=value.value,
        unit=value.unit,
    )
    return change, after


# Types in a declaration: a float may be written as 3, an integer may not become 0.75.
_FLOATING = re.compile(r"\b(?:float|double|float32_t|float64_t|f32|f64|real_t|real32_T)\b")
_INTEGER = re.compile(
    r"\b(?:u?int(?:_fast|_least)?(?:8|16|32|64)_t|int|short|long(?!\s+double)|char|unsigned|signed"
    r"|[us](?:8|16|32|64)|q\d+_t|_?iq\d*|Uint(?:16|32)|[su]int(?:8|16|32)|size_t|bool)\b"
)


def _declaration(code: str, start: int) -> str:
    """Return what stands before a value: its line, and the lines that only begin it."""
    begin = code.rfind("\n", 0, start) + 1
    while begin:
        above = code.rfind("\n", 0, begin - 1) + 1
        line = code[above : begin - 1].strip()
        if not line or re.search(r"[=;{}#,]", line):
            break
        begin = above
    return code[begin:start].rpartition(";")[2]


def _line(text: str, position: int) -> int:
    return text.count("\n", 0, position) + 1


_TOKENS = re.compile(
    r"/\*.*?(?:\*/|\Z)"  # a comment
    r"|//(?:\\\r?\n|[^\n])*"  # one to the end of the line, which a backslash moves on
    r"|\b(?:u8|[uUL])?R\"(?P<mark>[^()\\\s]{0,16})\(.*?\)(?P=mark)\""  # a raw string
    r"|\"(?:\\.|[^\"\\\n])*\"|'(?:\\.|[^'\\\n])*'",
    re.DOTALL,
)
_NEVER = re.compile(r"\(*\s*(?:0+[uUlL]*|false)\s*\)*\s*")
_ALWAYS = re.compile(r"\(*\s*(?:0*[1-9]\d*[uUlL]*|true)\s*\)*\s*")


def code_only(text: str) -> str:
    """Return `text` with comments, strings and branches that are never compiled blanked.

    Positions are kept. A branch is dead after `#if 0`, and after the `#else` of `#if 1`, in any
    spelling; what depends on a name may be compiled.
    """

    def blank(match: re.Match[str]) -> str:
        return re.sub(r"[^\r\n]", " ", match[0])

    lines = _TOKENS.sub(blank, text).splitlines(keepends=True)
    open_: list[_Branch] = []
    for i, line in enumerate(lines):
        directive = re.match(r"\s*#\s*(if|ifdef|ifndef|endif|else|elif)\b\s*(.*)", line)
        word = directive[1] if directive else ""
        if word in ("if", "ifdef", "ifndef"):
            said = directive[2].strip() if directive and word == "if" else "?"
            open_.append(_Branch(dead=bool(_NEVER.fullmatch(said)),
                                 taken=bool(_ALWAYS.fullmatch(said))))  # fmt: skip
        elif word in ("else", "elif") and open_:
            said = directive[2].strip() if directive and word == "elif" else ""
            last = open_[-1]
            open_[-1] = _Branch(dead=last.taken or bool(_NEVER.fullmatch(said) and said),
                                taken=last.taken or bool(_ALWAYS.fullmatch(said)))  # fmt: skip
        elif word == "endif" and open_:
            open_.pop()
        elif any(branch.dead for branch in open_):
            lines[i] = re.sub(r"[^\r\n]", " ", line)
    return "".join(lines)


@dataclass(frozen=True, slots=True)
class _Branch:
    """One `#if` that is open."""

    dead: bool  # what stands here is never compiled
    taken: bool  # a branch before, or this one, always is
