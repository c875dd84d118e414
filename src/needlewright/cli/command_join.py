"""The command that joins the pieces of one find by hand, a step at a time; the job keeps the thread
from one call to the next."""

from __future__ import annotations

import argparse
import json
import threading
from typing import TYPE_CHECKING, Any

from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.errors import NeedlewrightError
from needlewright.wording import cli as words

if TYPE_CHECKING:
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.handwork import Handwork
    from needlewright.core.stitching.hand import Offers


def _join_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("find", nargs="?", type=_number, metavar="FIND",
                      help=words.HELP["join_find"])
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    step = parser.add_mutually_exclusive_group()
    step.add_argument("--take", type=_number, metavar="N", help=words.HELP["take"])
    step.add_argument("--at", metavar="PLACE", help=words.HELP["take_at"])
    step.add_argument("--cut", type=_number, metavar="COUNT", help=words.HELP["cut"])
    step.add_argument("--go-on", action="store_true", help=words.HELP["go_on"])
    step.add_argument("--undo", action="store_true", help=words.HELP["undo"])
    step.add_argument("--redo", action="store_true", help=words.HELP["redo"])
    step.add_argument("--keep", action="store_true", help=words.HELP["keep"])
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])


def _number(text: str) -> int:
    if not text.isascii() or not text.isdecimal() or len(text) > 12:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number")
    return int(text)


def _join(options: argparse.Namespace, stop: threading.Event) -> int:
    from needlewright.core.jobfile.store import Job
    from needlewright.core.jobs.handwork import Handwork

    with Job(options.job) as job:
        if options.find is None:
            if options.json or options.keep or _asked(options):
                raise NeedlewrightError("hand-no-find")
            _list_waiting(job)
            return 0
        if not job.rows([options.find]):
            raise NeedlewrightError("find-unknown", find=options.find)
        bench = Handwork(job, options.find, stop)
        try:
            if options.keep:
                print(words.joined_line(job.record(bench.keep())))
                return 0
            _one_step(bench, options)
            offers = None if bench.standing().ended else bench.offers()
            print(_as_json(bench, offers) if options.json else "\n".join(_told(bench, offers)))
        finally:
            bench.close()
    return 0


def _list_waiting(job: Job) -> None:
    from needlewright.core.names import one_line
    from needlewright.core.stitching.base import formats_by_hand
    from needlewright.wording import finds, mending

    rows = job.rows(job.places.damaged(("photo", "video"), formats_by_hand()))
    for row in rows:
        print(f"{row.id:>6}  {one_line(finds.title(row))}: {mending.waits_with(row)}")
    if not rows:
        print(mending.NONE)


def _asked(options: argparse.Namespace) -> bool:
    return bool(options.go_on or options.undo or options.redo) or any(
        value is not None for value in (options.take, options.at, options.cut))


def _one_step(bench: Handwork, options: argparse.Namespace) -> None:
    from needlewright.wording.mending import place_from

    standing = bench.standing()
    if options.take is not None:
        best = () if standing.ended else bench.offers().best
        if not 1 <= options.take <= len(best):
            raise NeedlewrightError("hand-no-offer", number=options.take)
        bench.take(best[options.take - 1], best=options.take == 1)
    elif options.at is not None:
        place = place_from(options.at, bench.sector_size)
        if place is None:
            raise NeedlewrightError("hand-no-place", text=options.at)
        bench.take_at(place)
    elif options.cut is not None:
        bench.cut(options.cut)
    elif options.go_on:
        if not bench.go_on():
            raise NeedlewrightError("hand-nothing-more")
    elif options.undo:
        bench.undo()
    elif options.redo:
        bench.redo()


def _told(bench: Handwork, offers: Offers | None) -> list[str]:
    from needlewright.wording import mending, units

    standing, row = bench.standing(), bench.record.row
    lines = [words.piece_line(start, length) for start, length in standing.pieces]
    if standing.ended or offers is None:
        return [*lines, *mending.complete(standing)]
    lines.append(words.reaches(mending.place_reached(standing, row.height),
                               mending.missing(standing)))
    lines.append(mending.next_line(offers) if offers.best else mending.NOTHING)
    for number, offer in enumerate(offers.best, 1):
        start = bench.hand.pool.start(offer.first)
        lines.append(f"{number:>3}  {start:>16,}  {units.size(offer.count * standing.unit):>9}  "
                     f"{offer.word}: {mending.offer_line(offer)}")
    return lines


def _as_json(bench: Handwork, offers: Offers | None) -> str:
    standing = bench.standing()
    told = {
        "find": standing.number, "pieces": [list(p) for p in standing.pieces],
        "share": round(standing.share, 4), "complete": standing.ended, "unit": standing.unit,
        "clusters": len(standing.thread.clusters),
        "seams": [{"at": s.at, "word": str(s.word), "reasons": _reasons(s.reasons)}
                  for s in standing.thread.seams],
        "offers": [{"start": bench.hand.pool.start(o.first), "length": o.count * standing.unit,
                    "share": round(o.share, 4), "word": str(o.word),
                    "reasons": _reasons(o.reasons)} for o in (offers.best if offers else ())],
    }
    return json.dumps(told, indent=1)


def _reasons(reasons: Any) -> list[dict[str, Any]]:
    return [{"code": r.code, **r.values} for r in reasons]


register(Command("join", _join_arguments, stoppable(_join)))
