"""A find in words: its name, where it came from, its facts."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from needlewright.wording import units, volumes

if TYPE_CHECKING:
    from collections.abc import Mapping

    from needlewright.core.formats.base import Format
    from needlewright.core.jobfile.rows import FindRecord, FindRow

KINDS = {
    "photo": "photos", "video": "clips", "audio": "sound", "document": "documents",
    "message": "messages", "contact": "contacts", "call": "calls", "note": "notes",
    "other": "other", "scrap": "scraps",
}
KIND_ONE = {
    "photo": "photo", "video": "clip", "audio": "sound", "document": "document",
    "message": "message", "contact": "contact", "call": "call", "note": "note", "other": "file",
    "scrap": "scrap",
}
FILES_OF = frozenset(("message", "contact", "call", "note"))  # one of these holds many
EXPOSURE = ("exposure", "aperture", "sensitivity", "focal length")  # read as one line
STEPS = {
    "files": "files",
    "records": "records", "old-records": "old records", "kept-copies": "kept copies",
    "signatures": "signatures", "stitching": "stitching",
}


UNDATED = "no date"


def day_name(date: str) -> str:
    """'12 May 2031'."""
    return units.day(date) if date else UNDATED


def day_line(date: str, finds: int, removed: int) -> str:
    """'12 May 2031: 14 finds, 3 of them removed'."""
    text = f"{day_name(date)}: {units.count(finds, 'find')}"
    return f"{text}, {removed:,} of them removed" if removed else text


def days_line(days: int, finds: int) -> str:
    """What a strip of days shows, to be read aloud."""
    return f"{units.count(finds, 'find')} of {units.count(days, 'day')}"


FORMAT_NAMES = {
    "jpeg": "JPEG", "heif": "HEIC, HEIF, AVIF", "tiff": "TIFF and raw", "cr3": "CR3 raw",
    "webp": "WebP", "jxl": "JPEG XL", "mp4": "MP4, MOV, 3GP, M4A", "matroska": "Matroska, WebM",
    "mpegts": "MPEG-TS, M2TS", "mpg": "MPEG-PS", "asf": "WMV, WMA", "aac": "AAC",
    "ogg": "Ogg, Opus", "zip": "ZIP and office", "sqlite": "SQLite", "sqlite-log": "SQLite log",
}


def format_name(form: Format) -> str:
    """A format, with what it may turn out to be, in a word or two."""
    return FORMAT_NAMES.get(form.name, form.name.upper())


def title(row: FindRow) -> str:
    """The name, or where it lies when no name is known."""
    return row.name or f"{KIND_ONE.get(row.kind, row.kind)} at {units.place(row.start)}"


def kinds_line(counts: Mapping[str, int]) -> str:
    """How many files there are of each kind: '24 photos, 1 clip, 2 files of messages, 3 other'."""
    parts = []
    for kind, word in KINDS.items():
        count = counts.get(kind, 0)
        if count and kind in FILES_OF:
            parts.append(f"{units.count(count, 'file')} of {word}")
        elif count:
            one = kind != "other" and count == 1
            parts.append(f"{count:,} {KIND_ONE[kind] if one else word}")
    return ", ".join(parts)


def file_name(row: FindRow) -> str:
    """A file name for a find without one: by date where known, and by place, so it sorts well."""
    when = ""
    if row.taken and len(row.taken) >= 19:
        when = row.taken[:19].replace("T", " ").replace(":", ".") + " "
    return f"{when}{KIND_ONE.get(row.kind, row.kind)} {row.start:012d}.{row.extension}"


def origin(record: FindRecord, source_name: str) -> str:
    """Where it came from, in one sentence or two."""
    row = record.row
    by = " and ".join(STEPS.get(name, name) for name in row.found_by)
    pieces = len(record.extents)
    where = f"at {units.place(row.start)} on {source_name}"
    shape = "In one piece" if pieces == 1 else f"In {pieces} pieces"
    if record.content.on_shelf:
        return f"{row.path}, a file of {source_name}; it stays where it is, and as it is."
    if record.mended_from is not None:
        return (f"Mended from find {record.mended_from}, which lies {where} and stays as it is; "
                "the mended file lies in the job's folder.")
    if row.grade == "gone":
        known = row.path or "A file without a name"
        return f"{known} was on {source_name} once; found by {by}. None of its content is left."
    if row.path:
        state = "Removed from" if row.removed else "Listed in"
        folder = row.path.rpartition("/")[0] or "the uppermost folder"
        return f"{state} {folder}. {shape} {where}, found by {by}."
    removed = "It was removed. " if row.removed else ""
    return f"{removed}{shape} {where}, found by {by}. No folder or name is known."


def kept(record: FindRecord) -> str:
    """Why a removed or hidden file is still there, and for how long."""
    row, told = record.row, record.record
    if told is None:
        return ""
    days = None
    if told.purge_at is not None:
        until = datetime.fromisoformat(told.purge_at)
        now = datetime.now(until.tzinfo)
        days = (until - now).days
    return volumes.kept_line(row.kept, told.original, told.removed_at, days)


def facts(record: FindRecord) -> list[tuple[str, str]]:
    """(label, value) of what the file says of itself, only what is there."""
    row = record.row
    lines: list[tuple[str, str]] = []
    if row.taken:
        lines.append(("taken", units.moment(row.taken)))
    if row.camera:
        lines.append(("camera", row.camera))
    told = record.record
    if told is not None:
        times = (("made", told.created), ("changed", told.modified),
                 ("removed", told.removed_at if not row.kept else None))
        lines += [(name, units.moment(value)) for name, value in times if value]
    if row.duration_s:
        lines.append(("length", units.clock(row.duration_s)))
    if row.width and row.height:
        lines.append(("picture", f"{row.width:,} × {row.height:,} pixels"))
    lines.append(("size", f"{units.size(row.size)} ({row.size:,} bytes)"))
    lines.append(("format", row.format.upper()))
    for name in ("codings", "sound", "pages"):
        if record.extra.get(name):
            lines.append((name, str(record.extra[name])))
    exposure = [str(record.extra[name]) for name in EXPOSURE if name in record.extra]
    if exposure:
        lines.insert(-1, ("exposure", ", ".join(exposure)))
    return lines


def extents(record: FindRecord, limit: int = 12) -> list[tuple[str, str]]:
    """(where, how much) of each piece."""
    lines = [
        ("hole" if offset is None else f"byte {offset:,}", units.size(length))
        for offset, length in record.extents[:limit]]
    if len(record.extents) > limit:
        lines.append((f"and {len(record.extents) - limit} more", ""))
    return lines


NO_CAMERA, NO_DAY = "no camera stated", "no date known"


def group_head(order: str, key: str | None, start: int, stop: int) -> str:
    """The head of a group of finds in an order; without a key, of a stretch of the medium."""
    if key is None:
        return f"no folder known, {units.stretch(start, stop)}"
    if key == "scraps":
        return "Scraps: pieces without a beginning, material for stitching"
    if key.startswith("kept:"):
        return volumes.KEPT_HEADS.get(key[5:], key[5:])
    if key.startswith("in:"):
        folder, _, volume = key[3:].partition("\n")
        folder = folder or "the uppermost folder"
        return f"{folder} on {volumes.kind(volume)}" if volume else folder
    if order == "taken":
        return units.day(key) if key else NO_DAY
    if order == "camera":
        return key or NO_CAMERA
    if order == "kind":
        return KINDS.get(key, key)
    return key
