"""What the command line says."""

from __future__ import annotations

from collections.abc import Iterable

from needlewright.core.jobs.rows import TallyRow
from needlewright.wording import checks, finds, units

ABOUT = "Search a medium for removed photos, look at them, and deliver what is intact."
HELP = {
    "demo": "the demo job in the window, or the whole tour without a display",
    "headless": "no window: search, deliver and take pictures into this folder",
    "sources": "what is attached", "image": "copy a source", "search": "search a job's sources",
    "mend": "mend damaged pictures", "deliver": "hand over finds as a bag",
    "run": "all of it in one go",
    "job": "the job folder; made if it is not there", "to": "the folder that becomes the bag",
    "steps": "which ways of searching, with commas", "kinds": "which kinds, with commas",
    "area": "START:END in bytes", "grades": "which grades, with commas",
    "hash": "also hash the whole source", "source": "an image file or device",
    "image_file": "an image to search, if not in the job",
}


def counts(tally: Iterable[TallyRow]) -> list[str]:
    """Lines such as 'whole      57 finds, 58.1 MB'."""
    totals: dict[str, list[int]] = {}
    for row in tally:
        entry = totals.setdefault(row.grade, [0, 0])
        entry[0] += row.finds
        entry[1] += row.bytes
    if not totals:
        return ["no finds"]
    return [
        f"{grade:<9}{units.count(totals[grade][0], 'find'):>14}, {units.size(totals[grade][1])}"
        for grade in checks.GRADES if grade in totals]


def steps_known(names: Iterable[str]) -> str:
    return ", ".join(sorted(names, key=list(finds.STEPS).index))
