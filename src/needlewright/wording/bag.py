"""The words that a delivery needs, put together for the core."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from needlewright.core.walks import Outcome
from needlewright.wording import (
    changes,
    checks,
    errors,
    finds,
    report,
    rows,
    rows_page,
    seams,
)

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    from needlewright.core.delivery.bag import Handed, Words
    from needlewright.core.delivery.rows_folder import RowsFolder
    from needlewright.core.jobfile.store import Job


def words_for(job: Job) -> Words:
    """Reasons, report and file names for deliveries of `job`."""
    from needlewright.core.delivery.bag import Words  # who speaks of a bag need not load it

    title, sources = job.title, [source.name for source in job.sources()]

    def why(number: int) -> str:
        told = [check for check in job.record(number).checks
                if check.outcome in (Outcome.FAIL, Outcome.DOUBT)]
        return checks.reason(told[0]) if told else ""

    def write_report(handed: Handed) -> str:
        return report.text(title, handed, sources, why)

    return Words(checks.reason, write_report, finds.file_name, errors.explain,
                 seams.describe_reason, changes.change, _rows_folder)


def _rows_folder(folder: Path, named: Callable[[str], str | None]) -> RowsFolder:
    """Where the rows of a database go."""
    from needlewright.core.delivery.rows_folder import RowsFolder

    name = folder.name.removesuffix(" rows")
    return RowsFolder(folder, rows.evidence, partial(rows_page.page, name), named)
