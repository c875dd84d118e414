"""The commands about loose files: whether they are sound, and mending them."""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TextIO

from needlewright.cli.arguments import existing
from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.errors import NeedlewrightError
from needlewright.core.mending.treating import Treated, treat
from needlewright.core.names import one_line
from needlewright.core.search.examining import Examined, examine
from needlewright.core.sources.folders import files_in
from needlewright.wording import changes, checks, errors, units
from needlewright.wording import cli as words

TELL_SECONDS = 1.0
LIST = "mending.json"
STANDARD_OUTPUT = ("-", "/dev/stdout")


def _check_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help=words.HELP["paths"])
    parser.add_argument("--json", metavar="OUT", help=words.HELP["json_out"])


def _mend_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="*", metavar="PATH", help=words.HELP["paths"])
    parser.add_argument("--to", metavar="DIR", help=words.HELP["mend_to"])
    parser.add_argument("--reference", nargs="+", metavar="FILE", type=existing, default=[],
                      action="extend", help=words.HELP["reference"])
    parser.add_argument("--job", metavar="JOB", help=words.HELP["mend_job"])
    parser.add_argument("--json", metavar="OUT", help=words.HELP["json_out"])
    parser.set_defaults(parser=parser)  # which tells what does not go together


def _check(options: argparse.Namespace, stop: threading.Event) -> int:
    totals: Counter[str] = Counter()
    with listing(options.json, "files") as list_:
        for item in examine(files_in(options.path), stop):
            totals[_grade(item)] += 1
            list_.add(_told(item))  # first: what was said is listed, whatever happens then
            print(_line(item), flush=True)
        print(_totals(totals))
    if stop.is_set():
        raise KeyboardInterrupt
    return 1 if totals["unreadable"] else 0


def _opened(path: str | None) -> TextIO | None:
    """The list at `path`, which must not be there yet; None without one. Pipes and devices are
    written to as they are."""
    if path is None:
        return None
    if path in STANDARD_OUTPUT:
        return os.fdopen(os.dup(sys.__stdout__.fileno() if sys.__stdout__ else 1), "w",
                         encoding="utf-8")
    try:
        if os.path.exists(path) and not os.path.isfile(path) and not os.path.isdir(path):
            return open(path, "w", encoding="utf-8")
        return open(path, "x", encoding="utf-8")
    except FileExistsError as error:
        raise NeedlewrightError("list-there", path=path) from error


class Listing:
    """A JSON list that is written as it grows, so that ten thousand files take no memory."""

    def __init__(self, out: TextIO | None, name: str) -> None:
        self._out, self._first = out, True
        self.finished: bool | None = None  # told where an unfinished list is gone on with
        if out is not None:
            out.write(f'{{"needlewright": 1, "{name}": [')

    def add(self, told: dict[str, Any]) -> None:
        if self._out is None:
            return
        self._out.write(("" if self._first else ",") + "\n" + json.dumps(told))
        self._out.flush()  # killed in between, what is done is listed, a line each
        self._first = False

    def close(self) -> None:
        if self._out is not None:
            with self._out:
                told = "" if self.finished is None else (
                    f', "finished": {json.dumps(self.finished)}')
                self._out.write(f"\n]{told}}}\n")


@contextlib.contextmanager
def listing(path: str | None, name: str) -> Iterator[Listing]:
    """A list in the new file `path`, which is JSON to its end however the work ends. Where it goes
    to standard output, what is told besides goes to the other one."""
    list_ = Listing(_opened(path), name)
    aside = contextlib.redirect_stdout(sys.stderr) if path in STANDARD_OUTPUT else (
        contextlib.nullcontext())
    try:
        with aside:
            yield list_
    finally:
        list_.close()


def _grade(item: Examined) -> str:
    return "unreadable" if item.find is None else str(item.find.grade)


def _reason(item: Examined) -> str:
    if item.find is None:
        return errors.explain(item.error) if item.error is not None else ""
    against = [c for c in item.find.checks if c.outcome in ("fail", "doubt")]
    return f"{against[0].name}: {checks.reason(against[0])}" if against else ""


def _line(item: Examined) -> str:
    """One file: 'partial    55 %  BF_0188.JPG  coded data: breaks at row 1,904 of 3,456'."""
    share = "" if item.find is None else units.percent(item.find.share)
    return f"{_grade(item):<10} {share:>6}  {one_line(str(item.path))}  {_reason(item)}".rstrip()


def _told(item: Examined) -> dict[str, Any]:
    find = item.find
    if find is None:
        return {"path": str(item.path), "grade": None, "share": 0.0, "reason": _reason(item),
                "format": None, "kind": None, "size": None, "checks": []}
    return {
        "path": str(item.path), "grade": str(find.grade), "share": find.share,
        "reason": _reason(item), "format": find.format, "kind": str(find.kind), "size": find.size,
        "width": find.facts.width, "height": find.facts.height,
        "duration_s": find.facts.duration_s, "taken": find.facts.taken,
        "checks": [{"name": c.name, "outcome": str(c.outcome), "detail": checks.reason(c)}
                   for c in find.checks]}


def _totals(totals: Counter[str]) -> str:
    order = (*checks.GRADES, "unreadable")
    parts = [f"{totals[grade]:,} {grade}" for grade in order if totals[grade]]
    return f"{units.count(sum(totals.values()), 'file')}: {', '.join(parts) or 'none'}"


def _mend(options: argparse.Namespace, stop: threading.Event) -> int:
    if options.job is not None:
        if options.path or options.to is not None:
            options.parser.error(
                "--job mends the finds of a job; give no files and no --to with it")
        return _mend_job(options, stop)
    if not options.path or options.to is None:
        options.parser.error("give the files to mend, and --to DIR for what comes of them")
    to = _folder(Path(options.to))
    wanted = options.json or str(to / LIST)
    before = _unfinished(to / LIST) if options.json is None else []
    known = {told["input"] for told in before}
    paths = (path for path in files_in(options.path)
             if not _inside(path, to) and str(path) not in known)
    shown = _Shown()
    totals: Counter[str] = Counter()
    unread = 0
    with listing(wanted, "files") as list_:
        list_.finished = False
        for told in before:  # of a run that was interrupted
            list_.add(told)
        for done in treat(paths, to, [Path(r) for r in options.reference], stop, shown):
            shown.clear()
            totals[done.grade if done.output is not None else "left"] += 1
            unread += done.error is not None
            list_.add(_mended_told(done))
            print(_mended_line(done), flush=True)
        list_.finished = not stop.is_set()
        print(f"{units.count(totals['mended'], 'file')} mended, {totals['unproven']:,} unproven, "
              f"{totals['partial']:,} in part, {totals['left']:,} left as they are; the list is "
              f"{wanted}")
    if stop.is_set():
        raise KeyboardInterrupt
    return 1 if unread else 0


def _mend_job(options: argparse.Namespace, stop: threading.Event) -> int:
    from needlewright.core.jobfile.store import Job

    with Job(options.job) as job, listing(options.json, "finds") as list_:
        return 1 if mend_all(job, options.reference, stop, list_) else 0


def mend_all(job: Any, references: list[str], stop: threading.Event,
             list_: Listing | None = None) -> int:
    """Mend what is damaged in an open job, with these references, a line a find; how many could not
    be read."""
    from needlewright.core.jobs.mending import MendedFind, mend_finds, mendable

    kept = left = unread = 0
    for event in mend_finds(job, mendable(job), stop, [Path(r) for r in references]):
        if not isinstance(event, MendedFind):
            print(f"mending {one_line(event.name)}", file=sys.stderr, flush=True)
            continue
        kept, left = kept + (event.kept is not None), left + (event.kept is None)
        unread += event.error is not None
        if list_ is not None:
            list_.add(_find_told(event))
        print(_find_line(event), flush=True)
    print(f"{units.count(kept, 'find')} mended, {left:,} left as they are")
    if stop.is_set():
        raise KeyboardInterrupt
    return unread


def _find_line(event: Any) -> str:
    name = one_line(event.name)
    if event.kept is None or event.treated is None:
        why = errors.explain(event.error) if event.error else changes.why_not(event.why)
        return f"as it is   {name}: {why}"
    done = event.treated
    told = "; ".join(changes.change(c) for c in done.changes)
    return (f"{done.grade:<10} {name} (find {event.kept}): {units.percent(done.share)} "
            f"(before {units.percent(done.share_before)}); {told}")


def _find_told(event: Any) -> dict[str, Any]:
    done = event.treated
    return {"id": event.find, "mended": event.kept,
            "grade": done.grade if done else None, "share": done.share if done else None,
            "share_before": done.share_before if done else None,
            "changes": [changes.detail(c) for c in done.changes] if done and event.kept else [],
            "reference": done.reference if done else None,
            "reason": None if event.kept is not None else _find_line(event).partition(": ")[2]}


def _folder(path: Path) -> Path:
    """The folder for mended files, made if it is not there."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except FileExistsError as error:
        raise NeedlewrightError("to-not-a-folder", path=str(path)) from error
    return path


def _unfinished(path: Path) -> list[dict[str, Any]]:
    """What the list of an interrupted run says, which is taken away to be written anew; nothing
    where there is none. NeedlewrightError for one of a run that came to its end, or of anybody
    else."""
    try:
        lines = path.read_text(encoding="utf-8").splitlines()
    except FileNotFoundError:
        return []
    except (OSError, UnicodeDecodeError) as error:
        raise NeedlewrightError("list-there", path=str(path)) from error
    if lines[:1] != ['{"needlewright": 1, "files": ['] or '"finished": true' in lines[-1]:
        raise NeedlewrightError("list-there", path=str(path))
    found = []
    for line in lines[1:]:
        with contextlib.suppress(ValueError, TypeError, KeyError):  # the last one may be cut off
            told = json.loads(line.rstrip(","))
            if told["output"] is None or Path(told["output"]).exists():
                found.append(told)
    path.unlink()
    return found


def _inside(path: Path, folder: Path) -> bool:
    """What lies in the folder of mended files is no file to mend, unless that is the folder
    itself."""
    name = path.name
    return path.parent.resolve() == folder.resolve() and (
        name == LIST or (name.startswith(".") and "-mending." in name))


class _Shown:
    """Which file is being mended, on standard error."""

    def __init__(self) -> None:
        self._bar, self._told = sys.stderr.isatty(), time.monotonic()

    def __call__(self, path: Path, share: float) -> None:
        now = time.monotonic()
        if now - self._told < TELL_SECONDS:
            return
        self._told = now
        text = f"mending {one_line(path.name)}: {units.percent(share)}"
        end, start = ("", "\r") if self._bar else ("\n", "")
        print(f"{start}{text}", end=end, file=sys.stderr, flush=True)

    def clear(self) -> None:
        if self._bar:
            with contextlib.suppress(OSError):
                print("\r\033[K", end="", file=sys.stderr)


def _mended_line(done: Treated) -> str:
    name = one_line(str(done.path))
    if done.output is None:
        why = errors.explain(done.error) if done.error is not None else _why(done)
        return f"as it is   {name}: {why}"
    told = "; ".join(changes.change(c) for c in done.changes)
    told += "".join(f"; doubted: {changes.doubt(code)}" for code in done.doubts)
    return (f"{done.grade:<10} {name} -> {done.output.name}: {units.percent(done.share)} "
            f"(before {units.percent(done.share_before)}); {told}")


def _why(done: Treated) -> str:
    return changes.why_not(done.why)


def _mended_told(done: Treated) -> dict[str, Any]:
    told: dict[str, Any] = {
        "input": str(done.path), "output": None if done.output is None else str(done.output),
        "grade": done.grade or None, "share": done.share, "share_before": done.share_before,
        "changes": [changes.detail(c) for c in done.changes],
        "reference": done.reference,
    }
    if done.output is None:
        told["reason"] = errors.explain(done.error) if done.error is not None else _why(done)
    elif done.doubts:
        told["doubts"] = [changes.doubt(code) for code in done.doubts]
    return told


register(Command("check", _check_arguments, stoppable(_check)))
register(Command("mend", _mend_arguments, stoppable(_mend)))
