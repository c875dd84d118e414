"""Progressive JPEG (ITU-T T.81 annex G): stretches that stand twice are taken out, a file that
ends early is closed, and scans are taken up again behind damage. What was put together is written
as one sequential scan of the same coefficients.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.mending.base import (
    Change,
    Choice,
    Mended,
    Patient,
    Unmendable,
    bytes_written,
)
from needlewright.core.mending.jpeg import choosing, guide, writing
from needlewright.core.mending.jpeg.anatomy import Head
from needlewright.core.mending.jpeg.blocks import Bools, Picture, picture_of
from needlewright.core.mending.jpeg.canvas import Canvas
from needlewright.core.mending.jpeg.doubled import doubled
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.heads import Restored
from needlewright.core.mending.jpeg.pass_sizes import sized
from needlewright.core.mending.jpeg.passes import Outcome, Pass
from needlewright.core.mending.jpeg.placed import Break, Placed, neutral_runs
from needlewright.core.mending.jpeg.scans import Scan, scans_of
from needlewright.core.mending.jpeg.solving import Solved, by_guide
from needlewright.core.mending.jpeg.telling import MAX_TOLD, area
from needlewright.core.sources.memory import MemorySource

MOST_DOUBLED = 4
MANY_BREAKS = 40
MOST_PIXELS = 4096  # a byte of the file: the first scan alone takes a bit for each block
MOSTLY = 0.5  # of the picture without its full detail: less sharp, not mended
NEAR = 2  # rows of MCUs: areas of missing detail no further apart are told as one
COARSE_DC = 8  # a step of DC values that shows: more than a grey level
USUAL = 4.0  # difference of MCUs that join
LARGEST = 1023  # of a coefficient in a sequential scan of 8 bits (F.1.2)


@dataclass(slots=True)
class _Work:
    """What the scans came to."""

    picture: Picture
    scans: list[Scan]
    outcomes: list[Outcome] = field(default_factory=list)

    @property
    def breaks(self) -> int:
        return sum(o.breaks for o in self.outcomes)

    def borne_out(self, number: int) -> bool:
        """Whether a scan that refines what scan `number` says came out to its end: it would not,
        were that in the wrong place."""
        said = self.scans[number].header
        for scan, outcome in list(zip(self.scans, self.outcomes))[number + 1 :]:
            if (not scan.dc and not scan.first and scan.header.members[0][0] == said.members[0][0]
                    and scan.header.band[0] <= said.band[0] <= scan.header.band[1]):
                units = self.picture.order([scan.header.members[0][0]]).size
                return not any(stop == units for _, stop in outcome.lost)
        return False

    @property
    def share(self) -> float:
        """Of the coded data what is told, and of the blocks those that are there."""
        total = sum(s.data.size for s in self.scans) or 1
        told = 0.0
        for scan, outcome in zip(self.scans, self.outcomes):
            units = self.picture.order([m[0] for m in scan.header.members]).size
            blocks = self.picture.pattern([m[0] for m in scan.header.members]).size
            lost = sum(b - a for a, b in outcome.lost) * blocks
            told += scan.data.size / total * (1 - lost / units)
        return float(min(told, 1 - self.picture.lost.mean()))


def mend(found: Restored, patient: Patient) -> Mended:
    """Unmendable where nothing is wrong, or nothing helps."""
    if "double-removed" not in patient.wishes.leave:
        once = _without_doubles(found, lambda: patient.breathe(0.1))
        if once is not None:
            return once
    frame = found.head.frame
    if frame.width * frame.height > MOST_PIXELS * len(found.data):
        raise FormatError("dimensions-implausible", offset=0)
    stop, closed = coded_end(found.data, found.head)
    scans, picture = scans_of(found.head, stop), picture_of(found.head)
    if closed:
        found = sized(found, scans, picture)
    work = _decoded(scans, picture_of(found.head), closed, patient)
    unfinished = _unfinished(work, closed)
    if not closed and not work.breaks:
        return _closed(found, stop, work, unfinished)
    if not work.breaks:
        if found.changes and not unfinished:  # a head or a size is all that it lacked
            return Mended(bytes_written(found.data), "jpg", found.changes,
                          reference=found.reference)
        raise Unmendable("nothing-found")
    patient.breathe(0.8)
    return _joined(found, stop, closed, work, patient, unfinished)


def _decoded(scans: list[Scan], picture: Picture, closed: bool, patient: Patient) -> _Work:
    """All scans, as far as they are there."""
    work = _Work(picture, scans)
    for number, scan in enumerate(scans):
        share = 0.1 + 0.6 * number / len(scans)
        one = Pass(scan, picture, closed or number < len(scans) - 1,
                   lambda share=share: patient.breathe(share))  # type: ignore[misc]
        outcome = one.run()
        work.outcomes.append(outcome)
        blocks = one.member.size
        for first, last in outcome.lost:
            places = one.order[first * blocks : last * blocks]
            if scan.dc and scan.first:
                picture.lost[places] = True
            elif not scan.dc or picture.quantisers[:, 0].max() > COARSE_DC:
                picture.missing[places, 0 if scan.first else 1] = True
    return work


def _unfinished(work: _Work, closed: bool) -> bool:
    """Whether scans are missing: some component has no DC, or bits that no scan brought."""
    low = np.full((len(work.picture.frame.components), 64), -1)
    for scan in work.scans:
        first, last = scan.header.band
        for index, _, _ in scan.header.members:
            low[index, first : last + 1] = scan.header.low
    return bool((low[:, 0] != 0).any() or (low > 0).any() or (not closed and (low < 0).any()))


def _closed(found: Restored, stop: int, work: _Work, unfinished: bool) -> Mended:
    """A file that ends early, closed as it stands."""
    changes = [*found.changes, Change("end-added")]
    doubts = ("scans-missing",) if unfinished else ()
    return Mended(bytes_written(found.data[:stop] + writing.EOI), "jpg", tuple(changes),
                  round(work.share, 4), doubts, found.reference)


def _joined(found: Restored, stop: int, closed: bool, work: _Work, patient: Patient,
            unfinished: bool) -> Mended:
    """The picture put together, as one sequential scan."""
    picture, head = work.picture, found.head
    frame = head.frame
    solved = _levelled(work, head, "levels-by-thumbnail" not in patient.wishes.leave,
                       patient.wishes.places)
    canvas, tones = solved.canvas, patient.wishes.tones
    tinted = choosing.tinted(canvas, solved.placed.breaks, tones)
    coarse = picture.by_mcu(picture.missing[:, 0] | picture.missing[:, 1]) & canvas.there
    changes = [*found.changes, Change("scans-joined", {"breaks": work.breaks})]
    if solved.guided:
        changes.append(Change("levels-by-thumbnail", {"parts": solved.guided}))
    layout = canvas.layout
    for code, flags in (("blocks-missing", ~canvas.there), ("detail-missing", coarse)):
        if flags.any():
            runs = _runs(flags, layout.per_row)
            changes.append(Change(code, {
                "areas": [area(a, b, layout, frame) for a, b in runs[:MAX_TOLD]],
                "share": round(float(flags.mean()), 4)}))
            if len(runs) > MAX_TOLD:
                solved.doubts.append("many-breaks")
    changes += choosing.told_places(solved.placed.by_hand, patient.wishes.places)
    changes += choosing.told_tones(tinted, tones)
    if tinted:
        solved.doubts.append("by-hand")
    share = work.share
    if not closed:
        changes.append(Change("end-added"))
        if patient.walk is not None and not any(o.breaks for o in work.outcomes[:-1]):
            share = max(share, patient.walk.share)  # all that there was is in it
    if unfinished or coarse.mean() > MOSTLY:
        solved.doubts.append("scans-missing")
    if any(o.loose and not work.borne_out(n) for n, o in enumerate(work.outcomes)):
        solved.doubts.append("rows-guessed")
    if any(b.loose for b in solved.placed.breaks):
        solved.doubts.append("levels-guessed")
    if work.breaks > MANY_BREAKS:
        solved.doubts.append("many-breaks")
    coefficients = canvas.coefficients
    np.clip(coefficients[:, :, 1:], -LARGEST, LARGEST, out=coefficients[:, :, 1:])
    made = writing.picture(head, frame, coefficients, layout.coding.component, 0)
    tail = found.data[stop + 2 :] if closed else b""
    return Mended(bytes_written(writing.with_tail(made, tail, head, stop)), "jpg", tuple(changes),
                  round(share, 4), tuple(dict.fromkeys(solved.doubts)), found.reference,
                  (*choosing.in_rows(solved.placed.choices, layout, frame),
                   *choosing.colours_of(canvas, solved.placed.breaks, guide.guide_of(head), tones,
                                        choosing.unit_of(layout, frame))))


def _runs(flags: Bools, per_row: int) -> list[tuple[int, int]]:
    """(first, behind the last) of runs of MCUs that are flagged; such as are near are one."""
    runs: list[tuple[int, int]] = []
    for first, last in neutral_runs(~flags):
        if runs and first - runs[-1][1] < NEAR * per_row:
            runs[-1] = runs[-1][0], last
        else:
            runs.append((first, last))
    return runs


def _levelled(work: _Work, head: Head, use_guide: bool, by_hand: Mapping[int, int]) -> Solved:
    """The MCUs in their places, or where a person put them from a break on (`by_hand`, as in
    `Wishes`); behind breaks in the DC values as bright as what joins them."""
    picture = work.picture
    layout = picture.layout()
    every = list(range(len(picture.frame.components)))
    coefficients = np.ascontiguousarray(
        picture.blocks[picture.order(every)].reshape(layout.total, -1, 64))
    lost = picture.by_mcu(picture.lost)
    canvas = Canvas(layout)
    placed = Placed(canvas)
    places = sorted({unit for scan, o in zip(work.scans, work.outcomes) for unit in o.joints
                     if len(scan.header.members) == len(every)})
    solved = Solved(canvas, placed)
    if sum(len(o.joints) for o in work.outcomes) > len(places):
        solved.doubts.append("levels-guessed")
    strand = canvas.strand(coefficients)
    none = np.zeros(len(every), np.int64)
    shift = 0
    for first, last in zip([0, *places], [*places, layout.total]):
        levels = none
        if first:
            count = min(layout.per_row, last - first)
            others = choosing.places_of(canvas, strand, first, shift, 0, None, USUAL, None)
            placed.choices.append(Choice(first, others, 0.0, True, tuple(
                (first + s) // layout.per_row for s in others)))
            if first in by_hand:  # which then holds to the end, or to the next that is
                shift = max(-first, min(by_hand[first], layout.total - first - 1))
                placed.by_hand += 1
            fit = canvas.fits(strand, first, count, np.full(1, shift, np.int64))[0]
            levels = canvas.quantised(-fit.finer())
            loose = bool(np.isnan(fit.mean).all())
            placed.breaks.append(Break(first + shift, first, shift, tuple(int(v) for v in levels),
                                       loose, fit.errors()))
        for start, stop in neutral_runs(lost[first:last]):
            canvas.put(strand, first + start, stop - start, first + start + shift, levels)
    if placed.by_hand:
        solved.doubts.append("by-hand")
    by_guide(solved, guide.guide_of(head) if use_guide else None)
    return solved


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


