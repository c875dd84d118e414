"""What putting a JPEG together changed, and where in the picture: as places for a person."""

from __future__ import annotations

from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.mending.base import Change
from needlewright.core.mending.jpeg.anatomy import Head, Layout
from needlewright.core.mending.jpeg.placed import neutral_runs
from needlewright.core.mending.jpeg.solving import Solved

MAX_TOLD = 40  # places that a change lists
INTO_STEP = 24  # MCUs


def told(solved: Solved, head: Head, layout: Layout, closed: bool) -> list[Change]:
    """What was done to a sequential picture."""
    canvas, frame = solved.canvas, head.frame
    changes = []
    missing = neutral_runs(canvas.there)
    areas = [area(a, b, layout, frame) for a, b in missing]
    breaks = [b for b in solved.placed.breaks if b.place < canvas.there.size]
    if breaks:
        rows = sorted({_row(b.place, layout, frame) for b in breaks})
        changes.append(Change("rows-placed", {
            "rows": rows[:MAX_TOLD], "breaks": len(breaks),
            "areas": [_joint(b.place, layout, frame) for b in breaks[:MAX_TOLD]]}))
    if solved.guided:
        changes.append(Change("levels-by-thumbnail", {"parts": solved.guided}))
    if missing:
        changes.append(Change("blocks-missing", {
            "areas": areas[:MAX_TOLD], "share": round(1 - canvas.share, 4)}))
    if solved.placed.left_out:
        changes.append(Change("data-left-out", {"blocks": solved.placed.left_out}))
    if not closed:
        changes.append(Change("end-added"))
    return changes


def _row(mcu: int, layout: Layout, frame: seg.Frame) -> int:
    return min(frame.height, mcu // layout.per_row * 8 * frame.max_vertical)


def _joint(place: int, layout: Layout, frame: seg.Frame) -> list[int]:
    """The rows of a joint: a decoder needs some blocks to fall into step, which may look like the
    picture's own."""
    first, last = max(0, place - INTO_STEP), place + INTO_STEP
    return [_row(first, layout, frame), 0,
            min(frame.height, _row(last, layout, frame) + 8 * frame.max_vertical), frame.width]


def area(start: int, stop: int, layout: Layout, frame: seg.Frame) -> list[int]:
    """[first row, first column, row and column behind the last] in pixels of a run of MCUs; all
    columns where it goes on from one row of them into the next."""
    wide = 8 * frame.max_horizontal
    last = stop - 1
    if start // layout.per_row != last // layout.per_row:
        return [_row(start, layout, frame), 0, min(
            frame.height, _row(last, layout, frame) + 8 * frame.max_vertical), frame.width]
    return [_row(start, layout, frame), start % layout.per_row * wide,
            min(frame.height, _row(last, layout, frame) + 8 * frame.max_vertical),
            min(frame.width, (last % layout.per_row + 1) * wide)]
