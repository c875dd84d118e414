"""Where the coded data of a damaged JPEG ends, and what stands behind it (ITU-T T.81, B.1.1.3; MPF:
CIPA DC-007). Two bytes FF D9 stand in foreign data by chance: they count where what follows is
known.
"""

from __future__ import annotations

import re

from needlewright.core.mending.jpeg.anatomy import Head

END = re.compile(rb"\xff\xd9")
PADDING = 32  # zeros at the end of a file that has no end mark: nothing of the picture
KNOWN_BEHIND = (b"\xff\xd8\xff",)


def coded_end(data: bytes, head: Head) -> tuple[int, bool]:
    """(where the coded data from the head on ends, whether the end mark stands there)."""
    marks = [m.start() for m in END.finditer(data, head.begin)]
    if not marks:
        end = len(data.rstrip(b"\0"))
        return (end if len(data) - end >= PADDING else len(data)), False
    listed = [at for at, _ in head.headers.appended if head.begin < at <= len(data)]
    if listed:
        before = [m for m in marks if m + 2 <= min(listed)]
        if before:
            return before[-1], True
    for mark in marks:
        rest = data[mark + 2 : mark + 4096].lstrip(b"\0")
        if rest[:3] in KNOWN_BEHIND or rest[4:8] == b"ftyp" or (
                not rest and not data[mark + 2 :].strip(b"\0")):
            return mark, True
    return marks[-1], True
