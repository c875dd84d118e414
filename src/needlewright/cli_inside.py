"""The command line's part about what a shelf offers, before any of it is fetched."""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from needlewright import cli_secrets
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.stopping import StopSignal
from needlewright.wording import cli as words
from needlewright.wording import inside as inside_words
from needlewright.wording import phones as phone_words
from needlewright.wording import shelves as shelf_words

MOST_NAMES = 64 << 20  # bytes of a list of names
MOST_TOLD = 3  # names that are said to be unknown


def add_command(commands: Any, narrowing: Callable[[argparse.ArgumentParser], None],
                plan: Callable[[argparse.Namespace], Plan],
                ready: Callable[[str, float], StopSignal]) -> None:
    """Add `inside`; `narrowing` adds the options that `plan` reads, `ready` waits for a phone."""
    inside = commands.add_parser("inside", help=words.HELP["inside"])
    inside.add_argument("source", metavar="SOURCE", help=words.HELP["inside_source"])
    narrowing(inside)
    inside.add_argument("--json", action="store_true", help=words.HELP["json"])
    inside.add_argument("--job", help=words.HELP["inside_job"])
    inside.add_argument("--names", action="store_true", help=words.HELP["inside_names"])
    inside.add_argument("--rows", action="store_true", help=words.HELP["inside_rows"])
    inside.add_argument("--thumbnails", metavar="DIR", help=words.HELP["inside_thumbnails"])
    inside.set_defaults(action=lambda options: _asked(options, plan, ready))


def _asked(options: argparse.Namespace, plan: Callable[[argparse.Namespace], Plan],
           ready: Callable[[str, float], StopSignal]) -> int:
    cli_secrets.use(options, [options.source])
    return _inside(options, plan(options), ready(options.source, options.wait))


def shelf_at(spec: str) -> DistantShelf:
    """What is at `spec`, opened; SourceError where it is no shelf that is elsewhere."""
    from needlewright.core.sources.registry import open_source

    source = open_source(spec)
    if not isinstance(source, DistantShelf):
        source.close()
        raise SourceError("inside-no-shelf", path=spec)
    return source


def keys_of(spec: str, file: str) -> frozenset[str]:
    """The keys of what the list in `file` names on the shelf at `spec`. Errors where it names what
    is not there, or nothing."""
    from needlewright.core.search.shelf_names import named_keys

    names = names_in(file)
    with shelf_at(spec) as shelf:
        keys, unknown = named_keys(shelf.offered(), names)
    if unknown:
        raise NeedlewrightError("names-unknown", path=spec, count=len(unknown),
                                names=", ".join(unknown[:MOST_TOLD]))
    return keys


def names_in(file: str) -> Sequence[str]:
    """The paths that the list in `file` names; an error where it is none."""
    try:
        with open(file, "rb") as opened:
            data = opened.read(MOST_NAMES + 1)
    except OSError as error:
        raise NeedlewrightError("names-unread", path=file,
                                reason=error.strerror or str(error)) from error
    if len(data) > MOST_NAMES:
        raise NeedlewrightError("names-unread", path=file, reason="it is too long")
    names = [line for line in data.decode("utf-8", "surrogateescape").splitlines() if line]
    if not names:
        raise NeedlewrightError("names-unread", path=file, reason="it names nothing")
    return names


def _inside(options: argparse.Namespace, plan: Plan, stop: StopSignal) -> int:
    from needlewright.cli_inside_rows import RowsInside
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
    from needlewright.core.jobs.already import already_there
    from needlewright.core.jobs.loss import loss_of
    from needlewright.core.jobs.store import Job
    from needlewright.core.jobs.usefulness import use_of
    from needlewright.wording.shelves import judged_line

    with Job(folder) as job:
        loss = loss_of(job)
        return judged_line(use_of(shelf.offered(), None, loss, already_there(job)), loss)
