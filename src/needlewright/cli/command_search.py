"""The commands that search, hand over, and do all of it in one go."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from needlewright.cli import command_finds as finds
from needlewright.cli import secrets
from needlewright.cli.arguments import add_plan, existing
from needlewright.cli.command_files import mend_all
from needlewright.cli.named import keys_of, names_in
from needlewright.cli.registry import Command, register
from needlewright.cli.work import (
    PROGRESS_SECONDS,
    missing_of,
    plan_of,
    stop_on_interrupt,
    wait_until_ready,
)
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.jobfile.rows import Filter, FindRow, SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.beside import with_logs
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import is_distant
from needlewright.wording import cli as words
from needlewright.wording import errors


def _search_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", nargs="?", metavar="SOURCE", help=words.HELP["image_file"])
    parser.add_argument("--job", required=True, help=words.HELP["job"])
    add_plan(parser)


def _deliver_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    parser.add_argument("--to", required=True, metavar="DIR", help=words.HELP["to"])
    finds.add_narrowing(parser)
    parser.add_argument("--dry-run", action="store_true", help=words.HELP["dry_run"])


def _run_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", nargs="+", metavar="SOURCE", help=words.HELP["source"])
    parser.add_argument("--job", required=True, help=words.HELP["job"])
    parser.add_argument("--to", required=True, metavar="DIR", help=words.HELP["to"])
    parser.add_argument("--reference", nargs="+", metavar="FILE", type=existing, default=[],
                        help=words.HELP["reference"])
    parser.add_argument("--hash", action="store_true", help=words.HELP["hash"])
    add_plan(parser, anywhere=False)


def spec_of(given: Sequence[str]) -> str:
    """What to open what was given by: files and folders of files together, else one medium."""
    from needlewright.core.search.examining import are_files
    from needlewright.core.sources.open_folder import spec_of

    if are_files(given):
        return spec_of(given)
    if len(given) > 1:
        raise NeedlewrightError("not-yet", what="joining several sources into an array")
    return given[0]


def _search(options: argparse.Namespace) -> int:
    from needlewright.core.jobs.opening import job_for_image

    if options.source:
        secrets.use(options, [options.source])
        wait_until_ready(options.source, stop_on_interrupt(), options.wait)
        job, _ = job_for_image(options.job, spec_of([options.source]))
    else:
        job = Job(options.job)
    with job:
        rows = job.sources()
        if not rows:
            raise NeedlewrightError("source-none")
        shelves = [row for row in rows if is_distant(row.kind)]
        secrets.use(options, [row.path for row in shelves])
        if options.named and not shelves:
            raise SourceError("inside-no-shelf", path=rows[0].path)
        failed = False
        chosen = shelves if options.named else rows
        for row in chosen:
            try:
                _search_source(job, row, plan_of(options, options.area), options.named)
            except SourceError as error:  # the others are searched all the same
                if len(chosen) == 1:
                    raise
                failed = True
                print(f"needlewright: {errors.explain(error)}", file=sys.stderr)
        _refuse_unknown_folder(job, options.folder or "")
        print("\n".join(words.counts(job.tally())))
    return int(failed)


def _search_source(job: Job, row: SourceRow, plan: Plan, named: str | None) -> None:
    from needlewright.core.jobs.runner import run_search
    from needlewright.core.search.events import Note, Progress
    from needlewright.wording.activity import log_line, search_line

    stop = stop_on_interrupt()
    if named:
        plan = replace(plan, keys=keys_of(row.path, named))
    told, last = time.monotonic(), ""
    for event in run_search(job, row, plan, stop):
        if isinstance(event, Progress) and time.monotonic() - told > PROGRESS_SECONDS:
            told, line = time.monotonic(), search_line(row.name, event)
            if line != last:  # stitching may look for long before its counts change
                print(line, file=sys.stderr, flush=True)
            last = line
        elif isinstance(event, Note) and event.code in words.TOLD_NOTES:
            print(log_line(event.code, event.values), file=sys.stderr, flush=True)
    if stop.is_set():
        raise KeyboardInterrupt


def _deliver(options: argparse.Namespace) -> int:
    with Job(options.job) as job:
        tray_only = not finds.is_narrowed(options) and options.ids is None
        rows = finds.chosen(job, options, missing_of, tray_only)
        if options.dry_run:
            if all(row.grade == "gone" for row in rows):
                raise NeedlewrightError("nothing-chosen")
            print("\n".join(words.dry_run(with_logs(job, rows)[0])))
            return 0
        return _hand_over(job, rows, Path(options.to))


def _hand_over(job: Job, rows: list[FindRow], to: Path, empty: bool = False) -> int:
    from needlewright.core.delivery.bag import Delivered, deliver
    from needlewright.wording.activity import delivered_line, delivery_line
    from needlewright.wording.bag import words_for

    stop, told = stop_on_interrupt(), time.monotonic()
    for event in deliver(job, rows, to, words_for(job), stop, empty=empty):
        if isinstance(event, Delivered):
            print(delivered_line(event))
            print(event.path)
            return 0 if event.finished else 1
        if time.monotonic() - told > PROGRESS_SECONDS:
            told = time.monotonic()
            print(delivery_line(event), file=sys.stderr, flush=True)
    return 1


def _run(options: argparse.Namespace) -> int:
    from needlewright.core.jobs.opening import hash_source, job_for_image

    spec = spec_of(options.source)
    if Path(options.to).is_file():
        raise NeedlewrightError("to-not-a-folder", path=options.to)  # before anybody waits
    secrets.use(options, [spec])
    wait_until_ready(spec, stop_on_interrupt(), options.wait)
    job, row = job_for_image(options.job, spec)
    with job:
        _refuse_early(job, Path(options.to))
        if options.hash:
            hash_source(job, row)
        _search_source(job, row, plan_of(options, None), options.named)
        if options.reference:
            mend_all(job, options.reference, stop_on_interrupt())
        print("\n".join(words.counts(job.tally())))
        _refuse_unknown_folder(job, options.folder or "")
        every = Filter(kinds=frozenset(options.kinds or ()),
                       removed=True if options.removed_only else None)
        named = frozenset(names_in(options.named)) if options.named else frozenset()
        rows = [row for row in job.matching(every)
                if (not options.folder or finds.in_folder(row, options.folder))
                and (options.days is None or options.days.holds((row.modified, row.taken)))
                and (not options.named or row.path in named)]
        if options.missing_only:
            rows = missing_of(job, rows, row.id)
        return _hand_over(job, rows, Path(options.to), empty=True)


def _refuse_unknown_folder(job: Job, folder: str) -> None:
    """A folder that no record names is a mistake of typing, most likely."""
    if folder and not any(finds.in_folder(row, folder) for row in job.matching()):
        raise NeedlewrightError("folder-unknown", folder=folder)


def _refuse_early(job: Job, to: Path) -> None:
    """A destination that will be refused is refused before hours of searching, not after."""
    from needlewright.core.delivery.bag import destination_guards
    from needlewright.core.delivery.guards import refuse

    refuse(destination_guards(job, [], to))





register(Command("search", _search_arguments, _search))
register(Command("deliver", _deliver_arguments, _deliver))
register(Command("run", _run_arguments, _run))
