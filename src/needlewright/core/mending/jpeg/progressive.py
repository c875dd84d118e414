"""Progressive JPEG (ITU-T T.81 annex G): scans that are damaged are left out from there on, so
that what the others hold is shown as it is.
"""

from __future__ import annotations

from needlewright.core.mending.base import Change, Mended, Patient, Unmendable, bytes_written
from needlewright.core.mending.jpeg.heads import Restored


def mend(found: Restored, patient: Patient) -> Mended:
    """Close the file behind the last scan that is its own."""
    walk = patient.walk
    if walk is None or walk.broken is None or found.changes:
        raise Unmendable("progressive-damaged")
    stop = max(found.head.begin, walk.broken.offset)
    data = found.data[:stop]
    change = Change("blocks-missing", {"areas": [], "share": round(1 - walk.share, 4)})
    return Mended(bytes_written(data + b"\xff\xd9"), "jpg", (change, Change("end-added")),
                  walk.share, ("scans-missing",))
