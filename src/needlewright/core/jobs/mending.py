"""Mending the finds of a job: a new file in the job's folder, kept as a find of its own beside the
damaged one.

References come from the job itself: whole finds of the same format, of the same camera and size
first.
"""

from __future__ import annotations

import contextlib
import re
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Brought, Stored
from needlewright.core.errors import FormatError, NeedlewrightError, SourceError
from needlewright.core.finds import MENDED_FROM, NOT_MENDED, Find
from needlewright.core.formats.registry import form_of
from needlewright.core.hashing import sha256_of
from needlewright.core.jobfile.rows import Filter, FindRecord, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.media import Media
from needlewright.core.jobs.turns import at_work
from needlewright.core.mending.base import (
    OPTIONAL,
    Change,
    Choice,
    Patient,
    Reference,
    Wishes,
)
from needlewright.core.mending.registry import menders
from needlewright.core.mending.treating import Treated, treat_patient
from needlewright.core.search.carving import follow
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.shelf import is_distant
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

FOLDER = "mended"  # in the job's
STEP = "mending"
MOST_REFERENCES = 8
MOST_BEHIND = 1 << 25  # bytes in line behind a carve that may be its own


@dataclass(frozen=True, slots=True)
class Mending:
    """How far the work is: the find that is being mended, and which of how many it is."""

    find: int
    name: str
    number: int
    count: int
    share: float


@dataclass(frozen=True, slots=True)
class MendedFind:
    """What became of find `find`: the id of the mended one beside it, or None; `why`: a code, or
    the error for which it could not be read."""

    find: int
    name: str
    kept: int | None
    treated: Treated | None
    why: str = ""
    error: NeedlewrightError | None = None


def mendable(job: Job) -> list[int]:
    """The damaged finds for which there is a way to mend."""
    known = sorted({name for mender in menders().values() for name in mender.formats})
    return job.places.damaged(("photo", "video", "audio"), known)


def wishes_of(changes: Sequence[Change]) -> Wishes:
    """What a person decided when a file was mended so."""
    leave = frozenset(str(c.values.get("change")) for c in changes if c.code == "left-out")
    places = {int(n): int(shift) for c in changes if c.code == "placed-by-hand"
              for n, shift in c.values.get("places", ())}
    tones = {int(n): tuple(map(float, tone)) for c in changes if c.code == "colour-by-hand"
             for n, *tone in c.values.get("tones", ())}
    return Wishes(leave & OPTIONAL, places, tones)


def mend_finds(job: Job, ids: Sequence[int], stop: StopSignal, given: Sequence[Path] = (),
               wishes: Wishes | None = None) -> Iterator[Mending | MendedFind]:
    """Mend finds one after another; ends early where `stop` is set. `given`: references by hand,
    before those of the job; `wishes`: what a person decides, None: what was decided before.
    OSError where nothing can be written any more; JobError where another program works on it."""
    with at_work(job.folder):
        yield from _mended_finds(job, ids, stop, given, wishes)


def _mended_finds(job: Job, ids: Sequence[int], stop: StopSignal, given: Sequence[Path],
                  wishes: Wishes | None) -> Iterator[Mending | MendedFind]:
    checker: DecoderPool[int] = DecoderPool(1, use=f"mended {job.folder}")
    folder = job.folder / FOLDER
    folder.mkdir(exist_ok=True)
    media = Media.of(job)
    try:
        for number, find in enumerate(ids):
            if stop.is_set():
                return
            record = job.record(find)
            name = record.row.name or f"find {find}"
            yield Mending(find, name, number, len(ids), 0.0)
            try:
                chosen = _decided(job, find) if wishes is None else wishes
                result = _treated(job, media, record, name, folder, stop, checker, given, chosen)
                done = _kept_find(job, record, name, result)
            except Interrupted:
                return
            except (SourceError, FormatError) as error:
                done = MendedFind(find, name, None, None, "unreadable", error)
            if done.kept is None:
                job.links.add(find, find, NOT_MENDED, done.why)
            yield done
    finally:
        checker.close()
        media.close()


@dataclass(frozen=True, slots=True)
class Alternative:
    """One of the places that a piece of a picture may have, or of the colours (`tone`, which goes
    by `way`). `number`, `shift`: as in `Wishes`; `row`: where in the picture, pixels; `picture`:
    what it looks like then, a small JPEG; `unit`: as in `Choice`."""

    number: int
    shift: int
    row: int
    share: float
    picture: bytes
    unit: tuple[int, int, int] = (0, 0, 0)
    tone: tuple[float, ...] = ()
    way: str = ""

    def within(self, wishes: Wishes) -> Wishes:
        """`wishes`, and this one."""
        if self.tone:
            return replace(wishes, tones={**wishes.tones, self.number: self.tone})
        return replace(wishes, places={**wishes.places, self.number: self.shift})


def alternatives(job: Job, find: int, stop: StopSignal,
                 colours: bool = False) -> Iterator[Alternative]:
    """Where the piece of a damaged picture may belong that is placed least surely, or of what
    colour the least sure one may be: up to three answers, each mended so; nothing where nothing was
    placed by its rows."""
    record, chosen = job.record(find), _decided(job, find)
    name = record.row.name or f"find {find}"
    checker: DecoderPool[int] = DecoderPool(1, use=f"mended {job.folder}")
    media = Media.of(job)
    (job.folder / FOLDER).mkdir(exist_ok=True)
    try:
        with tempfile.TemporaryDirectory(prefix=".", dir=job.folder / FOLDER) as scratch:
            def made(wishes: Wishes) -> Treated:
                return _treated(job, media, record, name, Path(scratch), stop, checker, (), wishes)

            choices = made(chosen).choices
            least = _least_sure_tones(choices) if colours else _least_sure_places(choices)
            for one in least:
                done = made(one.within(chosen))
                picture = b"" if done.after is None else done.after.thumbnail
                yield replace(one, share=done.share, picture=picture)
    except Interrupted:
        return
    finally:
        checker.close()
        media.close()


def _least_sure_places(choices: Sequence[Choice]) -> list[Alternative]:
    """The places of the piece that is placed least surely."""
    several = [c for c in choices if len(c.shifts) > 1]
    least = min(several, key=lambda c: (c.used, c.lead), default=None)
    return [] if least is None else [
        Alternative(least.number, shift, row, 0.0, b"", least.unit)
        for shift, row in zip(least.shifts, least.rows, strict=True)]


def _least_sure_tones(choices: Sequence[Choice]) -> list[Alternative]:
    """The colours of the piece whose colour is least sure."""
    several = [c for c in choices if len(c.tones) > 1]
    least = max(several, key=lambda c: c.lead, default=None)
    return [] if least is None else [
        Alternative(least.number, 0, least.rows[0], 0.0, b"", least.unit, tone, way)
        for tone, way in zip(least.tones, least.ways, strict=True)]


def _decided(job: Job, find: int) -> Wishes:
    kept = job.links.of(find, MENDED_FROM, back=True)
    return wishes_of(job.record(kept[0]).changes) if kept else Wishes()


def _treated(job: Job, media: Media, record: FindRecord, name: str, folder: Path,
             stop: StopSignal, checker: DecoderPool[int], given: Sequence[Path],
             wishes: Wishes) -> Treated:
    row = record.row
    with contextlib.ExitStack() as open_ones:
        medium = open_ones.enter_context(media.lent(row.source))
        source = open_ones.enter_context(media.content(record))
        more = 0 if "in-line" in wishes.leave else _in_line(job, record, medium)
        if more:
            source = PiecedSource(medium, ((row.start, row.size + more),))
        found = _as_find(record)
        patient = Patient(source, name, row.format, _walk(row, source, stop),
                          [*_given(given, open_ones), *_references(job, row, media, open_ones)],
                          stop,
                          wishes=wishes)
        result = Treated(Path(f"{row.id}.{row.extension}"), found, row.grade, row.share, row.share)
        treat_patient(patient, found, result, folder, checker)
        if more and result.output is not None:
            result.changes = (Change("in-line", {"bytes": more}), *result.changes)
    return result


def _kept_find(job: Job, record: FindRecord, name: str, result: Treated) -> MendedFind:
    if result.output is None or result.after is None:
        return MendedFind(record.row.id, name, None, result, result.why)
    before = _stored(job, record.row.id)
    number = _kept(job, record, result)
    if before is not None and before.name != result.output.name:
        before.unlink(missing_ok=True)  # nothing leads to it any more
    return MendedFind(record.row.id, name, number, result)


def _stored(job: Job, find: int) -> Path | None:
    """The file of an earlier mended version of a find."""
    kept = job.links.of(find, MENDED_FROM, back=True)
    content = job.record(kept[0]).content if kept else None
    return job.folder / FOLDER / Path(content.file).name if isinstance(content, Stored) else None


def _in_line(job: Job, record: FindRecord, medium: Source) -> int:
    """How many bytes behind a photo that was carved up to its damage are its own, most likely: up
    to an end mark behind which drivers filled the sector with zeros, in front of the next whole
    find."""
    row = record.row
    if row.format != "jpeg" or record.record is not None or len(record.extents) != 1:
        return 0
    begin = row.start + row.size
    starts = sorted(s for s in job.places.whole_starts(row.source) if s >= begin)
    stop = min([*starts[:1], medium.size, begin + MOST_BEHIND])
    sector = medium.sector_size
    try:
        data = medium.read_at(begin, max(0, stop - begin))
    except SourceError:
        return 0
    for mark in re.finditer(rb"\xff\xd9", data):
        end = begin + mark.end()
        rest = data[mark.end() : mark.end() + -end % sector]
        if rest and not rest.strip(b"\0"):
            return mark.end()
    return 0


def _walk(row: FindRow, source: Source, stop: StopSignal) -> Walk | None:
    form = form_of(row.format)
    try:
        return None if form is None else follow(source, 0, form, stop)
    except FormatError:
        return None


def _as_find(record: FindRecord) -> Find:
    row = record.row
    return Find(row.format, Kind(row.kind), row.extension, record.content, Grade(row.grade),
                row.share, row.found_by, record.checks, Facts(row.width, row.height, row.taken,
                                                              row.camera, row.orientation))


def _given(paths: Sequence[Path], open_ones: contextlib.ExitStack) -> list[Reference]:
    return [Reference(path.name, str(path), open_ones.enter_context(ImageFile(path)))
            for path in paths]


def _references(job: Job, row: FindRow, media: Media,
                open_ones: contextlib.ExitStack) -> list[Reference]:
    """Whole finds of the same format, the most alike first: those of the same source before
    others. Files of other sources are lent where they lie on this computer: a phone would have to
    be woken for one."""
    whole = job.matching(Filter(grades=frozenset((str(Grade.WHOLE),)),
                                formats=frozenset((row.format,))))
    distant = {s.id for s in job.sources() if is_distant(s.kind)}
    alike = sorted((w for w in whole if w.id != row.id),
                   key=lambda w: (w.camera != row.camera,
                                  (w.width, w.height) != (row.width, row.height),
                                  w.source != row.source,
                                  abs(w.start - row.start)))
    found: list[Reference] = []
    away: set[int] = set()  # sources that lend nothing
    for other in alike:
        if len(found) == MOST_REFERENCES:
            break
        if other.source in away:
            continue
        try:
            lent = job.record(other.id)
            if other.source in distant and not isinstance(lent.content, Brought):
                continue
            file = open_ones.enter_context(media.content(lent))
        except NeedlewrightError:
            if not media.opens(other.source):
                away.add(other.source)
            continue
        found.append(Reference(other.name or f"find {other.id}", f"find {other.id}", file))
    return found


def _kept(job: Job, record: FindRecord, result: Treated) -> int:
    """Keep the new file as a find beside the damaged one."""
    after, row, output = result.after, record.row, result.output
    assert after is not None and output is not None
    content = Stored(f"{FOLDER}/{output.name}", sha256_of(output), output.stat().st_size)
    stem = None if row.name is None else row.name.rpartition(".")[0] or row.name
    name = None if stem is None else f"{stem}.{after.extension}"
    doubts = (Check(STEP, Outcome.DOUBT, code, content=True) for code in result.doubts)
    find = replace(
        after, checks=(*doubts, *after.checks), content=content, grade=Grade(result.grade),
        share=result.share, found_by=(STEP,), name=name, path=row.path, removed=row.removed,
        beside=row.start, broken=None, parts=(), preview=None,
        facts=replace(after.facts, taken=after.facts.taken or row.taken))
    return job.add_mended(row.source, find, row.id, result.changes)
