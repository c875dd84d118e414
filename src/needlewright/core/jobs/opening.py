"""Making jobs and taking sources into them, with the guards that belong there."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path

import platformdirs

from needlewright.core.errors import JobError
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.rows import SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.about import keep_about
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.media import shares_medium
from needlewright.core.sources.registry import lies_at, open_source, whole_name


def refuse_on_source(source_path: str, folder: str | os.PathLike[str]) -> None:
    """JobError where job, cache or temporary files would lie on the medium being recovered, or in
    the folder that is looked at."""
    cache = Path(platformdirs.user_cache_dir("needlewright"))
    there = lies_at(source_path)
    for place in (Path(folder), cache, Path(tempfile.gettempdir())):
        if shares_medium(there, place):
            inside = os.path.isdir(there)
            raise JobError("job-in-source" if inside else "job-on-source", path=str(place))


def open_or_make(folder: str | os.PathLike[str], title: str = "") -> Job:
    """The job in `folder`, made where there is none."""
    fresh = not (Path(folder) / DATABASE).exists()
    job = Job(folder, create=True)
    if fresh and title:
        job.set_meta("title", title)
    return job


def job_for_image(folder: str | os.PathLike[str], image: str | os.PathLike[str],
                  title: str = "") -> tuple[Job, SourceRow]:
    """An open job in `folder` that holds `image` as a source; nothing is made if it is unusable."""
    path = whole_name(os.fspath(image))
    with open_source(path) as source:
        refuse_on_source(path, folder)
        source.size  # noqa: B018 - a shelf is listed for it: what cannot be leaves no job behind
        job = open_or_make(folder, title)
        try:
            known = {row.path for row in job.sources()}
            row = job.add_source(source, path)
            keep_about(job, row, source)
            if row.path not in known:
                job.log("source-added", {"source": row.name, "bytes": row.size})
        except BaseException:
            job.close()
            raise
    return job, row


def hash_source(job: Job, row: SourceRow) -> str:
    """SHA-256 (hex) of the whole source, kept in the job."""
    digest = hashlib.sha256()
    with open_source(row.path) as source:
        for block in blocks(source):
            digest.update(block)
    job.set_source_hash(row.id, digest.hexdigest())
    return digest.hexdigest()
