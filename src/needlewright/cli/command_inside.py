"""The command line's part about what a shelf offers, before any of it is fetched."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from needlewright.cli import secrets
from needlewright.cli.arguments import add_narrowing
from needlewright.cli.named import shelf_at
from needlewright.cli.registry import Command, register
from needlewright.cli.work import narrowed, when_ready
from needlewright.core.errors import NeedlewrightError
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.stopping import StopSignal
from needlewright.wording import cli as words
from needlewright.wording import inside as inside_words
from needlewright.wording import phones as phone_words
from needlewright.wording import shelves as shelf_words


def _inside_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="SOURCE", help=words.HELP["inside_source"])
    add_narrowing(parser)
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])
    parser.add_argument("--job", help=words.HELP["inside_job"])
    parser.add_argument("--names", action="store_true", help=words.HELP["inside_names"])
    parser.add_argument("--rows", action="store_true", help=words.HELP["inside_rows"])
    parser.add_argument("--thumbnails", metavar="DIR", help=words.HELP["inside_thumbnails"])


def _asked(options: argparse.Namespace) -> int:
    secrets.use(options, [options.source])
    return _inside(options, narrowed(options), when_ready(options.source, options.wait))


def _inside(options: argparse.Namespace, plan: Plan, stop: StopSignal) -> int:
    from needlewright.cli.inside_rows import RowsInside
    from needlewright.core.search.shelf_names import ShelfNames

    folder = Path(options.thumbnails) if options.thumbnails else None
    if folder is not None and folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise NeedlewrightError("thumbnails-there", path=options.thumbnails)
    with shelf_at(options.source) as shelf:
        shelf.heed(stop)
        wanted = list(ShelfNames(shelf.offered()).wanted(plan))
        rows = RowsInside(shelf, wanted, stop) if options.rows else None
        if options.json:
            print(json.dumps({"listed": shelf.missing(),
                              "files": [inside_words.as_json(one) for one in wanted],
                              **({"rows": rows.as_json()} if rows else {})}, indent=1))
        elif rows is not None:
            rows.show(options.names)
        else:
            for one in wanted:
                print(one.path if options.names else inside_words.line(one))
            if not options.names:
                print(inside_words.summary(wanted))
                print(phone_words.listed_line(shelf.missing()))
                for said, _ in shelf_words.own_notes(shelf.about()):
                    print(said)
            if options.job and not options.names:
                print(_judged(options.job, shelf))
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
            for number, one in enumerate(wanted, 1):
                picture = shelf.thumbnail(one.offered)
                if picture:
                    (folder / f"{number:06}.jpg").write_bytes(picture)
    return 0


def _judged(folder: str, shelf: DistantShelf) -> str:
    """How useful it is to a job."""
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.already import already_there
    from needlewright.core.jobs.loss import loss_of
    from needlewright.core.jobs.usefulness import use_of
    from needlewright.wording.shelves import judged_line

    with Job(folder) as job:
        loss = loss_of(job)
        return judged_line(use_of(shelf.offered(), None, loss, already_there(job)), loss)


register(Command("inside", _inside_arguments, _asked))
