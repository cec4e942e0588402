"""The Handover stage: whether the firmware will run exactly these gains."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QLabel, QScrollArea, QWidget

from oarlock.errors import InputError
from oarlock.experiments.loops.cascade import differing
from oarlock.files import write_atomic
from oarlock.handover.header import header
from oarlock.quantities.display import digits
from oarlock.session.jobs import Done, Failed, Stopped
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button, link_button
from oarlock.ui.kit.pickers import ask_file
from oarlock.ui.stages.base import Around, ReadOut, StageView
from oarlock.ui.stages.handover.widgets import FileView, ProofView, SymbolRow
from oarlock.views.handover import (
    MAPPED,
    HandoverPicture,
    Proven,
    digest,
    error_sequences,
    handover_picture,
    make_proof,
    mapping_of,
    steps_for_proof,
)


class HandoverStage(StageView):
    """File, gains, proof, and what is left to do."""

    key = "handover"
    f5 = "Prove the file"
    question = "Will the firmware run exactly these gains?"
    lane = "loops"

    def __init__(self, around: Around) -> None:
        super().__init__(around)
        self._jobs = around.jobs
        self._proven: Proven | None = None
        self.proving = False
        self.shown: HandoverPicture | None = None
        self.file, self.proof = FileView(self), ProofView(self)
        self._scrolled = _scrolling(self.file, self)
        self.choose = button("Choose a header…")
        self.fresh = button("New header…")
        self.prove = button("Prove  F5", primary=True)
        self.write = button("Write", primary=True)
        self.note = QLabel(self)
        self.note.setWordWrap(True)
        self.note.setFont(look.font(look.SMALL))
        self.note.setStyleSheet(f"color: {look.theme().muted.name()}")
        for made in (self.choose, self.fresh, self.prove, self.write):
            made.setParent(self)
        self.choose.clicked.connect(self._choose)
        self.fresh.clicked.connect(self._new)
        self.prove.clicked.connect(self.run)
        self.write.clicked.connect(self.write_file)
        self._make_numbers()

    def _make_numbers(self) -> None:
        drive = self.numbers.block("The drive", "its own memory")
        self.memory = drive.row("Gains, filters", "What the drive starts with when it is powered")
        self.save_in_drive = link_button("save them in the drive")
        self.save_in_drive.clicked.connect(self.bench.memory.save)
        drive.add(self.save_in_drive)
        block = self.numbers.block("Symbols", "edit to map")
        self.symbols: dict[str, SymbolRow] = {}
        for key, label in MAPPED.items():
            row = SymbolRow(label)
            row.entry.editingFinished.connect(self._mapped)
            block.add(row)
            self.symbols[key] = row
        left = self.numbers.block("Not mapped", "kept as it is")
        self._unmapped = [left.row("") for _ in range(3)]
        when = self.numbers.block("When written")
        self._lines = when.row("Lines")
        self._old = when.row("Old copy", "Kept beside the file under a number of its own")
        self._rest = when.row("All else")
        self._so_far = when.row("Written")
        self.numbers.finish()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        w, h = self.width(), self.height()
        proof_top = h - 146
        self._scrolled.setGeometry(look.MARGIN, 90, w - 2 * look.MARGIN, proof_top - 94)
        side = w - 236
        self.proof.setGeometry(look.MARGIN, proof_top, side - 24, 140)
        self.prove.setGeometry(side + 8, proof_top + 12, 212, 30)
        self.write.setGeometry(side + 8, proof_top + 48, 212, 30)
        self.note.setGeometry(side + 8, proof_top + 82, 212, 54)
        self.choose.setGeometry(w - 290, 14, 140, 28)
        self.fresh.setGeometry(w - 142, 14, 126, 28)

    # What it shows

    def refresh(self) -> None:
        shown = handover_picture(self.session.now, self._proven)
        self.shown = shown
        self.say(shown.answer, shown.reason)
        self.file.show_file(shown)
        waiting = "proving…" if self.proving else shown.may_prove or self._not_proven(shown)
        self.proof.show_proof(shown.proof, waiting)
        self.prove.setEnabled(not shown.may_prove and not self.proving)
        self.write.setEnabled(not shown.may_write)
        self.write.setText(f"Write {shown.path.name}" if shown.path else "Write")
        self.note.setText(
            shown.may_prove or shown.may_write or "Writes the file alone; the shaft stays still."
        )
        by_key = {key: symbol for symbol, key in mapping_of(self.session.now).items()}
        for key, row in self.symbols.items():
            row.entry.show_text(by_key.get(key, ""))
            row.setVisible(key in shown.labels)
        for i, free in enumerate(self._unmapped):
            name = shown.unmapped[i] if i < len(shown.unmapped) else ""
            free.show_value("", "", "kept" if name else "", name=name or " ")
        changed = sum(c.differs for c in shown.patch.changes) if shown.patch else 0
        self._lines.show_value(f"{changed}", "change")
        self._old.show_value("", "", "kept beside, numbered")
        self._rest.show_value("", "", "byte for byte")
        written = self.session.screen.handover_written
        said = written.time if written else "nothing yet"
        self._so_far.show_value("", "", said)
        self._show_memory()

    def _show_memory(self) -> None:
        """Show whether the drive's memory holds what is in use."""
        axis, holds = self.session.axis, self.bench.memory.holds
        found = differing(axis, holds)
        if found:
            self.memory.show_value(str(len(found)), "differ", color="attention")
        else:
            self.memory.show_value("", "", "not known" if found is None else "as in use")
        self.save_in_drive.setVisible(self.bench.connected and bool(found))

    def _not_proven(self, shown: HandoverPicture) -> str:
        """Return why no proof is shown. A file is compiled and run when asked, never by itself."""
        kept = self.session.screen.proven
        if kept and shown.patch is not None and kept == digest(shown.patch.after, shown.values):
            return "It was proven before this project was closed: prove it again"
        return "not proven yet"

    def read_out(self) -> ReadOut:
        lost = max((h.lost for h in self.shown.handed), default=0.0) if self.shown else 0.0
        return ReadOut(
            "most that rounding moves a gain",
            digits(1e9 * lost, 2) if lost else "0",
            "ppb",
            ("of its value, as float32", "more than 1 % is refused"),
        )

    # What it does

    def _choose(self) -> None:
        kinds = "Headers (*.h *.hpp *.c *.conf *.txt);;All (*)"
        ask_file(self, "Choose the firmware's header", "", kinds, self.open_file)

    def open_file(self, path: Path) -> None:
        """Show what handing over to `path` would change."""
        self.session.show(header=str(path))
        self.refresh()

    def _new(self) -> None:
        ask_file(self, "Write a new header", "gains.h", "Headers (*.h)", self.new_file, new=True)

    def new_file(self, path: Path) -> None:
        """Write a new header and show it."""
        try:
            write_atomic(path, header(self.session.axis).encode())
        except InputError as error:
            self.note.setText(str(error))
            return
        self.session.show(map={})  # by the names that it has
        self.open_file(path)

    def _mapped(self) -> None:
        before = mapping_of(self.session.now)
        mapping = {
            row.entry.text().strip(): key
            for key, row in self.symbols.items()
            if row.entry.text().strip()
        }
        # What sensing found goes to the symbols that the header names.
        mapping |= {symbol: key for symbol, key in before.items() if key not in self.symbols}
        if mapping != before:
            self.session.show(map=mapping)
            for row in self.symbols.values():
                row.entry.setModified(False)
            self.refresh()

    def run(self) -> None:
        """Prove the file as it will be."""
        shown = self.shown
        if shown is None or shown.patch is None or shown.may_prove or self.proving:
            return
        text, mapping = shown.patch.after, mapping_of(self.session.now)
        values = shown.values
        sources = self.session.record_sources(steps_for_proof(self.session.now))
        beside = shown.patch.path.parent
        self.proving = True
        self._jobs.start(
            lambda _progress, _cancel: make_proof(
                text, mapping, values, error_sequences(sources), beside
            ),
            on_end=self._ended,
            name="proof",
        )
        self.refresh()

    def _ended(self, outcome: Done[Proven] | Stopped | Failed) -> None:
        self.proving = False
        if isinstance(outcome, Done):
            self._proven = outcome.value
            if outcome.value.proof.exact:
                self.session.proven(digest(outcome.value.text, outcome.value.values))
        self.refresh()
        if isinstance(outcome, Failed):
            if not isinstance(outcome.error, InputError):
                raise outcome.error
            self.proof.show_proof(None, str(outcome.error))

    def write_file(self) -> None:
        """Write the proven file, whole, with the old one kept."""
        shown = self.shown
        if shown is None or shown.patch is None or shown.may_write:
            return
        try:
            kept = shown.patch.write()
        except InputError as error:
            self.refresh()
            self.note.setText(str(error))
            return
        values = {v.key: v.value for v in shown.values}
        self.session.written(shown.patch.path.name, values)
        self.refresh()
        self.note.setText(f"Written. The old file is {kept.name if kept else 'not kept'}.")


def _scrolling(widget: QWidget, parent: QWidget) -> QScrollArea:
    """Return a widget in a frame that scrolls where it is too high."""
    area = QScrollArea(parent)
    area.setWidget(widget)
    area.setWidgetResizable(True)
    area.setFrameShape(QScrollArea.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.viewport().setAutoFillBackground(False)
    widget.setAutoFillBackground(False)
    return area


STAGE = HandoverStage
