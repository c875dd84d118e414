"""What is said of the files that a phone or another shelf offers, before any of them is fetched."""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from operator import attrgetter
from typing import TYPE_CHECKING, Any

from needlewright.core.codes import HIDDEN, UNFINISHED, VERSION
from needlewright.wording import checks, errors, finds, units

if TYPE_CHECKING:
    from collections.abc import Sequence

    from needlewright.core.errors import NeedlewrightError
    from needlewright.core.search.shelf_names import Inside

COLUMNS = ("", "name", "state", "day", "size", "folder")
LIVE, REFUSED, LACKING = "there", "refused", "content missing"
LOOK_INSIDE = "Look inside…"
HEAD = "What {name} offers"
HINT = ("Nothing has been fetched yet; small pictures are shown as far as it has them. Choose what "
        "is to be brought into the job; with nothing chosen, all that is shown is brought.")
LOOKING = "{name} is listed: {done:,} of {offered:,} files and folders so far."
ASKING = "{name} is asked what it holds…"
EMPTY = "It offers nothing of this."
FILTER = "part of a name or folder"
ONLY_REMOVED = "Removed only"
CLOSE = "Close"
ALL_KINDS = "All kinds"
NAMES = "names {path}"
NO_ROWS = "It offers no database of this."
READ_ROWS = "Read its rows"
ROWS_HEAD = "Rows of {name}"
ROWS_READING = "{name} is fetched and read; nothing of it goes into the job…"
ROWS_HINT = ("Removed rows stand first. Nothing of this was brought into the job yet.")
CHOOSE_NONE = "It names no file here"
CHOOSE_NAMED = "Choose it and the {files} it names"
DAYS = "days: 2031-05-09:2031-05-12"
BUSY = "A search is speaking with it; look inside when that has ended."


def flaw_line(error: NeedlewrightError) -> str:
    """What is wrong with the content of a file, as a sentence."""
    if error.code in checks.SENTENCES:
        told = checks.SENTENCES[error.code].format(**error.values)
        return f"{told[:1].upper()}{told[1:]}."
    return errors.explain(error)


def state(one: Inside, now: datetime | None = None) -> str:
    """'removed, 12 days left', 'hidden', 'there', 'refused'."""
    if one.offered.refused:
        return REFUSED
    if one.offered.problem:
        return LACKING
    if one.kept is None:
        return LIVE
    if one.kept.code in (HIDDEN, UNFINISHED):
        return one.kept.code
    if one.kept.code == VERSION:
        return f"as of {one.kept.original}"
    text = "removed"
    if one.kept.purge_at:
        until = datetime.fromisoformat(one.kept.purge_at)
        days = (until - (now or datetime.now(until.tzinfo))).days
        text += f", {units.count(days, 'day')} left" if days >= 0 else ", its time is up"
    return text


def day(one: Inside) -> str:
    """The day that it is dated; "" where it has none."""
    told = one.offered.created or one.offered.modified
    return told[:10] if told else ""


def size(one: Inside) -> str:
    return "" if one.offered.size is None else units.size(one.offered.size)


def line(one: Inside) -> str:
    """One file, for a list in a terminal."""
    return f"{state(one):<24}{size(one):>9}  {day(one):<10}  {one.path}"


def summary(every: Sequence[Inside]) -> str:
    """'29 files, 1.2 MB: 24 photos, 5 videos; 3 removed and still kept'."""
    total = sum(one.offered.size or 0 for one in every)
    counts = {str(kind): n for kind, n in Counter(map(attrgetter("kind"), every)).items()}
    kinds = finds.kinds_line(counts)
    text = f"{units.count(len(every), 'file')}, {units.size(total)}"
    text = f"{text}: {kinds}" if kinds else text
    removed = sum(1 for one in every if one.kept is not None and one.removed)
    return f"{text}; {removed:,} removed and still kept" if removed else text


def bring(chosen: Sequence[Inside], shown: int) -> str:
    """What the button says: 'Bring 3 files, 1.2 MB'."""
    if not chosen:
        return f"Bring all {shown:,}" if shown != 1 else "Bring it"
    total = sum(one.offered.size or 0 for one in chosen)
    return f"Bring {units.count(len(chosen), 'file')}, {units.size(total)}"


def as_json(one: Inside) -> dict[str, Any]:
    """One file, for other programs."""
    offered, kept = one.offered, one.kept
    return {"path": one.path, "name": one.name, "kind": str(one.kind), "size": offered.size,
            "created": offered.created, "modified": offered.modified, "state": (
                "refused" if offered.refused else "missing" if offered.problem else
                kept.code if kept else "live"),
            "removed": one.removed, "purge_at": kept.purge_at if kept else None,
            "refused": offered.refused or None, "problem": checks.SENTENCES[offered.problem]
            if offered.problem else None, "sha256": offered.sha256 or None,
            "shared_by": offered.shared_by or None, "reduced": offered.reduced}


def choose_named(count: int) -> str:
    """What the button below the rows of a database says: 'Choose it and the 3 files it names'."""
    return CHOOSE_NONE if not count else CHOOSE_NAMED.format(files=units.count(count, "file"))


def listing_line(name: str, told: tuple[int, int]) -> str:
    """How far a list is."""
    return LOOKING.format(name=name, done=told[0], offered=told[1]) if told[1] else (
        ASKING.format(name=name))


def cell(one: Inside, column: int) -> str:
    """What a column of the table says."""
    return ("", one.name, state(one), day(one), size(one), one.folder)[column]


def tip(one: Inside) -> str:
    """The whole path, and why nothing more is known of it."""
    refused = one.offered.refused
    if one.offered.problem:
        return f"{one.path}\n{checks.SENTENCES[one.offered.problem]}"
    return f"{one.path}\nThe device answers: {refused}" if refused else one.path
