"""What volumes a source holds, looked up when it is opened and kept in the job."""

from __future__ import annotations

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.jobfile.rows import BYTES, SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.search.events import VolumeSeen
from needlewright.core.search.step_records import seen
from needlewright.core.sources.registry import open_source
from needlewright.core.volumes.finding import find_volumes, open_volume


def look_at_volumes(job: Job, source: SourceRow) -> list[VolumeSeen]:
    """The volumes of a source; read from it, and kept, where the job knows none yet.

    Raises SourceError where it cannot be opened, JobError where the job cannot be written.
    """
    known = job.searched.volumes(source.id)
    if known or source.kind != BYTES:
        return known
    found: list[VolumeSeen] = []
    with open_source(source.path) as medium:
        for volume in find_volumes(medium).volumes:
            try:
                reader = open_volume(medium, volume) if volume.file_system else None
            except (FormatError, SourceError):
                reader = None
            found.append(seen(volume, reader))
    job.searched.set_volumes(source.id, found)
    return found
