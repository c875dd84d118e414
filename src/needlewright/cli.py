"""The command line: the same core without the window.

Results go to standard output, progress and failures to standard error. Exit status 0 on success,
1 on a failure with one clear line, 2 on wrong arguments.
"""

from __future__ import annotations

import argparse
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from needlewright import (
    __version__,
    cli_backups,
    cli_files,
    cli_finds,
    cli_inside,
    cli_join,
    cli_media,
    cli_phones,
    cli_rows,
    cli_secrets,
)
from needlewright.commands import COMMANDS
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.jobs.beside import with_logs
from needlewright.core.jobs.rows import Filter, FindRow, SourceRow
from needlewright.core.jobs.store import Job
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import is_distant
from needlewright.core.stopping import Interrupted
from needlewright.wording import cli as words
from needlewright.wording import errors

GRADES = ("whole", "unproven", "mended", "partial", "remnant")
PROGRESS_SECONDS = 1.0
PHONE_SECONDS = 60.0  # that a phone is waited for, if nothing else is asked
WRONG_ARGUMENTS = frozenset(("find-unknown", "folder-unknown", "nothing-narrowed",
                              "hand-no-find", "hand-no-offer", "hand-no-place", "steps-unfit",
                              "address-wrong", "onto-no-phone", "inside-no-shelf",
                              "secret-in-address", "backups-no-place", "standin-no-control"))


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    if not given or (given[0] not in COMMANDS and not given[0].startswith("-")):
        return _window(given)
    options = _parser().parse_args(given)
    try:
        status = int(options.action(options))
        sys.stdout.flush()
        return status
    except BrokenPipeError:
        # Whoever read it has seen enough; what is still buffered must not complain at the end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 1
    except NeedlewrightError as error:
        more = f" {words.SECRET_HINT}" if error.code == "secret-wanted" else ""
        print(f"needlewright: {errors.explain(error)}{more}", file=sys.stderr)
        return 2 if error.code in WRONG_ARGUMENTS else 1
    except (KeyboardInterrupt, Interrupted):
        print("needlewright: interrupted; what was saved is safe.", file=sys.stderr)
    except OSError as error:
        print(f"needlewright: {errors.explain(error)}", file=sys.stderr)
    return 1


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="needlewright", description=words.ABOUT)
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    help_for = words.HELP

    demo = commands.add_parser("demo", help=help_for["demo"])
    demo.add_argument("--headless", metavar="DIR", help=help_for["headless"])
    demo.set_defaults(action=_demo)

    search = commands.add_parser("search", help=help_for["search"])
    search.add_argument("source", nargs="?", metavar="SOURCE", help=help_for["image_file"])
    search.add_argument("--job", required=True, help=help_for["job"])
    _add_plan(search)
    search.set_defaults(action=_search)

    deliver = commands.add_parser("deliver", help=help_for["deliver"])
    deliver.add_argument("--job", required=True, help=help_for["job_there"])
    deliver.add_argument("--to", required=True, metavar="DIR", help=help_for["to"])
    cli_finds.add_narrowing(deliver, _listed(GRADES), _kinds, _numbers, _folder)
    deliver.add_argument("--dry-run", action="store_true", help=help_for["dry_run"])
    deliver.set_defaults(action=_deliver)

    run = commands.add_parser("run", help=help_for["run"])
    run.add_argument("source", nargs="+", metavar="SOURCE", help=help_for["source"])
    run.add_argument("--job", required=True, help=help_for["job"])
    run.add_argument("--to", required=True, metavar="DIR", help=help_for["to"])
    run.add_argument("--reference", nargs="+", metavar="FILE", type=_existing, default=[],
                     help=help_for["reference"])
    run.add_argument("--hash", action="store_true", help=help_for["hash"])
    _add_plan(run, area=False)
    run.set_defaults(action=_run)

    cli_media.add_commands(commands, _area, _stop_on_interrupt)
    cli_join.add_command(commands, _stop_on_interrupt)
    cli_files.add_commands(commands, _existing, _stop_on_interrupt)
    cli_finds.add_commands(commands, _listed(GRADES), _kinds, _numbers, _folder, _missing_of)
    cli_rows.add_command(commands, _existing, _stop_on_interrupt)
    cli_phones.add_command(commands, _stop_on_interrupt, _numbers)
    cli_inside.add_command(commands, _add_narrowing, _narrowed, _when_ready)
    cli_backups.add_commands(commands, _stop_on_interrupt)
    return parser


def _add_plan(parser: argparse.ArgumentParser, area: bool = True) -> None:
    parser.add_argument("--steps", type=_steps, help=words.HELP["steps"])
    _add_narrowing(parser)
    parser.add_argument("--named", metavar="FILE", type=_existing, help=words.HELP["named"])
    parser.add_argument("--missing-only", action="store_true", help=words.HELP["missing_only"])
    parser.add_argument("--formats", type=_formats, help=words.HELP["formats"])
    parser.add_argument("--every-byte", action="store_true", help=words.HELP["every_byte"])
    parser.add_argument("--skip-frames", action="store_true", help=words.HELP["skip_frames"])
    parser.add_argument("--free-only", action="store_true", help=words.HELP["free_only"])
    if area:
        parser.add_argument("--area", type=_area, help=words.HELP["area"])


def _add_narrowing(parser: argparse.ArgumentParser) -> None:
    """What narrows a search by names and dates."""
    parser.add_argument("--kinds", type=_kinds, help=words.HELP["kinds"])
    parser.add_argument("--removed-only", action="store_true", help=words.HELP["removed_only"])
    parser.add_argument("--folder", type=_folder, help=words.HELP["folder"])
    parser.add_argument("--days", type=_days, help=words.HELP["days"])
    parser.add_argument("--wait", type=cli_media.seconds, default=PHONE_SECONDS,
                        help=words.HELP["patience"])
    cli_secrets.add_option(parser)


def _listed(known: Sequence[str]) -> Callable[[str], tuple[str, ...]]:
    def parse(text: str) -> tuple[str, ...]:
        chosen = tuple(part.strip() for part in text.split(",") if part.strip())
        for part in chosen:
            if part not in known:
                raise argparse.ArgumentTypeError(
                    f"'{part}' is not one of {', '.join(known)}")
        if not chosen:
            raise argparse.ArgumentTypeError(f"nothing is chosen; give one of {', '.join(known)}")
        return chosen
    return parse


def _steps(text: str) -> tuple[str, ...]:
    from needlewright.core.search.registry import steps

    return _listed(list(steps()))(text)


def _folder(text: str) -> str:
    if not text.strip("/ "):
        raise argparse.ArgumentTypeError("no folder is named")
    return text.strip("/")


def _days(text: str) -> object:
    from needlewright.core.search.days import days_of

    try:
        return days_of(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text} is not FROM:TO, as YYYY-MM-DD") from error


def _existing(text: str) -> str:
    if not Path(text).is_file():
        raise argparse.ArgumentTypeError(f"there is no file {text}")
    return text


def _numbers(text: str) -> tuple[int, ...]:
    parts = [part.strip() for part in text.split(",") if part.strip()]
    if not parts or not all(part.isdigit() for part in parts):
        raise argparse.ArgumentTypeError(f"'{text}' is no list of find numbers")
    return tuple(int(part) for part in parts)


def _kinds(text: str) -> tuple[str, ...]:
    from needlewright.core.walks import Kind

    return _listed([str(k) for k in Kind])(text)


def _formats(text: str) -> tuple[str, ...]:
    from needlewright.core.formats.registry import formats

    return _listed(list(formats()))(text)


def _area(text: str) -> tuple[int, int]:
    start, colon, stop = text.partition(":")
    if not colon or not start.isdigit() or not stop.isdigit() or int(start) >= int(stop):
        raise argparse.ArgumentTypeError(f"'{text}' is not START:END in bytes")
    return int(start), int(stop)


def _window(given: Sequence[str]) -> int:
    unknown = bool(given) and not Path(given[0]).is_dir()
    if len(given) > 1 or unknown:
        what = f"'{given[0]}' is neither a command nor a job folder. " if unknown else ""
        print(f"needlewright: {what}Give one job folder, or a command (see --help).",
              file=sys.stderr)
        return 2
    if not cli_phones.displayed():
        print("needlewright: there is no display to open a window on; see --help for what works "
              "without one.", file=sys.stderr)
        return 1
    from needlewright.app.main import run_window

    return run_window(given[0] if given else None)


def _demo(options: argparse.Namespace) -> int:
    if options.headless is None:
        if not cli_phones.displayed():
            print("needlewright: there is no display; give --headless DIR for the tour without "
                  "one.", file=sys.stderr)
            return 1
        from needlewright.app.main import run_window

        return run_window(None, demo=True)
    from needlewright.app.tour import take_tour

    return take_tour(Path(options.headless))


def _plan(options: argparse.Namespace, area: tuple[int, int] | None) -> Plan:
    from needlewright.core.search.registry import steps
    from needlewright.core.sources.source import Span

    return replace(
        _narrowed(options), steps=tuple(options.steps or steps()),
        area=Span(*area) if area else None, formats=frozenset(options.formats or ()),
        every_byte=options.every_byte, every_frame=not options.skip_frames,
        free_only=options.free_only, patience=options.wait, missing_only=options.missing_only)


def _narrowed(options: argparse.Namespace) -> Plan:
    """A plan of what `_add_narrowing` offers."""
    from needlewright.core.walks import Kind

    return Plan((), frozenset(Kind(k) for k in options.kinds or ()), days=options.days,
                removed_only=options.removed_only, folder=options.folder or "")


def _when_ready(spec: str, patience: float) -> threading.Event:
    """The signal to stop, once a phone at `spec` is ready."""
    stop = _stop_on_interrupt()
    cli_phones.wait_until_ready(spec, stop, patience)
    return stop


def _spec(given: Sequence[str]) -> str:
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
        cli_secrets.use(options, [options.source])
        cli_phones.wait_until_ready(options.source, _stop_on_interrupt(), options.wait)
        job, _ = job_for_image(options.job, _spec([options.source]))
    else:
        job = Job(options.job)
    with job:
        rows = job.sources()
        if not rows:
            raise NeedlewrightError("source-none")
        shelves = [row for row in rows if is_distant(row.kind)]
        cli_secrets.use(options, [row.path for row in shelves])
        if options.named and not shelves:
            raise SourceError("inside-no-shelf", path=rows[0].path)
        failed = False
        chosen = shelves if options.named else rows
        for row in chosen:
            try:
                _search_source(job, row, _plan(options, options.area), options.named)
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

    stop = _stop_on_interrupt()
    if named:
        plan = replace(plan, keys=cli_inside.keys_of(row.path, named))
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


def _stop_on_interrupt() -> threading.Event:
    """Ctrl+C stops the work cleanly; pressed again, it ends the program."""
    stop = threading.Event()

    def interrupted(number: int, frame: object) -> None:
        stop.set()
        signal.signal(signal.SIGINT, signal.default_int_handler)

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, interrupted)
    return stop


def _deliver(options: argparse.Namespace) -> int:
    with Job(options.job) as job:
        tray_only = not cli_finds.is_narrowed(options) and options.ids is None
        rows = cli_finds.chosen(job, options, _missing_of, tray_only)
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

    stop, told = _stop_on_interrupt(), time.monotonic()
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

    spec = _spec(options.source)
    if Path(options.to).is_file():
        raise NeedlewrightError("to-not-a-folder", path=options.to)  # before anybody waits
    cli_secrets.use(options, [spec])
    cli_phones.wait_until_ready(spec, _stop_on_interrupt(), options.wait)
    job, row = job_for_image(options.job, spec)
    with job:
        _refuse_early(job, Path(options.to))
        if options.hash:
            hash_source(job, row)
        _search_source(job, row, _plan(options, None), options.named)
        if options.reference:
            cli_files.mend_all(job, options.reference, _stop_on_interrupt())
        print("\n".join(words.counts(job.tally())))
        _refuse_unknown_folder(job, options.folder or "")
        every = Filter(kinds=frozenset(options.kinds or ()),
                       removed=True if options.removed_only else None)
        named = frozenset(cli_inside.names_in(options.named)) if options.named else frozenset()
        rows = [row for row in job.matching(every)
                if (not options.folder or cli_finds.in_folder(row, options.folder))
                and (options.days is None or options.days.holds((row.modified, row.taken)))
                and (not options.named or row.path in named)]
        if options.missing_only:
            rows = _missing_of(job, rows, row.id)
        return _hand_over(job, rows, Path(options.to), empty=True)


def _missing_of(job: Job, rows: list[FindRow], source: int | None = None) -> list[FindRow]:
    """The ones among `rows` that the job has nowhere else, whatever they are called there."""
    from needlewright.core.jobs.comparing import compare, missing_of

    for _ in compare(job, _stop_on_interrupt()):
        pass
    return missing_of(job, rows, source)


def _refuse_unknown_folder(job: Job, folder: str) -> None:
    """A folder that no record names is a mistake of typing, most likely."""
    if folder and not any(cli_finds.in_folder(row, folder) for row in job.matching()):
        raise NeedlewrightError("folder-unknown", folder=folder)


def _refuse_early(job: Job, to: Path) -> None:
    """A destination that will be refused is refused before hours of searching, not after."""
    from needlewright.core.delivery.bag import destination_guards
    from needlewright.core.delivery.guards import refuse

    refuse(destination_guards(job, [], to))


if __name__ == "__main__":
    sys.exit(main())
