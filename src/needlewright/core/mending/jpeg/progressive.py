"""Progressive JPEG (ITU-T T.81 annex G): stretches that stand twice are taken out, and a file that
ends early is closed, so that what its scans hold is shown as it is.

Scans are not taken up again behind damage: finer ones lean on every bit of those before.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.mending.base import Change, Mended, Patient, Unmendable, bytes_written
from needlewright.core.mending.jpeg.doubled import doubled
from needlewright.core.mending.jpeg.heads import Restored
from needlewright.core.sources.memory import MemorySource

SCAN = b"\xff\xda"
MOST_DOUBLED = 4


def mend(found: Restored, patient: Patient) -> Mended:
    """Unmendable where nothing helps: viewers show what later scans hold better than a closed file
    would."""
    walk = patient.walk
    if "double-removed" not in patient.wishes.leave:
        once = _without_doubles(found, lambda: patient.breathe(0.4))
        if once is not None:
            return once
    if walk is None or walk.broken is None or found.changes:
        raise Unmendable("progressive-damaged")
    stop = max(found.head.begin, walk.broken.offset)
    if SCAN in found.data[stop:]:
        raise Unmendable("progressive-damaged")
    data = found.data[:stop]
    change = Change("blocks-missing", {"areas": [], "share": round(1 - walk.share, 4)})
    return Mended(bytes_written(data + b"\xff\xd9"), "jpg", (change, Change("end-added")),
                  walk.share, ("scans-missing",))


def _without_doubles(found: Restored, breathe: Callable[[], None]) -> Mended | None:
    """The file without stretches that stand twice, where all of it decodes to its end so."""
    data, begin = found.data, found.head.begin
    changes = list(found.changes)
    for _ in range(MOST_DOUBLED):
        breathe()
        twice = doubled(np.frombuffer(data, np.uint8)[begin:])
        if twice is None:
            return None
        first, stop = begin + twice[0], begin + twice[1]
        data = data[:first] + data[stop:]
        changes.append(Change("double-removed", {"at": first, "bytes": stop - first}))
        try:
            walk = formats()["jpeg"].walk(MemorySource(data), 0, len(data))
        except FormatError:
            return None
        if walk.broken is None and walk.ended:
            return Mended(bytes_written(data), "jpg", tuple(changes), reference=found.reference)
    return None
