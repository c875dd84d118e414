"""Holds what came back of a card against its truth, found without any of our own code."""

from __future__ import annotations

import hashlib
import json
import mmap
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.cards import contents
from tests.cards.history import Card, Gone

STEP = 512  # bytes: where files may begin


@dataclass
class Result:
    """What is wrong with what came back; empty where nothing is. Counts for the figures."""

    live_missing: list[str] = field(default_factory=list)
    not_back: list[str] = field(default_factory=list)
    names_missing: list[str] = field(default_factory=list)
    false_whole: list[str] = field(default_factory=list)
    live: int = 0
    in_one_piece: int = 0
    in_longer: int = 0  # not given by itself, since it is the beginning of a longer file
    names: int = 0
    named_without_standing: int = 0

    @property
    def wrong(self) -> bool:
        return bool(self.live_missing or self.not_back or self.names_missing or self.false_whole)


def compare(card: Card, bag: Path) -> Result:
    """Compare a delivered bag with the card."""
    told = json.loads((bag / "finds.json").read_text(encoding="utf-8"))
    finds = told["finds"]
    by_hash: dict[str, list[dict[str, Any]]] = {}
    for find in finds:
        if find["sha256"]:
            by_hash.setdefault(find["sha256"], []).append(find)
    result = Result(live=len(card.live))
    for path, data in card.live.items():
        mine = by_hash.get(hashlib.sha256(data).hexdigest(), [])
        if data and not any(f["path"] == path and f["removed"] is False for f in mine):
            result.live_missing.append(path)
    with card.image.open("rb") as file, mmap.mmap(file.fileno(), 0,
                                                  access=mmap.ACCESS_READ) as medium:
        for gone in card.gone:
            _compare_gone(card, gone, medium, by_hash, finds, result)
    for find in finds:
        if find["grade"] == "whole" and find["sha256"] not in card.ever and not _own(find, bag):
            result.false_whole.append(
                f"{find['format']} {find['path'] or ''} {find['size']} at {find['extents'][:2]} "
                f"by {find['found_by']}")
    return result


def _own(find: dict[str, Any], bag: Path) -> bool:
    """Whether it is the file system's own: nothing of ours lies there."""
    return bool(find["path"]) and find["removed"] is False


def _compare_gone(card: Card, gone: Gone, medium: mmap.mmap, by_hash: dict[str, Any],
                  finds: list[dict[str, Any]], result: Result) -> None:
    known = card.ever.get(gone.sha256) in contents.MEDIA and gone.where != "refused"
    mine = by_hash.get(gone.sha256, [])
    if known and gone.size and stands_in_one_piece(gone.data, medium):
        result.in_one_piece += 1
        if not mine and _begins_longer(card, gone.data):
            result.in_longer += 1
        elif not mine:
            result.not_back.append(f"{gone.path} ({gone.size} bytes, {gone.where})")
    name = gone.path.rsplit("/", 1)[-1]
    if gone.path in card.live or not gone.size or not name_stands(card.kind, name, medium):
        return
    result.names += 1
    if not any(f["name"] == name for f in finds):
        result.names_missing.append(f"{gone.path} ({gone.where})")


def _begins_longer(card: Card, data: bytes) -> bool:
    """Whether a longer file of the card begins with these bytes: it grew since, or what was removed
    was the shortened one. They stand there as its beginning, and come back so."""
    others = [*card.live.values(), *(gone.data for gone in card.gone)]
    return any(len(other) > len(data) and other.startswith(data) for other in others)


def stands_in_one_piece(data: bytes, medium: mmap.mmap) -> bool:
    """Whether all bytes of a file still lie one behind another, beginning at a sector."""
    head, at = data[:64], -1
    while (at := medium.find(head, at + 1)) >= 0:
        if at % STEP == 0 and medium[at : at + len(data)] == data:
            return True
    return False


def name_stands(kind: str, name: str, medium: mmap.mmap) -> bool:
    """Whether a name still stands in an entry of a folder, in the way of its file system."""
    if kind.startswith("fat"):
        return _long_name(name, medium)
    if kind == "exfat":
        return _exfat_name(name, medium)
    if kind == "ntfs":
        raw = name.encode("utf-16-le")
        at = -1
        while (at := medium.find(raw, at + 1)) >= 66:
            # A file name attribute (or its copy in an index): its letters counted before it.
            if medium[at - 2] == len(raw) // 2 and medium[at - 1] in (0, 1, 2, 3):
                return True
        return False
    raw = name.encode()
    at = -1
    while (at := medium.find(raw, at + 1)) >= 8:
        if kind.startswith("ext"):
            number, room, length, sort = struct.unpack("<IHBB", medium[at - 8 : at])
            fits = room % 4 == 0 and room >= 8 + length
            if length == len(raw) and sort == 1 and 0 < number < 1 << 24 and fits:
                return True
        else:
            return False  # trees of XFS and btrfs: what stands there proves little by itself
    return False


def _long_name(name: str, medium: mmap.mmap) -> bool:
    """VFAT: thirteen letters an entry, the last piece first, each told to be one."""
    raw = name.encode("utf-16-le")
    pieces = [raw[i : i + 26] for i in range(0, len(raw), 26)]
    at = -1
    first = pieces[0].ljust(26, b"\xff")
    if len(pieces[0]) < 26:
        first = (pieces[0] + b"\0\0").ljust(26, b"\xff")
    while (at := medium.find(first[:10], at + 1)) >= 0:
        entry = medium[at - 1 : at + 31]
        if (at - 1) % 32 == 0 and entry[11] == 0x0F and entry[14:26] + entry[28:32] == first[10:]:
            return all(_piece_at(pieces[i], medium, at - 1 - 32 * i) for i in range(1, len(pieces)))
    return False


def _piece_at(piece: bytes, medium: mmap.mmap, at: int) -> bool:
    entry = medium[at : at + 32]
    told = entry[1:11] + entry[14:26] + entry[28:32]
    return len(entry) == 32 and entry[11] == 0x0F and told[: len(piece)] == piece


def _exfat_name(name: str, medium: mmap.mmap) -> bool:
    """exFAT: fifteen letters an entry, behind the entries of the file and its stream."""
    raw = name.encode("utf-16-le")
    pieces = [raw[i : i + 30] for i in range(0, len(raw), 30)]
    at = -1
    while (at := medium.find(pieces[0], at + 1)) >= 66:
        start = at - 66
        kinds = (medium[start] & 0x7F, medium[start + 32] & 0x7F)
        if start % 32 or kinds != (0x05, 0x40):
            continue
        if medium[start + 35] == len(raw) // 2 and all(
                medium[at + 32 * i : at + 32 * i + len(p)] == p for i, p in enumerate(pieces)):
            return True
    return False
