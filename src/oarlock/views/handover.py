"""What the Handover stage shows: the file as it is and will be, and the proof."""

import hashlib
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from oarlock.control.single import Single
from oarlock.errors import InputError
from oarlock.files import read_text
from oarlock.handover.header import DEFAULT_MAP, default_map
from oarlock.handover.patch import (
    Change,
    Patch,
    code_only,
    patch_file,
    told_without_place,
    without_place,
)
from oarlock.handover.proof import OUTER, Proof, error_sequence, prove
from oarlock.handover.values import HandoverValue, handover_values, rounding, values_for
from oarlock.machine.current_loop import CURRENT
from oarlock.machine.loops import LOOPS
from oarlock.machine.speed_loop import OPTIONS, SPEED
from oarlock.records import Record
from oarlock.views.snapshot import Snapshot

WALL = 0.01  # a rounding beyond this is refused
_EXCERPT = 15  # lines


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One line of the file in the excerpt."""

    number: int
    text: str
    change: Change | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Handed:
    """One gain on the right-hand side."""

    key: str
    label: str
    was: float
    will_be: float
    unit: str
    lost: float  # by rounding to float32, ratio


@dataclass(frozen=True, slots=True, kw_only=True)
class HandoverPicture:
    """A file, what would change in it, and whether that is proven."""

    path: Path | None
    values: tuple[HandoverValue, ...]  # handed over to this file
    patch: Patch | None
    trouble: str
    lines: tuple[Line, ...]
    handed: tuple[Handed, ...]
    labels: Mapping[str, str]  # what may be mapped, by key: of the loops that have gains
    unmapped: tuple[str, ...]
    answer: str
    reason: str
    proof: Proof | None  # of exactly these bytes and gains
    may_prove: str  # empty: yes; else why not
    may_write: str


LABELS = {
    **{
        f"{spec.key}.{name}": label
        for spec in LOOPS
        for name, label in spec.labels.items()
        if spec is not SPEED or name not in OPTIONS
    },
    "current.Ts": "sample time",
    "current.v_max": "voltage limit",
    "speed.T": "speed sample",
    "speed.i_max": "current limit",
}
# Options of the speed controller as they are handed over, where they are in use.
_OPTION_LABELS = {
    "speed.share": "reference share",
    "speed.friction": "friction ahead",
    "speed.observer_step": "observer step",
    "speed.observer_speed": "its speed share",
    "speed.observer_load": "its load gain",
}


_RAMP_LABELS = {
    "ramp.speed": "speed of a move",
    "ramp.acceleration": "acceleration",
    "ramp.jerk_time": "jerk time",
}
MAPPED = LABELS | _OPTION_LABELS | _RAMP_LABELS  # what a symbol can be typed for
_SHORT = {"angle.sine_offset": "sine off.", "angle.cosine_offset": "cosine off."}


def _words(key: str) -> str:
    return key.split(".")[1].replace("_", " ")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Proven:
    """A proof with what it was made of."""

    text: bytes
    values: tuple[HandoverValue, ...]
    proof: Proof


def mapping_of(now: Snapshot) -> dict[str, str]:
    """Return symbol to key, as kept in the project, or as the header names them."""
    try:
        return _handing(now)[1]
    except InputError:
        return dict(now.screen.map) or dict(DEFAULT_MAP)  # told where the file is to be changed


def _handing(now: Snapshot) -> tuple[tuple[HandoverValue, ...], dict[str, str]]:
    """Return what is handed over to the header that is chosen, and its symbols to keys.

    Raises
    ------
    InputError : no gains are in use yet, or the file cannot be read

    """
    path, kept = now.screen.header, dict(now.screen.map)
    text = code_only(read_text(Path(path))) if path else ""
    values = values_for(now.axis, text, kept)
    keys = {value.key for value in values}
    mapping = kept or default_map(text, values)
    # A ramp that the axis no longer has is nobody's: its symbols stay as they are.
    return values, {s: k for s, k in mapping.items() if k in keys or k not in _RAMP_LABELS}


def handover_picture(now: Snapshot, proven: Proven | None) -> HandoverPicture:
    """Return the state of the handover."""
    path = Path(now.screen.header) if now.screen.header else None
    trouble, patch = "", None
    values: tuple[HandoverValue, ...] = ()
    mapping: dict[str, str] = {}
    try:
        values, mapping = _handing(now)
        if path is not None:
            patch = patch_file(path, mapping, values)
    except InputError as error:
        trouble = str(error)
    proof = None
    if patch and proven and proven.text == patch.after and proven.values == values:
        proof = proven.proof
    handed = tuple(_handed(change) for change in patch.changes) if patch else ()
    answer, reason = _answer(path, patch, trouble, proof, handed)
    lacking = without_place(values, mapping) if patch else ()
    if lacking:
        have = "1 number has" if len(lacking) == 1 else f"{len(lacking)} numbers have"
        answer = f"Not all of it: {have} no place"
        reason = f"{path.name if path else ''} lacks {told_without_place(lacking)}. {reason}"
    return HandoverPicture(
        path=path,
        values=values,
        patch=patch,
        trouble=trouble,
        lines=_excerpt(patch) if patch else (),
        handed=handed,
        labels=_labels(now),
        unmapped=_unmapped(patch, now) if patch else (),
        answer=answer,
        reason=reason,
        proof=proof,
        may_prove=_why_not_prove(now, patch),
        may_write=_why_not_write(patch, proof, handed),
    )


def _labels(now: Snapshot) -> dict[str, str]:
    """Return what may be mapped; of a loop without gains there is nothing to hand over."""
    without = {spec.key for spec in LOOPS if spec is not CURRENT
               and now.axis.loops[spec.key].gains is None}  # fmt: skip
    handed = {value.key for value in handover_values(now.axis)} if now.axis.gains else set()
    options = {key: text for key, text in (_OPTION_LABELS | _RAMP_LABELS).items() if key in handed}
    return {key: text for key, text in (LABELS | options).items()
            if key.split(".")[0] not in without}  # fmt: skip


def _handed(change: Change) -> Handed:
    return Handed(
        key=change.key,
        label=MAPPED.get(change.key) or _SHORT.get(change.key) or _words(change.key),
        was=change.was,
        will_be=change.will_be,
        unit=change.unit,
        lost=rounding(change.will_be),
    )


def _answer(
    path: Path | None,
    patch: Patch | None,
    trouble: str,
    proof: Proof | None,
    handed: tuple[Handed, ...],
) -> tuple[str, str]:
    if trouble:
        return "Not yet", trouble
    if path is None or patch is None:
        return "No header chosen yet", "Choose the firmware's header, or write a new one."
    changed = sum(change.differs for change in patch.changes)
    worst = max((h.lost for h in handed), default=0.0)
    exponent = math.floor(math.log10(worst)) if worst > 0 else -9
    cost = (
        f"rounding costs {worst * 1e9:.2g} ppb at most"
        if exponent <= -7
        else f"rounding costs {100 * worst:.2g} %"
    )
    lines = {0: "No line changes", 1: "1 line changes"}.get(changed, f"{changed} lines change")
    if proof is None:
        head = "Not yet: not proven" if changed else "The file holds these gains, unproven"
        return head, f"{lines} in {path.name}; {cost}."
    if proof.missing:
        return "Not proven: no compiler here", f"{lines} in {path.name}; {proof.sentence}."
    if not proof.exact:
        return "No: the compiled controller differs", proof.sentence
    if changed:
        return "Yes, once it is written", f"{lines} in {path.name}; {proof.sentence}."
    return "Yes: the file holds exactly these gains", f"Proof: {proof.sentence}."


def _excerpt(patch: Patch) -> tuple[Line, ...]:
    texts = patch.before.decode("latin-1").splitlines()
    by_line = {change.line: change for change in patch.changes}
    first = max(min(by_line) - 2, 1)
    numbers = range(first, min(first + _EXCERPT, len(texts)) + 1)
    missing = [n for n in by_line if n not in numbers]
    chosen = sorted({*numbers, *missing})[: _EXCERPT + 1 + len(missing)]
    return tuple(Line(number=n, text=texts[n - 1], change=by_line.get(n)) for n in chosen)


def _unmapped(patch: Patch, now: Snapshot) -> tuple[str, ...]:
    """Return the file's numbers that are nobody's; what waits for a loop without gains is not."""
    import re

    ours = {change.symbol for change in patch.changes}
    text = patch.before.decode("latin-1")
    found = re.findall(r"^[ \t]*#[ \t]*define[ \t]+(\w+)[ \t]+[-+.\d]", text, re.MULTILINE)
    waiting = tuple(f"{spec.prefix}_" for spec in LOOPS if now.axis.loops[spec.key].gains is None)
    left = (name for name in found if name not in ours and not name.startswith(waiting))
    return tuple(dict.fromkeys(left))


Source = Callable[[], Record | None]


def steps_for_proof(now: Snapshot) -> dict[str, int]:
    """Return the verified steps that a proof runs over: the run's number, by axis."""
    found = {name: now.verification(name) for name in ("d", "q")}
    steps = {name: step[0].id for name, step in found.items() if step}
    tests = {"speed": now.tested("speed step") or now.tested("load step"),
             "position": now.tested("position move")}  # fmt: skip
    return steps | {name: test[0].id for name, test in tests.items() if test}


def error_sequences(sources: Mapping[str, Source]) -> dict[str, Single]:
    """Return the recorded error sequences of these steps, by axis; for a job."""
    records = {name: fetch() for name, fetch in sources.items()}
    found = {name: error_sequence(r, name) for name, r in records.items()
             if r is not None and name not in OUTER}  # fmt: skip
    return found | {name: OUTER[name].sequence(r) for name, r in records.items() if name in OUTER}


def _why_not_prove(now: Snapshot, patch: Patch | None) -> str:
    if patch is None:
        return "There is nothing to prove yet"
    if not any(now.verification(name) for name in ("d", "q")):
        return "The proof runs over a recorded step with these gains: run one in Current loop"
    return ""


def _why_not_write(patch: Patch | None, proof: Proof | None, handed: tuple[Handed, ...]) -> str:
    if patch is None:
        return "There is nothing to write yet"
    if not any(change.differs for change in patch.changes):
        return "The file holds these values already"
    if any(h.lost > WALL for h in handed):
        return "A value loses more than 1 % by rounding"
    if proof is None:
        return "Held back until it is proven"
    if not proof.missing and not proof.exact:
        return "Held back: the proof failed"
    return ""


def digest(text: bytes, values: tuple[HandoverValue, ...]) -> str:
    """Return what tells whether a proof is of these bytes and values."""
    told = text + repr([(value.key, value.value) for value in values]).encode()
    return hashlib.sha256(told).hexdigest()


def make_proof(
    text: bytes,
    mapping: Mapping[str, str],
    values: tuple[HandoverValue, ...],
    errors: Mapping[str, Single],
    beside: Path | None = None,
) -> Proven:
    """Prove a header; pure work for a job. `beside`: where what it includes lies."""
    keys = {value.key for value in values}
    missing = [n for n in OUTER if n not in errors and set(OUTER[n].MACROS.values()) <= keys]
    errors = {**errors, **{name: OUTER[name].sequence(None) for name in missing}}
    proof = prove(text, mapping, values, errors, beside=beside)
    return Proven(text=text, values=values, proof=proof)
