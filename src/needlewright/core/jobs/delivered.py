"""Which finds of a job were handed over."""

from __future__ import annotations

import json
from collections.abc import Sequence

from needlewright.core.jobfile.store import Job

KEY = "delivered-finds"


def note_delivered(job: Job, ids: Sequence[int]) -> None:
    """Keep in the job that these were handed over, too."""
    job.set_meta(KEY, json.dumps(sorted(delivered(job) | set(ids))))


def delivered(job: Job) -> set[int]:
    """The finds that were handed over in any delivery."""
    return set(json.loads(job.meta(KEY) or "[]"))
