"""Checks and grades in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from needlewright.core.formats.base import Check, Outcome
from needlewright.wording import units

GRADES = {
    "whole": "whole", "mended": "mended", "partial": "partial", "remnant": "remnant",
    "gone": "gone",
}
GRADE_MEANINGS = {
    "whole": "every check passes",
    "mended": "passes after mending",
    "partial": "a part is there, or it is doubted",
    "remnant": "only a preview or a scrap",
    "gone": "known by name only",
}
OUTCOMES = {
    Outcome.PASS: "passes", Outcome.DOUBT: "doubted", Outcome.FAIL: "fails",
    Outcome.NOT_APPLICABLE: "does not apply", Outcome.NOT_MADE: "not made",
}

WHY = {
    "bad-code": "a code there does not exist in its tables",
    "block-overfull": "a block there holds more than a block can",
    "dc-range": "brightness there leaves the possible range",
    "data-ends": "the data ends before the picture does",
    "data-left": "data is left over when the picture is complete",
    "restart-order": "restart marks are out of order",
    "blank": "blank sectors stand in the data",
    "rows-jump": "rows stop continuing each other",
    "crc": "a checksum does not agree",
}

SENTENCES = {
    "sectors-lost": "{bytes_size} of it could not be read from the medium ({share_percent})",
    "unreadable-from": "the medium cannot be read from {offset_bytes} into the file on",
    "structure-ok": "{parts} parts, all in order",
    "structure-broken": "{text}, {offset_bytes} into the file",
    "headers-own": "what they carry is their own",
    "headers-foreign": "the {part} in them is damaged or not theirs",
    "coded-complete": "all {blocks:,} blocks decode",
    "coded-unknown": "this way of coding is not followed here",
    "crc-agree": "all {chunks} chunks agree with their checksums",
    "end-own": "ends at its own end mark",
    "end-missing": "its end mark was not reached",
    "dimensions-missing": "no picture size is stated",
    "dimensions-implausible": "{width:,} × {height:,} pixels cannot be meant",
    "dimensions-plausible": "{width:,} × {height:,} pixels",
    "decode-not-made": "not decoded",
    "decode-complete": "another decoder reads all of it",
    "decode-other-size": "another decoder sees {width:,} × {height:,} pixels",
    "decode-undecodable": "another decoder gives up: {text}",
    "decode-memory": "decoding it needs more memory than is allowed",
    "decode-too-large": "too many pixels to decode safely",
    "decode-unreadable": "its bytes could not be read: {text}",
    "decode-crash": "the decoder broke down on this file",
    "decode-time": "the decoder did not finish in time",
    "thumbnail-none": "the file carries none",
    "thumbnail-not-compared": "not compared",
    "thumbnail-undecodable": "the embedded thumbnail does not decode",
    "thumbnail-of-broken": "the picture is broken anyway",
    "thumbnail-agrees": "agrees with the picture",
    "thumbnail-differs": "shows another picture",
    "thumbnail-differs-below": "differs from the picture from row {row:,} of {rows:,} on",
}


def reason(check: Check) -> str:
    """The one-line reason of a check."""
    values: dict[str, Any] = dict(check.values)
    if check.code == "coded-broken":
        return _broken(values)
    if "offset" in values:
        values["offset_bytes"] = units.size(int(values["offset"]))
    if check.code == "sectors-lost" and "bytes" in values:
        values["bytes_size"] = units.size(int(values["bytes"]))
        values["share_percent"] = units.percent(float(values["share"]))
    template = SENTENCES.get(check.code)
    if template is None:
        return check.code.replace("-", " ")
    try:
        return template.format(**values).rstrip(": ")
    except (KeyError, ValueError, TypeError):
        return template.split("{")[0].rstrip(" ,:") or check.code.replace("-", " ")


def _broken(values: dict[str, Any]) -> str:
    why = WHY.get(str(values.get("why")), "it breaks")
    row, rows = values.get("row"), values.get("rows")
    where = f"breaks at row {row:,} of {rows:,}" if row is not None and rows else "breaks"
    if int(values.get("scan") or 1) > 1:
        where += f" of pass {values['scan']}"
    return f"{where}: {why}"


def grade_line(grade: str, share: float, checks: Sequence[Check]) -> str:
    """'whole: all six checks pass', 'partial: 55 % of its area; …': the grade with its reason."""
    if grade == "whole":
        passed = sum(1 for c in checks if c.outcome is Outcome.PASS)
        return f"whole: all {_number(passed)} checks pass"
    against = [c for c in checks if c.outcome in (Outcome.FAIL, Outcome.DOUBT)]
    first = f"{against[0].name} {OUTCOMES[against[0].outcome]}" if against else ""
    if grade == "partial":
        if share >= 1.0:
            return f"partial: complete, but doubted ({first})"
        return f"partial: {units.percent(share)} of its area"
    meaning = GRADE_MEANINGS.get(grade, "")
    return f"{grade}: {meaning}"


def _number(value: int) -> str:
    words = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")
    return words[value] if value < len(words) else str(value)
