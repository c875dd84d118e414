"""JPEG: heads lent or made, coded data put back into its picture, files closed (ITU-T T.81)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_bits import is_padding, unstuff
from needlewright.core.kernels.jpeg_coefficients import Chain, decode_chain
from needlewright.core.mending.base import (
    Change,
    Choice,
    Mended,
    Mender,
    Patient,
    Unmendable,
    bytes_written,
)
from needlewright.core.mending.jpeg import choosing, guide, progressive, segments, sizes, writing
from needlewright.core.mending.jpeg.anatomy import Head, Layout, layout_of, restated
from needlewright.core.mending.jpeg.doubled import doubled
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.heads import Restored, restored
from needlewright.core.mending.jpeg.solving import Solved, by_guide, solve
from needlewright.core.mending.jpeg.telling import MAX_TOLD, told
from needlewright.core.mending.registry import register

MAX_BYTES = 1 << 28
MANY_BREAKS = 6
SHAPE = 0.03  # by which the shapes of a picture and its thumbnail may differ
SCRAP = 0.02


def proposals(patient: Patient) -> Iterator[Mended]:
    """The picture put together; where a size was found that leaves doubts, with the stated one as
    well, since damaged data may end as if it were of another."""
    first = mend(patient)
    yield first
    if first.doubts and any(c.code == "size-found" for c in first.changes):
        yield mend(patient, find_size=False)


def mend(patient: Patient, find_size: bool = True) -> Mended:
    """Unmendable where nothing is wrong with the coded data, or nothing can be done."""
    size = patient.source.size
    if size > MAX_BYTES:
        raise Unmendable("too-large")
    patient.breathe(0.0)
    found = restored(patient.source.read_at(0, size), patient)
    if found.head.frame.marker == seg.PROGRESSIVE:
        return progressive.mend(found, patient)
    if "double-removed" not in patient.wishes.leave:
        found = _without_double(found)
    layout = layout_of(found.head)
    stop, closed = coded_end(found.data, found.head)
    raw = np.frombuffer(found.data, np.uint8)[found.head.begin : stop]
    thumbnail = guide.guide_of(found.head)
    stated = found
    if find_size:
        found, layout = _sized(found, layout, raw, closed)
    if _of_other_shape(found, thumbnail) and not _off_shape(stated.head, thumbnail):
        found, layout = stated, layout_of(stated.head)  # what is wrong is not the size
    solved = solve(raw, layout, found.known, closed, lambda: patient.breathe(0.5), thumbnail,
                   patient.wishes.places)
    by_guide(solved, None if "levels-by-thumbnail" in patient.wishes.leave else thumbnail)
    tinted = choosing.tinted(solved.canvas, solved.placed.breaks, patient.wishes.tones)
    if solved.exact and not solved.placed.breaks:
        return replace(_as_it_stands(found, closed), doubts=_of_other_shape(found, thumbnail))
    if solved.canvas.share < SCRAP:
        raise Unmendable("nothing-decodes")
    patient.breathe(0.8)
    changes = (*found.changes, *told(solved, found.head, layout, closed))
    changes += choosing.told_places(solved.placed.by_hand, patient.wishes.places)
    changes += choosing.told_tones(tinted, patient.wishes.tones)
    if tinted:
        solved.doubts.append("by-hand")
    tail = found.data[stop + 2 :] if closed else b""
    made = writing.picture(found.head, found.head.frame, solved.canvas.coefficients,
                           layout.coding.component, layout.restart)
    if not layout.restart:
        solved.doubts += _doubts(solved)
    solved.doubts += _of_other_shape(found, thumbnail)
    return Mended(bytes_written(writing.with_tail(made, tail, found.head, stop)), "jpg", changes,
                  round(solved.canvas.share - solved.unsure, 4),
                  tuple(dict.fromkeys(solved.doubts)), found.reference,
                  _choices(solved, layout, found.head.frame, thumbnail, patient.wishes.tones),
                  area=round(solved.canvas.share, 4))


def _as_it_stands(found: Restored, closed: bool) -> Mended:
    """The file byte for byte, with what it lacked in front or behind."""
    changes = list(found.changes)
    data = found.data
    if not closed:
        changes.append(Change("end-added"))
        data = data.rstrip(b"\0") + writing.EOI
    if not changes:
        raise Unmendable("nothing-found")
    return Mended(bytes_written(data), "jpg", tuple(changes), reference=found.reference)


def _without_double(found: Restored) -> Restored:
    """The file without a stretch that stands twice, where it decodes better so."""
    layout = layout_of(found.head)
    stop, _ = coded_end(found.data, found.head)
    begin = found.head.begin
    raw = np.frombuffer(found.data, np.uint8)[begin:stop]
    if layout.restart or _is_exact(raw, layout):
        return found
    twice = doubled(raw)
    if twice is None:
        return found
    first, last = twice
    data = found.data[: begin + first] + found.data[begin + last :]
    shorter = np.frombuffer(data, np.uint8)[begin : stop - (last - first)]
    if _reach(shorter, layout) <= _reach(raw, layout):
        return found
    head = replace(found.head, data=data)
    change = Change("double-removed", {"at": begin + first, "bytes": last - first})
    return replace(found, data=data, head=head, changes=(*found.changes, change))


def _reach(raw: np.ndarray, layout: Layout) -> float:  # type: ignore[type-arg]
    """How far the data decodes; beyond 1 where exactly to its end."""
    clean = unstuff(raw, 1 << 16)
    chain = decode_chain(clean.clean, 0, clean.size * 8, layout.coding, layout.total + 64, True)
    whole = chain.size == layout.total and is_padding(
        clean.clean, int(chain.mcu_bit[-1]), clean.size * 8)
    return 2.0 if whole else chain.size / layout.total


def _is_exact(raw: np.ndarray, layout: Layout) -> bool:  # type: ignore[type-arg]
    return _reach(raw, layout) > 1


def _sized(found: Restored, layout: Layout, raw: np.ndarray,  # type: ignore[type-arg]
           closed: bool) -> tuple[Restored, Layout]:
    """The file with the size that its rows have, where the stated one is not that."""
    if not closed or not found.known:
        return found, layout
    chain = _all_of(raw, layout)
    exif = found.head.headers.exif
    frame = None if chain is None else sizes.frame_for(
        found.head.frame, chain, layout, exif.pixels if exif is not None else (0, 0))
    if frame is None:
        return found, layout
    data, head = restated(found.head, frame)
    change = Change("size-found", {"width": frame.width, "height": frame.height})
    return replace(found, data=data, head=head, changes=(*found.changes, change)), layout_of(head)


def _all_of(raw: np.ndarray, layout: Layout) -> Chain | None:  # type: ignore[type-arg]
    """All MCUs of data that decodes exactly to its end, whatever size is stated; else None."""
    if layout.restart:
        return segments.whole(raw, layout, sizes.MOST_MCUS)
    clean = unstuff(raw, 1 << 16)
    chain = decode_chain(clean.clean, 0, clean.size * 8, layout.coding, sizes.MOST_MCUS, True)
    end = int(chain.mcu_bit[-1])
    return chain if is_padding(clean.clean, end, clean.size * 8) else None


def _of_other_shape(found: Restored, thumbnail: guide.Guide | None) -> tuple[str, ...]:
    """A doubt where a size was found that is not of the thumbnail's shape, which has no bars."""
    changed = any(c.code == "size-found" for c in found.changes)
    return ("differs",) if changed and _off_shape(found.head, thumbnail) else ()


def _off_shape(head: Head, thumbnail: guide.Guide | None) -> bool:
    """Whether a picture is of another shape than its thumbnail, which has no bars."""
    if thumbnail is None or thumbnail.has_bars(layout_of(head)):
        return False
    return abs(head.frame.width / head.frame.height / thumbnail.shape - 1) > SHAPE


def _doubts(solved: Solved) -> list[str]:
    """Why a picture that was put together cannot be called mended."""
    doubts = []
    if solved.placed.left_out > MAX_TOLD:
        doubts.append("left-out")
    if len(solved.placed.breaks) > MANY_BREAKS:  # one of that many may be unnoticed
        doubts.append("many-breaks")
    return doubts


def _choices(solved: Solved, layout: Layout, frame: seg.Frame, thumbnail: guide.Guide | None,
             tones: choosing.Tones) -> tuple[Choice, ...]:
    """Where pieces may belong, with rows of pixels, and of what colours they may be."""
    places = choosing.in_rows(solved.placed.choices, layout, frame)
    if layout.restart:
        return places  # levels begin anew with each segment
    return (*places, *choosing.colours_of(solved.canvas, solved.placed.breaks, thumbnail, tones,
                                          choosing.unit_of(layout, frame)))


register(Mender("jpeg", frozenset(("jpeg",)), proposals))
