"""What mending changed, what stands in its way, and why nothing can be done: in words."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from needlewright.wording import breaks, units

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from needlewright.core.mending.base import Change

CHANGES = {
    "header-lent": "its lost header was made from that of {reference}; no date, place or "
                   "orientation was taken over",
    "in-line": "{bytes_size} that stand in line behind what was found were taken as its own",
    "header-left": "its beginning is lost; what the picture needs was still there and "
                   "begins it now",
    "codes-usual": "its lost tables of codes are the usual ones, with which all of it decodes",
    "size-found": "its size, {width:,} × {height:,} pixels, was found by how its rows continue",
    "double-removed": "{bytes_size} that stood twice, {at_place} into the file, were taken "
                      "out once",
    "rows-placed": "what lies behind {breaks_count} was put back in its place ({rows_text}); some "
                   "blocks at the joint itself may be wrong",
    "levels-by-thumbnail": "the brightness of {parts_count} was set by the embedded thumbnail",
    "written-anew": "its data was written anew; what belonged to no part of it was left out",
    "blocks-doubted": "{share_percent} of the picture is kept, but bytes were added to it or lost "
                      "from it",
    "blocks-missing": "{share_percent} of the picture is not there and was left a neutral grey"
                      "{areas_text}",
    "scans-joined": "its passes were taken up again behind {breaks_count}, and written as one",
    "detail-missing": "{share_percent} of the picture lacks some of its detail{areas_text}",
    "data-left-out": "{blocks:,} blocks that decode, but belong to no place that shows, were left "
                     "out",
    "end-added": "the end that was missing was added",
    "line-ends": "{bytes:,} line ends that a transfer in text mode had changed were put back",
    "index-made": "a new index was made of {samples:,} samples that were found in the data",
    "index-of-picture": "its index was made from that of {reference}; no date or place was taken "
                        "over",
    "index-by-data": "its index was made from what the coded picture says of itself",
    "tiles-put-back": "{parts_count} that stood elsewhere than its index says was put back",
    "index-lent": "how its samples are coded was taken from {reference}",
    "described-by-data": "how its samples are coded was read from the data itself, which "
                         "repeats it",
    "samples-dropped": "{samples_count} left out ({seconds_text})",
    "rest-cut-off": "{share_percent} of its data was cut off and is not there",
    "sizes-corrected": "{count:,} wrong sizes or offsets were corrected",
    "frames-joined": "{count:,} frames of sound that pass their own checks were put one behind "
                     "another",
    "placed-by-hand": "{parts_count} of it stands where a person put it",
    "colour-by-hand": "{parts_count} of it has the colour that a person chose",
    "left-out": "by hand: {change_text}",
    "preview-taken": "the camera's own preview was taken in its place, at its true size, "
                     "{width:,} × {height:,} pixels",
    "packets-in-step": "{count:,} packets were put in step again",
    "sums-made": "{count:,} checksums were made anew",
    "header-made": "its header was made from what the data is",
    "rows-missing": "{rows_count} of {total:,} {rows_verb} not there in full; what is missing was "
                    "left neutral",
    "layers-left-out": "its layers cannot be reached any more and were left out; the merged "
                       "picture was kept",
    "frames-missing": "{count:,} stretches that do not decode were left out",
    "put-back": "what lies behind {bytes_size} that are missing or foreign, {at_place} into the "
                "file, was put back in its place",
    "taken-up": "its compressed data was taken up again behind the damage, from row {row:,} on",
}
LEFT = {
    "double-removed": "what seems to stand twice was left in",
    "levels-by-thumbnail": "the brightness of the parts was left as they join",
    "in-line": "only what was found was taken",
    "line-ends": "the line ends were left as they are",
}
DOUBTS = {
    "preview": "it is the preview, not the picture",
    "by-hand": "a part of it was placed, or given its colour, by hand",
    "placed-by-end": "a part of it was placed by the end of the data alone",
    "tails-placed": "where the ends of some of its segments belong is only likely",
    "loss-inside": "bytes are missing at a place that nothing shows; the picture is wrong behind "
                   "it",
    "tiles-struck": "part of the picture decodes, but bytes were added to it or lost from it",
    "tiles-by-order": "which part of the picture each tile is, is only likely",
    "rows-guessed": "in which row a part of it belongs is only likely",
    "differs": "the embedded thumbnail shows parts of it otherwise",
    "unwitnessed": "it is broken in several places, and no thumbnail bears out how it was joined",
    "levels-guessed": "how bright a part of it must be is not sure",
    "left-out": "some of its data has no place",
    "pace-guessed": "nothing says how fast its pictures follow each other",
    "sound-unknown": "some of its data is of no known coding, and may be its sound",
    "many-breaks": "it is broken in very many places",
    "scans-missing": "later passes of it are missing, so that it is less sharp from there on",
    "unproven": "nothing shows that all of it is its own",
}
NOTHING = {
    "whole": "it is whole",
    "empty": "it is empty",
    "unreadable": "it cannot be read",
    "no-way": "no way to mend this format is known",
    "no-better": "what can be done would not make it better",
    "nothing-found": "nothing that could be put right was found in it",
    "nothing-decodes": "nothing in it decodes",
    "reference-missing": "its header is lost; a sound file of the same camera could lend one "
                         "(--reference)",
    "index-reference-missing": "its index is lost; a sound clip of the same camera could say how "
                               "its samples are coded (--reference)",
    "index-reference-other": "its index is lost, and the references are of another camera or other "
                             "settings: no samples are found with theirs",
    "reference-other": "its header is lost, and the references are of another camera or other "
                       "settings: nothing decodes with theirs",
    "reference-damaged": "its header is lost, and the references have none that can be used",
    "codes-lost": "its header is lost; its passes have codes of their own, which no other picture "
                  "could lend",
    "too-large": "it is too large to be mended here",
    "size-unknown": "its size is lost, and its rows fit none",
    "interlaced-damaged": "it is stored in passes of pixels smaller than a byte, and those "
                          "behind the damage are lost",
    "index-unusual": "its index is of a kind that cannot be made anew",
    "index-picture-missing": "its index is lost; a sound picture of the same camera could lend one "
                             "(--reference)",
    "index-picture-other": "its index is lost, and the references are of another camera or other "
                           "settings: it holds other parts than theirs",
    "index-lost": "its index, which says where its parts lie, is lost",
    "samples-none": "no samples were found in its data",
    "coding-unknown": "its coding is not one that can be found without an index",
    "fault": "it holds something that no way to mend it is prepared for",
    "stopped": "it was stopped",
}


def change(one: Change) -> str:
    """What one change was: 'the end that was missing was added'."""
    values: dict[str, Any] = dict(one.values)
    if "bytes" in values:
        values["bytes_size"] = units.size(int(values["bytes"]))
    if "at" in values:
        values["at_place"] = units.size(int(values["at"]))
    if "share" in values:
        values["share_percent"] = units.percent(float(values["share"]))
    if "breaks" in values:
        values["breaks_count"] = units.count(int(values["breaks"]), "break")
    if "parts" in values:
        values["parts_count"] = units.count(int(values["parts"]), "part")
    if "samples" in values:
        values["samples_count"] = (units.count(int(values["samples"]), "damaged sample")
                                   if values["samples"] else "what was damaged there was")
        if values["samples"]:
            values["samples_count"] += " was" if values["samples"] == 1 else " were"
    if isinstance(values.get("rows"), int):
        values["rows_count"] = units.count(values["rows"], "row")
        values["rows_verb"] = "is" if values["rows"] == 1 else "are"
    if isinstance(values.get("rows"), list):
        values["rows_text"] = _rows(values["rows"])
    values["change_text"] = LEFT.get(str(values.get("change")), str(values.get("change")))
    values["areas_text"] = _areas(values.get("areas") or [])
    values["seconds_text"] = _seconds(values.get("seconds") or [])
    try:
        return CHANGES[one.code].format(**values)
    except (KeyError, ValueError, TypeError):
        return one.code.replace("-", " ")


def _rows(rows: Sequence[int]) -> str:
    shown = ", ".join(f"{row:,}" for row in rows[:6])
    more = f" and {len(rows) - 6} more" if len(rows) > 6 else ""
    return f"{'row' if len(rows) == 1 else 'rows'} {shown}{more}"


def _areas(areas: Sequence[Sequence[int]]) -> str:
    if not areas:
        return ""
    shown = ", ".join(f"{a[0]:,}–{a[2]:,}" for a in areas[:4])
    more = f" and {len(areas) - 4} more" if len(areas) > 4 else ""
    return f" (rows {shown}{more})"


def _seconds(spans: Sequence[Sequence[float]]) -> str:
    shown = ", ".join(f"{units.clock(float(a))}–{units.clock(float(b))}" for a, b in spans[:4])
    return shown + (f" and {len(spans) - 4} more" if len(spans) > 4 else "") or "in no known place"


def doubt(code: str) -> str:
    """Why something cannot be called mended."""
    return DOUBTS.get(code, code.replace("-", " "))


def why_not(code: str, values: Mapping[str, Any] | None = None) -> str:
    """Why there is no mended file."""
    if code in NOTHING:
        return NOTHING[code]
    return breaks.phrase({"why": code, **(values or {})})


def detail(one: Change) -> dict[str, Any]:
    """A change as finds.json and mending.json have it."""
    return {"code": one.code, "detail": change(one), **{k: v for k, v in one.values.items()
                                                       if k in ("areas", "seconds", "rows")}}
