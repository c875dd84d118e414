"""A damaged job copied: what can be read of it in a new job, which works as any other does."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.errors import JobError
from needlewright.core.jobfile.folder import (
    DATABASE,
    STRIPS,
    THUMBNAILS,
    strip_path,
    thumbnail_path,
)
from needlewright.core.jobfile.salvaging import copy_rows
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.copying import IMAGES
from needlewright.core.jobs.opening import refuse_on_source
from needlewright.core.stopping import Interrupted, StopSignal

WRITING = (errno.ENOSPC, errno.EDQUOT, errno.EROFS)  # which no other file would escape


@dataclass(frozen=True, slots=True)
class CopiedJob:
    """`finds` of the `known` that the damaged job is known to have had; `missed`: files beside the
    job file that could not be read."""

    folder: Path
    finds: int
    known: int
    missed: int


def copy_job(folder: Path, to: Path, stop: StopSignal) -> CopiedJob:
    """Copy what can be read of the job in `folder` into a new job in `to`, with the pictures of
    its finds and what was mended or brought; copied media stay where they are, and `folder` is not
    changed.

    Raises JobError where nothing of the job can be read, where `to` is no empty folder, lies on a
    medium that is being recovered or cannot be written; Interrupted. What was copied until then
    stays.
    """
    folder, to = folder.absolute(), to.absolute()
    if to.is_relative_to(folder):
        raise JobError("job-copy-within", path=str(to))
    if (to / DATABASE).exists():
        raise JobError("job-copy-taken", path=str(to))
    with Job(folder, read_only=True) as old:
        for source in old.sources():
            refuse_on_source(source.path, to)
        with Job(to, create=True) as new:
            ids, known = copy_rows(old, new, stop)
            missed = sum(not _copied(path, to / path.relative_to(folder), stop)
                         for path in _beside(folder, ids))
            new.log("job-copied", {"from": str(folder), "finds": len(ids), "known": known})
    return CopiedJob(to, len(ids), known, missed)


def _beside(folder: Path, ids: Sequence[int]) -> Iterator[Path]:
    """The files that belong to a job, the pictures only of the finds `ids`: numbers go on, but a
    picture must never be another's."""
    for number in ids:
        yield from (path for path in (thumbnail_path(folder, number), strip_path(folder, number))
                    if path.is_file())
    for place, folders, names in os.walk(folder):
        if Path(place) == folder:
            folders[:] = [n for n in folders if n not in (IMAGES, THUMBNAILS, STRIPS)]
            names = [n for n in names if not n.startswith(DATABASE)]
        yield from (path for path in (Path(place) / n for n in names)
                    if path.is_file() and not path.is_symlink())


def _copied(path: Path, to: Path, stop: StopSignal) -> bool:
    """Whether a file could be read; JobError where nothing can be written any more."""
    if stop.is_set():
        raise Interrupted
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(path, to)
    except OSError as error:
        if error.errno in WRITING:
            raise JobError("job-not-written", path=str(to),
                           reason=error.strerror or str(error)) from error
        to.unlink(missing_ok=True)
        return False
    return True
