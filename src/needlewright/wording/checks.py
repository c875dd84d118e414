"""Checks and grades in words."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from needlewright.core.walks import Check, Outcome
from needlewright.wording import breaks, changes, units

if TYPE_CHECKING:
    from collections.abc import Sequence

GRADES = {
    "whole": "whole", "unproven": "unproven", "mended": "mended", "partial": "partial",
    "remnant": "remnant", "gone": "gone",
}
GRADE_MEANINGS = {
    "whole": "every check passes",
    "unproven": "all of it is there, but nothing proves that all of it belongs to it",
    "mended": "passes after mending",
    "partial": "a part of it is missing or damaged",
    "remnant": "only a preview or a scrap",
    "gone": "known by name only",
}
DAMAGED_SHOWN = 4  # stretches of a clip that a line lists
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
    "blank": "the data contains blank sectors",
    "rows-jump": "rows stop continuing each other",
    "file-inside": "another file begins there",
    "crc": "a checksum does not agree",
}

SENTENCES = {
    "seams-proven": "its pieces lay apart; all {seams} seams between them are proven",
    "seams-likely": "its pieces lay apart; of {seams} seams {likely} are likely, not proven",
    "record-live": "a file system lists it",
    "record-removed": "a file system still names it, although it was removed",
    "clusters-free": "nothing else uses its clusters",
    "clusters-reused": "{bytes_size} of it belong to other files now ({share_percent})",
    "extents-exact": "the file system states where it lies",
    "extents-older": "an older record states where it lies",
    "extents-proven": "its own structure proves where it lies",
    "extents-guessed": "only its beginning is recorded, and its structure does not prove the rest",
    "extents-rival": "its first clusters may lie in several ways, and its content fits each",
    "size-wrong": "its record states {bytes_size}, which is not plausible",
    "extents-wrong": "the record of where it lies makes no sense",
    "extents-unread": "a part of what says where it lies cannot be read",
    "extents-outside": "it is said to lie outside the volume",
    "extents-short": "less of it is recorded than its size",
    "extents-elsewhere": "a part of it lies on another device",
    "chain-cleared": "the table no longer says where it lies, and its structure does not prove it",
    "chain-free": "its chain runs into free clusters",
    "chain-loop": "its chain runs in circles",
    "chain-outside": "its chain leaves the volume",
    "chain-short": "its chain is shorter than its size",
    "cluster-outside": "its first cluster lies outside the volume",
    "set-checksum": "the checksum of its record does not agree",
    "runs-missing": "a part of what says where it lies is missing",
    "runs-wrong": "the record of where it lies makes no sense",
    "runs-outside": "it is said to lie outside the volume",
    "length-agrees": "as long as the record says",
    "length-padded": "{bytes_size} of zeros follow its own end",
    "length-behind": "{bytes_size} of something else follow its own end",
    "name-promises": "its name promises {promised}, its content is {format}",
    "object-refused": "the device lists it and tells nothing of it: {answer}",
    "object-not-brought": "the device did not hand it out in full: {answer}",
    "shelf-size": "its list says {told:,} bytes, and {there:,} are there",
    "shelf-hash": "its content is not the one whose hash its list tells",
    "shelf-too-much": "it holds more than the {told:,} bytes that its list says; the rest was left",
    "shelf-no-room": "there is no room for it here",
    "shelf-reduced": "a smaller copy: the original is no longer there",
    "album-no-content": "the album lists it, and has neither the original nor a smaller copy",
    "backup-unread": "a part of what the backup lies on cannot be read",
    "backup-cut": "the backup ends within it",
    "backup-damaged-file": "what is stored of it does not unpack",
    "backup-unauthentic": "what is stored of it is not what was encrypted",
    "backup-crc": "its checksum does not agree",
    "backup-content-missing": "the backup lists it, and its content is not there",
    "backup-entry-wrong": "the backup lists it with a hash that is none",
    "backup-sparse": "it is stored with holes, and where they belong makes no sense",
    "backup-cipher": "it is encrypted in a way of ZIP that is not read here",
    "backup-method": "it is compressed in a way that is not read here",
    "backup-bomb": "its entry cannot be true: it claims what others claim, or more than fits in it",
    "backup-file-locked": "the file system has it encrypted",
    "file-empty": "there is nothing in it",
    "head-only": "its first bytes are intact, but no content behind them can be read",
    "head-lost": "it does not begin as its name promises ({format}); its beginning may be lost",
    "length-more": "the record states {bytes_size} more than its own end",
    "content-unknown": "no known format, so nothing shows whether it is intact",
    "text-reads": "all of it reads as text",
    "gone-overwritten": "other files use its clusters now",
    "gone-cleared": "its clusters were cleared; nothing is left in them",
    "gone-foreign": "what lies in its place is another file",
    "gone-nowhere": "nothing says where it lay",
    "gone-locked": "it is encrypted; without the device's key its bytes say nothing",
    "gone-moved": "another record names the same content: it was renamed or moved",
    "letter-guessed": "the first letter is lost; it was taken from names around it",
    "letter-lost": "the first letter is lost, and nothing suggests it",
    "name-cut": "a part of the name is lost",
    "name-lost": "its name is no longer recorded",
    "name-likely": "likely: a leftover name states exactly this size, and no other find has it",
    "record-reused": "its record serves another file now; perhaps it was only renamed",
    "folder-lost": "the names of upper folders are lost",
    "source-changed": "the source changed after this was checked; it was checked again",
    "sectors-lost": "{bytes_size} of it could not be read from the medium ({share_percent})",
    "unreadable-from": "the medium cannot be read from {offset_bytes} into the file on",
    "file-inside": "another file begins {offset_bytes} into it",
    "structure-ok": "{parts} parts, all in order",
    "structure-broken": "{phrase}, {offset_bytes} into the file",
    "headers-own": "what they carry is their own",
    "headers-foreign": "the {part} in them is damaged or not theirs",
    "coded-complete": "all {blocks:,} blocks decode",
    "frames-complete": "all {frames} frames decode to their size",
    "frames-broken": "breaks after {frames} good frames",
    "frames-agree": "all {frames} frames agree with their checksums",
    "members-agree": "all {members} members agree with their checksums",
    "members-broken": "breaks after {members} good members",
    "members-unread": "{members} members are encrypted, too large or packed in an unknown way",
    "strips-agree": "all {strips} strips unpack to their size",
    "strip-broken": "strip {strip} of {strips} does not unpack",
    "streams-inflate": "all {streams} packed streams unpack",
    "objects-complete": "all {objects} objects are complete",
    "payload-dense": "no blank or written sectors in it",
    "payload-foreign": "foreign data stands in it, {offset_bytes} into the file",
    "samples-continue": "samples continue each other",
    "samples-foreign": "samples stop continuing each other, {offset_bytes} into the file",
    "samples-blank": "{size_size} of blank sectors interrupt its samples, {offset_bytes} into the "
                     "file",
    "samples-uneven": "the last sample is not complete",
    "samples-plain": "this coding shows nothing without being decoded",
    "samples-agree": "all {samples} samples are what they must be",
    "samples-until": "only the first {samples} are in order",
    "samples-broken": "{bad} of {samples} samples are damaged",
    "packets-in-order": "all {packets} packets are in order",
    "packets-missing": "packets are missing in {jumps} places",
    "index-agrees": "the index and the data agree on {samples} samples",
    "index-missing": "its index is missing",
    "index-none": "it has none",
    "index-counts": "the index lists {samples} pieces, and {there} are there",
    "index-outside": "the index points to places where the data is not",
    "items-inside": "all {items} items lie inside the data",
    "items-outside": "items lie outside the data",
    "root-leads": "the catalogue and the pages are there",
    "root-missing": "the catalogue or the list of pages is not here",
    "reference-leads": "the reference table leads to all objects",
    "reference-astray": "the reference table leads astray at object {objects}",
    "schema-there": "the first page holds the schema",
    "sum-agrees": "the sum that its encoder made of all frames agrees",
    "sum-differs": "the sum that its encoder made of all frames does not agree",
    "sum-of-before": "it was changed since its encoder made a sum of it",
    "clip-dropped": "its headers announce one, but the picture was edited since and has none now",
    "clip-missing": "the clip that its headers announce is damaged or missing",
    "previews-agree": "{pictures} embedded pictures are in order",
    "previews-broken": "an embedded picture is damaged, {offset_bytes} into the file",
    "numbers-go-on": "plays, but its packets are numbered as if others came before the first",
    "coding-silent": "complete, but this coding does not show whether all of it is its own",
    "content-by-record": "the file system states exactly where it lies, and no other file was "
                         "there",
    "end-cut": "it ends where a cluster may end, in the middle of what comes next",
    "coded-unknown": "this way of coding is not followed here",
    "crc-agree": "all {chunks} chunks agree with their checksums",
    "end-counted": "ends where its own lengths and contents say",
    "end-own": "ends at its own end mark",
    "end-missing": "its end mark was not reached",
    "dimensions-missing": "no picture size is stated",
    "dimensions-implausible": "{width:,} × {height:,} pixels is not plausible",
    "dimensions-plausible": "{width:,} × {height:,} pixels",
    "decode-not-made": "not decoded",
    "decode-complete": "another decoder reads all of it",
    "decode-none": "no other decoder is asked for this format",
    "decode-of-remnant": "only a preview or a scrap is here to decode",
    "decode-raw": "another program unpacks its raw data",
    "database-sound": "the database passes its own check",
    "frames-not-made": "not all decoded yet",
    "frames-decode": "all {frames} frames of pictures and sound decode",
    "frames-none": "no frame of one of its streams decodes",
    "frames-damaged": "{bad} samples do not decode",
    "decode-other-size": "another decoder sees {width:,} × {height:,} pixels",
    "decode-undecodable": "another decoder fails: {text}",
    "decode-memory": "decoding it needs more memory than is allowed",
    "decode-too-large": "too many pixels to decode safely",
    "decode-unreadable": "its bytes could not be read: {text}",
    "decode-crash": "the decoder crashed on this file",
    "decode-time": "not decoded: it took more of the processor than a file may",
    "thumbnail-none": "the file carries none",
    "thumbnail-not-compared": "not compared",
    "thumbnail-undecodable": "the embedded thumbnail does not decode",
    "thumbnail-of-broken": "the picture is broken anyway",
    "thumbnail-decodes": "decodes",
    "thumbnail-agrees": "agrees with the picture",
    "thumbnail-of-original": "shows the picture as it was before it was edited",
    "thumbnail-differs": "shows another picture",
    "thumbnail-level": "is of another brightness or colour than the picture from row {row:,} of "
        "{rows:,} on",
    "thumbnail-differs-below": "differs from the picture from row {row:,} of {rows:,} on",
}


# What our own workers say of a stream; all else is the decoder's own text.
DECODER_SAYS = {
    "no-pictures": "it has no pictures",
    "no-frame-decodes": "no frame of it decodes",
    "no-frame-there": "no frame there decodes",
    "nothing-decodes": "nothing in it decodes",
    "source-unreadable": "the source cannot be read here",
}


def why_not_decoded(error: str | None, text: str) -> str:
    """Why something cannot be shown, from a decoder's answer; "" where there is no reason."""
    template = SENTENCES.get(f"decode-{error}", "")
    return template.format(text=DECODER_SAYS.get(text, text), width=0, height=0)


def reason(check: Check) -> str:
    """The one-line reason of a check."""
    values: dict[str, Any] = dict(check.values)
    if check.name == "mending":
        return changes.doubt(check.code)
    if check.code == "coded-broken":
        return _broken(values)
    if check.code in ("frames-damaged", "samples-broken") and check.content:
        return _damaged_samples(check.code, values)
    if "offset" in values:
        values["offset_bytes"] = units.size(int(values["offset"]))
    if "bytes" in values:
        values["bytes_size"] = units.size(int(values["bytes"]))
    if "size" in values:
        values["size_size"] = units.size(int(values["size"]))
    if "share" in values:
        values["share_percent"] = units.percent(float(values["share"]))
    if check.code == "structure-broken":
        values["phrase"] = breaks.phrase(values)
    if "text" in values:
        values["text"] = DECODER_SAYS.get(values["text"], values["text"])
    template = SENTENCES.get(check.code)
    if template is None:
        return check.code.replace("-", " ")
    try:
        return template.format(**values).rstrip(": ")
    except (KeyError, ValueError, TypeError):
        return template.split("{")[0].rstrip(" ,:") or check.code.replace("-", " ")


def _damaged_samples(code: str, values: dict[str, Any]) -> str:
    """How many samples are damaged, the first of them, and the seconds that are lost."""
    told = SENTENCES[code].format(bad=values.get("bad", 0), samples=values.get("samples", 0))
    sample, seconds = values.get("sample"), values.get("seconds")
    if sample is not None and seconds is not None:
        told += f", the first at {units.clock(float(seconds))}"
    damaged = values.get("damaged") or []
    if damaged:
        spans = [f"{units.clock(a)}–{units.clock(b)}" for a, b in damaged[:DAMAGED_SHOWN]]
        more = len(damaged) - DAMAGED_SHOWN
        told += "; damaged " + ", ".join(spans) + (f" and {more} more" if more > 0 else "")
    return told


def _broken(values: dict[str, Any]) -> str:
    why = WHY.get(str(values.get("why")), "it breaks")
    row, rows = values.get("row"), values.get("rows")
    where = f"breaks at row {row:,} of {rows:,}" if row is not None and rows else "breaks"
    if int(values.get("scan") or 1) > 1:
        where += f" of pass {values['scan']}"
    return f"{where}: {why}"


SHARE_OF = {"photo": "its area", "video": "its play time", "audio": "its play time"}


def grade_line(grade: str, share: float, checks: Sequence[Check], kind: str = "photo") -> str:
    """'whole: all six checks pass', 'partial: 55 % of its area; …': the grade with its reason."""
    if grade == "whole":
        passed = sum(1 for c in checks if c.outcome is Outcome.PASS)
        if not passed:  # of a damaged job
            return "whole; its checks cannot be read"
        return f"whole: all {_number(passed)} checks pass"
    against = [c for c in checks if c.outcome in (Outcome.FAIL, Outcome.DOUBT)]
    first = f"{against[0].name} {OUTCOMES[against[0].outcome]}" if against else ""
    if grade == "unproven":
        waiting = next((c for c in checks if c.outcome is Outcome.NOT_MADE), None)
        if not against and waiting is not None:
            return f"unproven: complete, but not checked to the end ({waiting.name})"
        if against:
            return f"unproven: complete, but doubted ({first})"
        return "unproven: complete, but no check can prove it"
    if grade == "partial":
        return f"partial: {units.percent(share)} of {SHARE_OF.get(kind, 'its bytes')}"
    meaning = GRADE_MEANINGS.get(grade, "")
    return f"{grade}: {meaning}"


def share_line(grade: str, share: float, kind: str) -> str:
    """'55 % of its area is there', 'complete, but not proven', 'only a preview or a scrap'."""
    if grade == "remnant":
        return GRADE_MEANINGS["remnant"]
    if grade == "unproven":
        return "complete, but not proven"
    return f"{units.percent(share)} of {SHARE_OF.get(kind, 'its bytes')} is there"


def _number(value: int) -> str:
    words = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")
    return words[value] if value < len(words) else str(value)
