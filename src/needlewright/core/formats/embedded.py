"""Pictures inside raw files: the one part of them that can be followed to its own end."""

from __future__ import annotations

from collections.abc import Iterable

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg
from needlewright.core.structures.view import View
from needlewright.core.walks import Check, Outcome

MAX_PREVIEWS = 16


def previews_check(view: View, spans: Iterable[tuple[int, int]]) -> Check:
    """Whether every embedded JPEG in `spans` (absolute bytes) is one all through."""
    good = 0
    for start, stop in list(spans)[:MAX_PREVIEWS]:
        if stop > view.stop:
            continue
        try:
            walk = jpeg.walk(view.source, start, stop)
            offset = walk.broken.offset if walk.broken is not None else None
        except FormatError as error:
            offset = error.offset
        if offset is not None:
            return Check("previews", Outcome.FAIL, "previews-broken",
                         {"offset": max(start, offset) - view.start}, content=True)
        good += 1
    if not good:
        return Check("previews", Outcome.NOT_APPLICABLE, "thumbnail-none")
    return Check("previews", Outcome.PASS, "previews-agree", {"pictures": good})
