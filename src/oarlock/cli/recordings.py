"""What the command line says of recordings: columns, settings, accuracy."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from oarlock.errors import InputError


@dataclass(frozen=True, slots=True)
class Asked:
    """What the command line says of its recordings."""

    quantity: str | None
    columns: Sequence[str]
    settings: Sequence[str]
    counts: float
    phase: bool
    sample_time: float
    accuracy: str = ""

    def record(self, path: Path) -> Any:
        """Read one recording: by its own head, or by what is asked here."""
        from oarlock.records.csv_file import read_record
        from oarlock.records.imports.columns import form_of, wanted
        from oarlock.records.imports.recording import guess, preview, recording

        seen = preview(path)
        if seen.experiment and not self.quantity:
            return read_record(path)
        if not self.quantity:
            remedy = "Name it with --as resistance, inductance_d, flux, inertia, …"
            raise InputError("its head names no experiment", place=str(path), remedy=remedy)
        given = dict(self._setting(text) for text in self.settings)
        if self.accuracy:
            given["accuracy"] = self._share(self.accuracy)
        mapping = guess(seen, self.quantity, wanted(self.quantity))
        sources = {**mapping.sources, **dict(self._source(text) for text in self.columns)}
        if self.phase and "vab" in sources:
            scale = 3.0**0.5 if self.quantity == "flux" else 2.0
            sources["vab"] = replace(sources["vab"], scale=scale * sources["vab"].scale)
        form_of(self.quantity, set(sources) | ({"t"} if self.sample_time else set()))
        mapping = replace(mapping, sources=sources, settings=given, counts=self.counts)
        return recording(seen, replace(mapping, sample_time=self.sample_time))

    @staticmethod
    def _source(text: str) -> tuple[str, Any]:
        import re

        from oarlock.records.imports.recording import CHANNELS, Source

        pattern = r"(\w+)=([^\[\]]*?)(?:\[([^\]]*)\])?(?:\*([-+]?[0-9.]+(?:[eE][-+]?[0-9]+)?))?"
        found = re.fullmatch(pattern, text)
        if not found or found[1] not in CHANNELS:
            remedy = f"Write CHANNEL=COLUMN[UNIT]*FACTOR; channels: {', '.join(CHANNELS)}"
            raise InputError(f"'{text}' names no channel", place="--column", remedy=remedy)
        try:
            scale = float(found[4] or 1.0)
        except ValueError:
            scale = 0.0
        if not 0.0 < abs(scale) < math.inf:
            raise InputError(f"'{text}' has no factor to multiply by", place="--column",
                             remedy="Write it as in vab=CH1*10")  # fmt: skip
        return found[1], Source(found[2].strip(), found[3] or "", scale)

    @staticmethod
    def _share(text: str) -> float:
        """Return a ratio of a text such as `1%` or `0.01`."""
        plain = text.strip()
        try:
            value = float(plain.removesuffix("%")) / (100.0 if plain.endswith("%") else 1.0)
        except ValueError as error:
            raise InputError(f"'{text}' is no accuracy", place="--accuracy",
                             remedy="Write --accuracy 1%") from error  # fmt: skip
        if not 0.0 <= value < 0.2:
            raise InputError(f"'{text}' is no accuracy of an instrument", place="--accuracy",
                             remedy="Write --accuracy 1%")  # fmt: skip
        return value

    @staticmethod
    def _setting(text: str) -> tuple[str, Any]:
        key, equals, value = text.partition("=")
        try:
            numbers = [float(part) for part in value.split(",")]
        except ValueError as error:
            raise InputError(f"'{text}' gives no number", place="--set",
                             remedy="Write --set frequency=1000") from error  # fmt: skip
        if not equals:
            raise InputError(f"'{text}' gives no value", place="--set", remedy="Write KEY=VALUE")
        return key, numbers if key == "frequencies" or len(numbers) > 1 else numbers[0]
