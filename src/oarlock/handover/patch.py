"""Change values in an existing header or key = value file, and nothing else in it.

Works on bytes read as Latin-1, so that whatever encoding the file has comes back unharmed.
Values stand as `#define NAME value` or `NAME = value`.
"""

import difflib
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import read_bytes, read_text, write_atomic
from oarlock.handover.values import HandoverValue, float32_literal

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
    try:
        table = tomllib.loads(read_text(path))
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"not TOML: {error}", place=str(path), remedy="Mend that line") from error
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
    code = _code_only(text)
    edits: list[tuple[int, int, str]] = []
    changes: list[Change] = []
    for symbol, key in mapping.items():
        if key not in by_key:
            remedy = f"Known: {', '.join(by_key)}"
            raise InputError(f"no value {key}", place=f"map of {path}", remedy=remedy)
        start, end = _find(symbol, code, text, path)
        change, literal = _change(symbol, by_key[key], text, start, end, path)
        changes.append(change)
        edits.append((start, end, literal))
    after = text
    for start, end, literal in sorted(edits, reverse=True):
        after = after[:start] + literal + after[end:]
    changes.sort(key=lambda change: change.line)
    return Patch(path=path, before=before, after=after.encode("latin-1"), changes=tuple(changes))


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
    symbol: str, value: HandoverValue, text: str, start: int, end: int, path: Path
) -> tuple[Change, str]:
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
    plain_integer = re.fullmatch(r"[-+]?\d+", match["number"]) and not suffix
    if plain_integer and text[text.rfind("\n", 0, start) + 1 :].lstrip().startswith("#"):
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


def _line(text: str, position: int) -> int:
    return text.count("\n", 0, position) + 1


_TOKENS = re.compile(
    r"/\*.*?(?:\*/|\Z)|//[^\n]*|\"(?:\\.|[^\"\\\n])*\"|'(?:\\.|[^'\\\n])*'", re.DOTALL
)


def _code_only(text: str) -> str:
    """Return `text` with comments, strings and `#if 0` blocks blanked, positions kept."""

    def blank(match: re.Match[str]) -> str:
        return re.sub(r"[^\r\n]", " ", match[0])

    code = _TOKENS.sub(blank, text)
    lines, depth = code.splitlines(keepends=True), 0
    for i, line in enumerate(lines):
        directive = re.match(r"\s*#\s*(if|ifdef|ifndef|endif|else|elif)\b\s*(.*)", line)
        word = directive[1] if directive else ""
        if depth:
            if word in ("if", "ifdef", "ifndef"):
                depth += 1
            elif word == "endif" or (word in ("else", "elif") and depth == 1):
                depth -= 1
            lines[i] = re.sub(r"[^\r\n]", " ", line)
        elif word == "if" and directive and directive[2].strip() == "0":
            depth = 1
    return "".join(lines)
