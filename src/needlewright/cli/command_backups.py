"""The command line's part about backups: which there are, when the loss was, what is the same."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from needlewright.cli import secrets
from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.errors import NeedlewrightError
from needlewright.core.names import one_line
from needlewright.core.stopping import StopSignal
from needlewright.wording import cli as words
from needlewright.wording import shelves as shelf_words


def _backups_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("place", nargs="*", metavar="PLACE", help=words.HELP["backups_place"])
    parser.add_argument("--job", help=words.HELP["backups_job"])
    parser.add_argument("--loss", type=_day, metavar="DAY", help=words.HELP["backups_loss"])
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])
    secrets.add_option(parser)


def _loss_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    when = parser.add_mutually_exclusive_group()
    when.add_argument("--day", type=_day, help=words.HELP["loss_day"])
    when.add_argument("--after", type=int, metavar="FIND", help=words.HELP["loss_after"])
    when.add_argument("--unknown", action="store_true", help=words.HELP["loss_unknown"])


def _compare_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])


def _day(text: str) -> str:
    from needlewright.core.jobs.loss import day_of

    try:
        return day_of(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"'{text}' is no day as YYYY-MM-DD") from error


def _backups(options: argparse.Namespace, stop: StopSignal) -> int:
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.already import Already, already_there
    from needlewright.core.jobs.loss import UNKNOWN, Loss, loss_of
    from needlewright.core.jobs.usefulness import places_of, ranked
    from needlewright.core.shelves.backups.finding import find_backups

    loss, there, own = UNKNOWN, Already(), list[Path]()
    if options.job:
        with Job(options.job) as job:
            loss, there = loss_of(job), already_there(job)
            own = places_of(job)
    places = [*map(Path, options.place), *own]
    if not places:
        raise NeedlewrightError("backups-no-place")
    if options.loss:
        loss = Loss(options.loss)
    secrets.use_for_backups(options)
    found = list(find_backups(places, stop, _told, own))
    if not found:
        raise NeedlewrightError("backups-none", path=", ".join(map(str, places)))
    order = ranked(found, loss, there)
    if options.json:
        print(json.dumps([shelf_words.as_json(one, use) for one, use in order], indent=1))
    else:
        for number, (one, use) in enumerate(order, 1):
            print("\n".join(shelf_words.lines(number, one, use, loss)))
        print(shelf_words.NEVER_RESTORED)
    if stop.is_set():
        raise KeyboardInterrupt
    return 0


def _told(path: Path) -> None:
    print(shelf_words.LOOKING_AT.format(path=one_line(str(path))), file=sys.stderr, flush=True)


def _loss(options: argparse.Namespace) -> int:
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.loss import UNKNOWN, Loss, after_find, loss_of, set_loss

    with Job(options.job) as job:
        if options.day:
            set_loss(job, Loss(options.day))
        elif options.after is not None:
            set_loss(job, after_find(job, options.after))
        elif options.unknown:
            set_loss(job, UNKNOWN)
        print(shelf_words.loss_line(loss_of(job)))
    return 0


def _compare(options: argparse.Namespace, stop: StopSignal) -> int:
    from needlewright.core.jobfile.rows import Filter
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.comparing import Versions, compare, missing_of

    with Job(options.job) as job:
        pairs = [event for event in compare(job, stop) if isinstance(event, Versions)]
        lacking = {row.id for row in missing_of(job, job.matching(Filter()))}
        if options.json:
            print(json.dumps({"same": [{"one": p.one, "other": p.other, "relation": p.relation}
                                       for p in pairs], "missing": sorted(lacking)}, indent=1))
        else:
            names = {row.id: row for row in job.rows(
                sorted({n for p in pairs for n in (p.one, p.other)} | lacking))}
            sources = {row.id: row.name for row in job.sources()}
            for pair in pairs:
                print(shelf_words.pair_line(names[pair.one], names[pair.other], pair.relation,
                                            sources))
            print(shelf_words.compared_line(pairs, len(lacking)))
    if stop.is_set():
        raise KeyboardInterrupt
    return 0


register(Command("backups", _backups_arguments, stoppable(_backups)))
register(Command("loss", _loss_arguments, _loss))
register(Command("compare", _compare_arguments, stoppable(_compare)))
