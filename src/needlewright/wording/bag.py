"""The words that a delivery needs, put together for the core."""

from __future__ import annotations

from needlewright.core.delivery.bag import Handed, Words
from needlewright.core.jobs.store import Job
from needlewright.wording import changes, checks, errors, finds, report, seams


def words_for(job: Job) -> Words:
    """Reasons, report and file names for deliveries of `job`."""
    title, sources = job.title, [source.name for source in job.sources()]

    def write_report(handed: Handed) -> str:
        return report.text(title, handed, sources)

    return Words(checks.reason, write_report, finds.file_name, errors.explain,
                 seams.describe_reason, changes.change)
