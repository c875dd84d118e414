"""Longer checks of single finds on request: every frame of a clip, without searching again."""

from __future__ import annotations

from contextlib import closing
from dataclasses import replace

from needlewright.core.checks.asking import ask
from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import lowered, share_of
from needlewright.core.errors import FormatError, JobError
from needlewright.core.finds import Find
from needlewright.core.formats.registry import form_of
from needlewright.core.jobfile.merging import RECORD_CHECKS
from needlewright.core.jobfile.rows import FindRecord
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.sums import summed
from needlewright.core.jobs.media import Media
from needlewright.core.search.carving import follow
from needlewright.core.search.deciding import Case, all_frames, find_of
from needlewright.core.stopping import Interrupted, StopSignal


def decode_all(job: Job, number: int, stop: StopSignal) -> bool:
    """Decode every frame of find `number` and keep what that shows; whether it came to an end.

    Raises JobError for a find that is unknown or of which this cannot be asked, SourceError where
    its bytes cannot be read.
    """
    record = job.record(number)
    if record.mended_from is not None:
        return True  # decoded to its end when it was mended, and never called whole
    form = form_of(record.row.format)
    if form is None or not record.content.size:
        raise JobError("find-not-played", find=number)
    with Media.of(job) as media, media.lent(record.row.source) as medium, (
            media.content(record)) as source:
        try:
            walk = follow(source, 0, form, stop)
        except Interrupted:
            return False
        except FormatError as error:
            raise JobError("find-not-played", find=number) from error
        with closing(DecoderPool[Case](1)) as decoders:
            try:
                asked, report = ask(decoders, *all_frames(Case(walk, form.name), source)[:2], stop)
            except Interrupted:
                return False
        find, _ = find_of(asked, report, record.row.found_by[0], medium.sector_size)
        find = _recorded(find, record)
        if record.seams:
            origin = record.joined_from  # gone where the whole file took its place
            find = replace(find, seams=record.seams,
                           joined_from="" if origin is None else job.places.break_of(origin)[0])
        job.recheck_finds(record.row.source, [summed(find, medium, job.folder, stop)])
        return True


def _recorded(find: Find, record: FindRecord) -> Find:
    """`find`, whose bytes were addressed from 0, with what its record says of it."""
    row = record.row
    lasting = RECORD_CHECKS | {"seams", "mending"}  # not made of the bytes alone
    checks = (*find.checks, *(c for c in record.checks if c.name in lasting))
    grade = lowered(find.grade, checks)
    return replace(find, content=record.content, grade=grade, share=share_of(grade, find.share),
                   checks=checks, name=row.name,
                   path=row.path, removed=row.removed, record=record.record, parts=record.parts,
                   preview=record.preview, found_by=row.found_by)
