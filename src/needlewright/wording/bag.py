"""The words that a delivery needs, put together for the core."""

from __future__ import annotations

from collections.abc import Sequence

from needlewright.core.delivery.bag import Words
from needlewright.core.jobs.rows import FindRow
from needlewright.core.jobs.store import Job
from needlewright.wording import checks, finds, report


def words_for(job: Job) -> Words:
    """Reasons, report and file names for deliveries of `job`."""
    title, sources = job.title, [source.name for source in job.sources()]

    def write_report(rows: Sequence[FindRow]) -> str:
        return report.text(title, rows, sources)

    return Words(checks.reason, write_report, finds.file_name)
