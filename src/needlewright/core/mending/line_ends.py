"""Bytes that a transfer in text mode changed: every LF became CR LF. Taken back, where the file is
then what it was; where the single ones were lost instead, nothing tells which they were.
"""

from __future__ import annotations

from collections.abc import Iterable

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format
from needlewright.core.mending.base import Change, Mended, Patient, Unmendable, bytes_written
from needlewright.core.search.carving import follow
from needlewright.core.sources.memory import MemorySource

MAX_BYTES = 1 << 28
LEAST = 16  # pairs of CR LF that must be there


def restored(patient: Patient, forms: Iterable[Format]) -> Mended:
    """The file with its line ends as they were; Unmendable where they are not what is wrong."""
    size = patient.source.size
    if size > MAX_BYTES:
        raise Unmendable("too-large")
    data = patient.source.read_at(0, size)
    pairs = data.count(b"\r\n")
    if pairs < LEAST or data.count(b"\n") != pairs:
        raise Unmendable("nothing-found")
    made = data.replace(b"\r\n", b"\n")
    for form in forms:
        if not form.accept(made[:64]):
            continue
        try:
            walk = follow(MemorySource(made), 0, form, patient.stop)
        except FormatError:
            continue
        if walk.ended and walk.broken is None:
            variant = walk.variant or form.plain
            return Mended(bytes_written(made), variant.extension,
                          (Change("line-ends", {"bytes": pairs}),))
    raise Unmendable("nothing-found")
