"""What a shelf said of itself when it was taken in: kept in the job, as it may be away later."""

from __future__ import annotations

import json
from typing import Any

from needlewright.core.jobfile.rows import SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.sources.source import Source

KEY = "about {source}"  # in the job's own facts


def keep_about(job: Job, row: SourceRow, source: Source) -> None:
    """Keep what `source`, which is `row` of the job, says of itself."""
    told = source.about() if isinstance(source, DistantShelf) else {}
    if told:
        job.set_meta(KEY.format(source=row.id), json.dumps(told))


def about_of(job: Job, source: int) -> dict[str, Any]:
    """What a source of the job said of itself; nothing where that makes no sense."""
    try:
        told = json.loads(job.meta(KEY.format(source=source)) or "{}")
    except ValueError:
        return {}
    return told if isinstance(told, dict) else {}
