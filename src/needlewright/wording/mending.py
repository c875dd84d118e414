"""The bench where pieces are joined by hand, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.core.codes import SeamWord
from needlewright.core.walks import Check, Outcome
from needlewright.wording import changes, seams, units
from needlewright.wording import checks as check_words

if TYPE_CHECKING:
    from collections.abc import Sequence

    from needlewright.core.jobfile.rows import FindRow
    from needlewright.core.jobs.handwork import Standing
    from needlewright.core.jobs.mending import Alternative
    from needlewright.core.mending.treating import Treated
    from needlewright.core.stitching.hand import Offer, Offers

WAITING = "Damaged"
NONE = "Nothing waits: no find is damaged so far."
NONE_TEXT = ("Finds that are not whole come here by themselves. Pieces that lie apart are put "
             "together by the step stitching first, under Search; what it leaves open can be "
             "joined by hand.")
OPENING = "Looking at its pieces…"
LOOKING = "Looking for the next piece…"
GOING_ON = "Putting together the rest…"
KEEPING = "Checking it all, to keep it…"
NEXT = "Next piece"
PROPOSED, WHY, CHANGED, PLACE = "Proposed", "Why", "Changed so far", "A place of your own"
JOIN, GO_ON, STOP, UNDO, REDO, KEEP = "Join", "Let it go on", "Stop", "Undo", "Redo", "Keep"
EARLIER, LATER = "Cut earlier  [", "Cut later  ]"
FOUND_ON, FOUND_OFF = "As found  B", "As joined  B"
PLACE_HINT = "31.204 GB, or a byte, or sector 61000"
PLACE_WRONG = ("\u201c{text}\u201d is no place. Write bytes, as 52428800 or 31.204 GB, or a "
               "sector, as sector 61000.")
UNTOUCHED = "Nothing. The bytes found stay as they are."
BESIDE = "The find as found is untouched; what you keep is a new find beside it."
KEPT = "Kept as a find of its own"
MEND, MEND_ALL, MENDING_NOW = "Mend  M", "Mend all  Shift+M", "Mending…"
BEFORE, AFTER, COMPARED = "as found", "mended", "The picture before and after"
MENDED_FROM = "The find that it was mended from"
WHAT_CHANGED, AS_IT_WAS, CHECKED = "What was changed", "As it was found", "Its checks now"
SHOW_MENDED, BY_HAND = "Show the mended find", "Join by hand  H"
UNTOUCHED_MENDED = "What was found stays as it is ({size}); the mended file lies beside it."
AS_IT_IS = "What was found stays as it is ({size})."
LEAVE_OUT, MAKE_AFTER_ALL = "leave this out", "make it after all"
OTHER_PLACES, UNDO_CHOICE = "Other places for the rest  O", "Undo  Ctrl+Z"
OTHER_COLOURS = "Other colours for the rest  C"
PLACES_COMING = "Mending it with each of the places that its least sure part may have…"
PLACES_DRAG = "Choose one below, or drag the rest of the picture to where it belongs."
PLACES_NONE = "No part of it has another place that comes near."
COLOURS_COMING = "Mending it with each of the colours that its least sure part may have…"
COLOURS_CHOOSE = "Choose one below."
COLOURS_NONE = "Everything that tells of its colours says the same."
WAYS = {"as-it-stands": "as it stands", "by-rows": "as the row above",
        "by-thumbnail": "as the thumbnail", "as-coded": "as the data has it",
        "like-above": "as bright as above"}
NOTHING_BEFORE = "nothing of it can be shown"
NOT_YET_MENDED = "Not mended yet: M mends it, Shift+M all that wait."
NO_PICTURES = "Neither of the two can be shown as a picture."
NO_PICTURE = "It cannot be shown yet."
NOTHING = "No free piece continues it."
WHAT = {"took": "piece joined", "place": "place joined", "cut-earlier": "cut earlier",
        "cut-later": "cut later", "went-on": "went on by itself"}


def waits_with(row: FindRow) -> str:
    """What is wrong with a find, as the waiting list says it."""
    if row.grade == "remnant":
        return "nothing of it plays so far" if row.kind == "video" else "hardly anything of it"
    if row.grade == "unproven":
        return "complete, but not proven"
    if row.damage_row is not None and row.height:
        return f"breaks at row {row.damage_row:,} of {row.height:,}"
    return f"{units.percent(row.share)} of it is there"


def place_reached(standing: Standing, height: int | None) -> str:
    """How far it goes: 'row 1,904 of 3,456', '12.4 s', '3.1 MB'."""
    if standing.ended:
        return "to its end"
    if standing.by_rows and height:
        return f"row {round(standing.share * height):,} of {height:,}"
    if standing.second is not None:
        return f"{standing.second:.1f} s"
    return units.size(standing.at)


def seam_label(standing: Standing, height: int | None) -> str:
    """What stands beside the line at the seam."""
    how = "drag to cut elsewhere"
    return f"seam: {place_reached(standing, height)}, {how}"


def next_line(offers: Offers) -> str:
    """What came of looking: '4 of 2,914 free pieces …'."""
    if not offers.best:
        return f"none of {offers.tried:,} free pieces" if offers.tried else ""
    shown = units.count(len(offers.best), "piece")
    return (f"{shown} of {offers.tried:,} free ones that were tried; "
            f"{offers.possible:,} of those could be")


def proposed(offer: Offer, start: int, standing: Standing, height: int | None,
             unit: int) -> list[str]:
    """What joining `offer`, at byte `start` of the source, would do."""
    word = "is proven" if offer.word is SeamWord.PROVEN else "would be likely"
    lines = [f"Join the piece at {units.place(start)}, {units.size(offer.count * unit)}: the seam "
             f"{word}."]
    if offer.end is not None:
        lines.append("The file is complete then.")
    elif standing.by_rows and height:
        lines.append(f"It goes on to row {round(offer.share * height):,} of {height:,} then.")
    elif offer.share > 0:
        lines.append(f"{units.percent(offer.share)} of the file is there then.")
    return lines


def complete(standing: Standing) -> list[str]:
    """What stands where nothing is missing."""
    pieces = units.count(len(standing.pieces), "piece")
    doubtful = sum(s.word is not SeamWord.PROVEN for s in standing.thread.seams)
    if not standing.thread.seams:
        return [f"It runs to its own end, in {pieces}."]
    seams_told = units.count(len(standing.thread.seams), "seam")
    told = f"{doubtful:,} likely" if doubtful else "proven"
    return [f"It runs to its own end: {pieces}, {seams_told}, {told}.",
            "Keep it, and every check is made."]


def changed(standing: Standing, steps: Sequence[str]) -> list[str]:
    """What was done so far."""
    if not steps:
        return [UNTOUCHED]
    last = ", ".join(WHAT.get(what, what) for what in steps[-4:])
    told = f"{len(steps) - 4:,} steps, then {last}" if len(steps) > 4 else last
    return [f"{told[0].upper()}{told[1:]}.", BESIDE]


def missing(standing: Standing) -> str:
    """What a thread that does not end still lacks."""
    share = standing.share
    if standing.ended or not 0 < share < 1:
        return "" if standing.ended else "the rest is missing"
    return f"about {units.size(round(standing.at / share * (1 - share)))} missing"


def offer_line(offer: Offer) -> str:
    """Below a small picture: why it may be the one."""
    return seams.briefly(offer.reasons)


def place_from(text: str, sector_size: int) -> int | None:
    """The byte that `text` names: '31.204 GB', '52,428,800', 'sector 61000'; None where none."""
    told = text.strip().replace(",", "").replace(" ", "").lower()
    if told.startswith("sector"):
        number = told.removeprefix("sector")
        return int(number) * sector_size if number.isdecimal() and len(number) < 19 else None
    for unit, name in (*units.STEPS, (1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB"),
                       (1, "bytes"), (1, "b")):
        if told.endswith(name.lower()):
            return _bytes(told.removesuffix(name.lower()), unit)
    return _bytes(told, 1)


def _bytes(number: str, unit: int) -> int | None:
    whole, dot, part = number.partition(".")
    if not (whole + part).isdecimal() or not (whole + part).isascii() or len(number) > 24:
        return None
    if unit == 1 and dot:
        return None
    value = int(whole or "0") * unit + (int(part) * unit // 10 ** len(part) if part else 0)
    return value if value < 1 << 62 else None


def mended_line(row: FindRow, checks: Sequence[Check]) -> str:
    """The grade of what was mended: 'mended: all of it is there, and every check passes', 'partial:
    97 % is there after mending, but nothing shows …'."""
    there = "all of it is there" if row.share >= 1.0 else f"{units.percent(row.share)} is there"
    if row.grade == "mended":
        return f"mended: {there}, and every check passes"
    doubt = next((check_words.reason(c) for c in checks if c.outcome is Outcome.DOUBT), "")
    if row.grade == "unproven" and not doubt:
        doubt = "its coding has no checksums that could prove it"
    return f"{row.grade}: {there} after mending" + (f", but {doubt}" if doubt else "")


def place_head(row: int) -> str:
    """Where a piece would begin: 'row 640', which large text has room for."""
    return f"row {row:,}"


def offer_of_rest(one: Alternative) -> tuple[str, str]:
    """A place or a colour that the rest may have, in two short lines."""
    if one.tone:
        return WAYS.get(one.way, one.way), f"from {place_head(one.row)}"
    return place_head(one.row), place_share(one.share)


def rest_line(colours: bool, looking: bool, asked: bool, some: bool, drags: bool) -> str:
    """What is said of other places or colours for the rest. `asked`: they were looked for until
    just now; `some`: there are; `drags`: the rest may be dragged."""
    if looking:
        return COLOURS_COMING if colours else PLACES_COMING
    if asked and not some:
        return COLOURS_NONE if colours else PLACES_NONE
    if colours:
        return COLOURS_CHOOSE if some else ""
    return PLACES_DRAG if drags else ""


def place_share(share: float) -> str:
    return f"{units.percent(share)} there"


def treated_line(grade: str, share: float, why: str) -> str:
    """What became of one that mending was tried on."""
    if grade == "mended":
        return f"mended, {units.percent(share)} of it"
    if grade == "unproven":
        return f"mended, {units.percent(share)} of it, not proven"
    if grade:
        return f"mended in part, {units.percent(share)} of it"
    return changes.why_not(why)


def not_mended(name: str, why: str) -> str:
    """Why nothing was done: 'BF_0214.JPG: nothing that could be put right was found in it.'"""
    return f"{name}: {why}."


def mending_line(name: str, number: int, count: int) -> str:
    """'mending BF_0188.JPG, 3 of 12'."""
    return f"mending {name}" + (f", {number + 1:,} of {count:,}" if count > 1 else "")


def told_line(name: str, done: Treated | None, kept: int | None) -> str:
    """What became of one file: 'BF_0412.JPG: mended, 100 %; its lost header was made from …'."""
    if done is None or kept is None:
        return not_mended(name, changes.why_not(done.why if done is not None else "unreadable"))
    told = "; ".join(changes.change(c) for c in done.changes)
    return f"{name}: {done.grade}, {units.percent(done.share)}; {told}"
