"""What a destination must be before a byte is written to it."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core.errors import DeliveryError
from needlewright.core.jobfile.rows import SourceRow
from needlewright.core.sources.map_file import origin_of
from needlewright.core.sources.media import shares_medium
from needlewright.core.sources.mounts import file_system_of
from needlewright.core.sources.registry import lies_at

MARKER = "delivery-unfinished.json"
STAGING = "unfinished"
SPARE_BYTES = 16 << 20  # lists, manifests and the file system's own needs
FAT_LIMIT = (4 << 30) - 1
FAT_KINDS = frozenset({"vfat", "msdos"})


@dataclass(frozen=True, slots=True)
class Guard:
    """One condition on a destination; `code` names the sentence for either case."""

    name: str
    holds: bool
    code: str
    values: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Need:
    """What a delivery wants to put there, bytes."""

    total: int
    largest: int


def look(job_folder: Path, job_id: str, sources: Sequence[SourceRow], destination: Path,
         need: Need) -> list[Guard]:
    """All guards for `destination`, in the order in which they are told."""
    there = os.path.realpath(destination)
    return [
        _apart(os.path.realpath(job_folder), there),
        *(_off_source(source, there) for source in sources),
        _empty(Path(there), job_id),
        _idle(Path(there)),
        _writable(Path(there)),
        _space(Path(there), need),
        _fits(Path(there), need),
    ]


def refuse(guards: Sequence[Guard]) -> None:
    """Raise DeliveryError for the first guard that does not hold."""
    for guard in guards:
        if not guard.holds:
            raise DeliveryError(guard.code, **guard.values)


def _inside(inner: str, outer: str) -> bool:
    return inner == outer or inner.startswith(outer.rstrip("/") + "/")


def _apart(job: str, there: str) -> Guard:
    apart = not _inside(there, job) and not _inside(job, there)
    return Guard("apart", apart, "to-apart" if apart else "to-in-job", {"path": there})


def _off_source(source: SourceRow, there: str) -> Guard:
    origin = origin_of(Path(source.path))
    lies = lies_at(source.path)
    media = [lies] if origin is None else [lies, origin.spec]
    off = os.path.realpath(lies) != there and not any(
        shares_medium(medium, there) for medium in media)
    code = "to-off-source" if off else "to-on-source"
    return Guard("off-source", off, code, {"path": there, "source": source.name})


def _empty(there: Path, job_id: str) -> Guard:
    if there.exists() and not there.is_dir():
        return Guard("empty", False, "to-not-a-folder", {"path": str(there)})
    try:
        inside = [p.name for p in there.iterdir()] if there.exists() else []
    except OSError:
        return Guard("empty", False, "to-unreadable", {"path": str(there)})
    if not inside:
        return Guard("empty", True, "to-empty", {"path": str(there)})
    if unfinished_of(there) == job_id:
        return Guard("empty", True, "to-unfinished", {"path": str(there)})
    return Guard("empty", False, "to-not-empty", {"path": str(there), "items": len(inside)})


def _idle(there: Path) -> Guard:
    """Whether nobody else delivers there right now."""
    try:
        with (there / MARKER).open("rb") as marker:
            fcntl.flock(marker, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return Guard("idle", False, "to-busy", {"path": str(there)})
    except OSError:
        pass  # no delivery lies there
    return Guard("idle", True, "to-idle", {"path": str(there)})


def unfinished_of(there: Path) -> str | None:
    """Id of the job whose unfinished delivery lies in `there`, or None."""
    try:
        return str(json.loads((there / MARKER).read_text(encoding="utf-8"))["job"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _nearest(there: Path) -> Path:
    while not there.exists() and there != there.parent:
        there = there.parent
    return there


def _writable(there: Path) -> Guard:
    nearest = _nearest(there)
    can = os.access(nearest, os.W_OK | os.X_OK) and not _mounted_read_only(nearest)
    return Guard("writable", can, "to-writable" if can else "to-denied", {"path": str(nearest)})


def _mounted_read_only(path: Path) -> bool:
    try:
        return bool(os.statvfs(path).f_flag & os.ST_RDONLY)
    except OSError:
        return True


def _space(there: Path, need: Need) -> Guard:
    try:
        free = shutil.disk_usage(_nearest(there)).free + _leftovers(there)
    except OSError:
        free = 0
    enough = free >= need.total + SPARE_BYTES
    return Guard("space", enough, "to-space" if enough else "to-no-space",
                 {"path": str(there), "free": free, "need": need.total + SPARE_BYTES})


def _leftovers(there: Path) -> int:
    """Bytes that an unfinished delivery of ours takes there, and that the next one frees."""
    if unfinished_of(there) is None:
        return 0
    total = 0
    for folder in (there / STAGING, there / "data"):
        for place, _, names in os.walk(folder):
            for name in names:
                try:
                    total += os.lstat(os.path.join(place, name)).st_blocks * 512
                except OSError:
                    continue
    return total


def _fits(there: Path, need: Need) -> Guard:
    kind = file_system_of(_nearest(there))
    fits = kind not in FAT_KINDS or need.largest <= FAT_LIMIT
    return Guard("fits", fits, "to-fits" if fits else "to-too-large",
                 {"file_system": kind or "unknown", "largest": need.largest})
