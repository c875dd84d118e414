"""The ends of streams that state no length: own ends, or where a medium's clusters happen to end.

A file that lay in pieces ends, for who follows it, where its first piece does: at the end of a
cluster, mostly in the middle of a frame. The end of a whole file falls there by chance only.
"""

from __future__ import annotations

from needlewright.core.structures.view import View
from needlewright.core.walks import Check, Outcome

BLANK_REST = 16  # bytes: zeros of a frame that are more than its padding


def cut_at_sector(view: View, end: int, beginnings: tuple[bytes, ...],
                  even: bool = False) -> bool:
    """Whether the stream that ends at byte `end` may go on elsewhere.

    So it is where the next frame, which begins like one of `beginnings`, is begun; where something
    else than zeros follows in the sector; and where its end is the stream's. `even`: its own parts
    are as long as sectors, so that says nothing.
    """
    if end >= view.stop:
        return False  # the file ends there, whoever said so
    to_edge = -(end - view.start) % view.source.sector_size
    head = view.peek(end, to_edge)
    if to_edge == 0:
        return not even
    if any(head.startswith(b[: max(1, min(len(b), to_edge))]) for b in beginnings):
        return True
    # The last frame may have begun in the cluster before: behind a file's own end drivers leave
    # zeros, behind the rest of a frame in another file's cluster lies that file. Where nobody took
    # the cluster, that rest is blank itself.
    inside = (end - view.start) % view.source.sector_size
    rest = view.peek(end - inside, inside)
    return bool(head.strip(b"\0")) or (inside >= BLANK_REST and not rest.strip(b"\0"))


def padded_with_zeros(view: View, end: int) -> bool:
    """Whether nothing but zeros stands from `end` to the end of the sector, as drivers leave it."""
    to_edge = -(end - view.start) % view.source.sector_size
    return not view.peek(end, to_edge).strip(b"\0")


def cut_check() -> Check:
    """The check of an end that may be none."""
    return Check("end mark", Outcome.DOUBT, "end-cut")
