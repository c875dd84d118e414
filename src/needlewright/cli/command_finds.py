"""The commands that list the finds of a job and fill its tray, and how they are narrowed."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Sequence
from typing import Any

from needlewright.cli.arguments import GRADES, folder, kinds, listed, numbers
from needlewright.cli.registry import Command, register
from needlewright.cli.work import missing_of
from needlewright.core.delivery.listing import entry, volume_name
from needlewright.core.errors import JobError, NeedlewrightError
from needlewright.core.jobfile.rows import Filter, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.wording import changes, checks, errors, seams, units
from needlewright.wording import cli as words
from needlewright.wording import finds as find_words


def add_narrowing(parser: argparse.ArgumentParser) -> None:
    """Add the options that choose among the finds of a job."""
    parser.add_argument("--grades", type=listed(GRADES), help=words.HELP["grades"])
    parser.add_argument("--kinds", type=kinds, help=words.HELP["kinds"])
    parser.add_argument("--removed-only", action="store_true", help=words.HELP["deliver_removed"])
    parser.add_argument("--folder", type=folder, help=words.HELP["deliver_folder"])
    parser.add_argument("--ids", type=numbers, help=words.HELP["ids"])
    parser.add_argument("--missing-only", action="store_true", help=words.HELP["deliver_missing"])


Missing = Callable[[Job, list[FindRow]], list[FindRow]]


def _finds_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    add_narrowing(parser)
    parser.add_argument("--tray-only", action="store_true", help=words.HELP["tray_only"])
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])


def _tray_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    what = parser.add_mutually_exclusive_group(required=True)
    what.add_argument("--add", action="store_true", help=words.HELP["tray_add"])
    what.add_argument("--remove", action="store_true", help=words.HELP["tray_remove"])
    what.add_argument("--clear", action="store_true", help=words.HELP["tray_clear"])
    add_narrowing(parser)


def is_narrowed(options: argparse.Namespace) -> bool:
    """Whether any of the options but the numbers of finds is given."""
    return (options.grades is not None or options.kinds is not None or options.removed_only
            or bool(options.folder) or options.missing_only)


def chosen(job: Job, options: argparse.Namespace, missing: Missing,
           tray_only: bool = False) -> list[FindRow]:
    """The finds that the options choose; NeedlewrightError for one, or a folder, that is unknown.
    """
    rows = job.matching(Filter(
        kinds=frozenset(options.kinds or ()), grades=frozenset(options.grades or ()),
        tray_only=tray_only, removed=True if options.removed_only else None))
    if job.damage is not None:
        print(f"needlewright: {errors.explain(_in_part(job))}", file=sys.stderr)
    if options.ids is not None:
        by_number = {row.id: row for row in rows}
        unknown = [number for number in options.ids if not job.rows([number])]
        if unknown:
            raise NeedlewrightError("find-unknown", find=unknown[0])
        rows = [by_number[number] for number in options.ids if number in by_number]
    if options.folder:
        rows = [row for row in rows if in_folder(row, options.folder)]
        if not any(in_folder(row, options.folder) for row in job.matching()):
            raise NeedlewrightError("folder-unknown", folder=options.folder)
    return missing(job, rows) if options.missing_only else rows


def _in_part(job: Job) -> JobError:
    return JobError("job-damaged-in-part", path=str(job.folder), reason=job.damage)


def in_folder(row: FindRow, folder: str) -> bool:
    return bool(row.path) and (row.path or "").startswith(folder + "/")


def _finds(options: argparse.Namespace, missing: Missing) -> int:
    with Job(options.job, read_only=not options.missing_only) as job:
        rows = chosen(job, options, missing, options.tray_only)
        if options.json:
            print(json.dumps([_told(job, row) for row in rows], ensure_ascii=False, indent=1))
            return 0
        for row in rows:
            share = f" {units.percent(row.share)}" if row.grade in ("mended", "partial") else ""
            print(f"{row.id:>6}  {row.grade + share:<14}  {units.size(row.size):>9}  "
                  f"{row.path or find_words.title(row)}")
        print(f"{units.count(len(rows), 'find')}")
    return 0


def _told(job: Job, row: FindRow) -> dict[str, Any]:
    record = job.record(row.id)
    told = entry(record, None, [], checks.reason, seams.describe_reason, changes.change,
                 volume_name(record, job.searched.volumes(row.source)), None)
    return {**told, "in_tray": row.in_tray}


def _tray(options: argparse.Namespace, missing: Missing) -> int:
    with Job(options.job) as job:
        if options.clear:
            rows: Sequence[FindRow] = job.matching(Filter(tray_only=True))
        else:
            if options.ids is None and not is_narrowed(options):
                raise NeedlewrightError("nothing-narrowed")
            rows = chosen(job, options, missing)
        numbers = [row.id for row in rows]
        (job.reviews.put_in_tray if options.add else job.reviews.take_from_tray)(numbers)
        count, size = job.reviews.tray_size()
        print(words.tray_told(count, size))
    return 0


register(Command("finds", _finds_arguments, lambda options: _finds(options, missing_of)))
register(Command("tray", _tray_arguments, lambda options: _tray(options, missing_of)))
