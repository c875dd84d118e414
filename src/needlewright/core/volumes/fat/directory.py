"""Directories of FAT: FAT specification 1.03, sections 6 and 7. Little-endian, 32 bytes an entry.

A removed entry keeps all but the first byte of its short name. Where a long name stands before it,
the lost byte follows from the long name's checksum; else only its neighbours suggest it.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.volumes.base import Times
from needlewright.core.volumes.stamps import dos

ENTRY = struct.Struct("<11sBBBHHHHHHHI")
REMOVED, END, ESCAPED = 0xE5, 0x00, 0x05
LONG, LABEL, FOLDER = 0x0F, 0x08, 0x10
CODE_PAGE = "cp437"
LOST = "\ufffd"  # stands for a first letter that is lost
MAX_LONG_PARTS = 20
Bytes = npt.NDArray[np.uint8]


@dataclass(slots=True)
class Slot:
    """One entry. `at`: its byte in the directory. `short`: as on the medium; `long`: the long name,
    None where there is none. `behind`: it stands behind the mark that ends the directory."""

    at: int
    removed: bool
    short: bytes
    long: str | None
    attributes: int
    case: int
    cluster: int
    size: int
    stamps: tuple[int, int, int, int, int, int]
    behind: bool = False
    partly: bool = False  # parts of the long name are missing

    @property
    def folder(self) -> bool:
        return bool(self.attributes & FOLDER)

    @property
    def name(self) -> str:
        """The name; its first letter is LOST where nothing restores it."""
        return self.long if self.long else short_name(self.short, self.case, self.removed)

    def times(self) -> Times:
        tens, created_time, created_date, accessed, time, date = self.stamps
        return Times(dos(created_date, created_time, tens), dos(date, time),
                     dos(accessed, 0))


def short_name(raw: bytes, case: int, removed: bool) -> str:
    """A name of 8 and 3 bytes as text; `case`: its bits for small letters."""
    first = raw[:1] if raw[0] != ESCAPED else bytes([REMOVED])
    stem = (first + raw[1:8]).decode(CODE_PAGE).rstrip()
    suffix = raw[8:].decode(CODE_PAGE).rstrip()
    stem = stem.lower() if case & 0x08 else stem
    suffix = suffix.lower() if case & 0x10 else suffix
    if removed:
        stem = LOST + stem[1:]
    return f"{stem}.{suffix}" if suffix else stem


def checksum(short: bytes) -> int:
    """The sum over a short name that each part of its long name carries."""
    value = 0
    for byte in short:
        value = ((value & 1) << 7) + (value >> 1) + byte & 0xFF
    return value


def slots(data: bytes, removed_only: bool = False) -> Iterator[Slot]:
    """The entries of a directory's bytes, in order; labels and "." and ".." are left out."""
    count = len(data) // 32
    table = np.frombuffer(data, np.uint8, count * 32).reshape(-1, 32)
    sane, foreign = _sane(table)
    first = np.where(foreign, REMOVED, table[:, 0])  # what overwrote a folder does not end it
    ends = np.flatnonzero(first == END)
    end = int(ends[0]) if ends.size else count
    if removed_only and not (first[:end] == REMOVED).any() and not first[end:].any():
        return
    parts: list[int] = []
    for index in np.flatnonzero(sane).tolist():
        head, attributes = data[32 * index], data[32 * index + 11]
        if attributes & 0x3F == LONG:
            if parts and parts[-1] != index - 1:
                parts = []
            parts.append(index)
            continue
        mine, parts = parts if parts and parts[-1] == index - 1 else [], []
        if attributes & LABEL or attributes & 0xC0 or head == 0x2E:
            continue
        if removed_only and head != REMOVED and index < end:
            continue
        yield _slot(data, index, mine, index > end)


def _sane(table: Bytes) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """bool[n], bool[n] of uint8[n, 32]: which may be entries, which stand in sectors that something
    else overwrote. No driver writes control characters into names (section 6.1)."""
    attributes = table[:, 11]
    long = attributes & 0x3F == LONG
    impossible = np.where(long, (table[:, 12] | table[:, 26] | table[:, 27]) != 0,
                          (attributes & 0xC0 != 0) | (table[:, 1:11] < 0x20).any(axis=1))
    used = table[:, 0] != END
    sector = np.arange(len(table)) // (512 // 32)
    bad = np.bincount(sector, impossible & used)
    foreign = ((bad >= 2) & (2 * bad >= np.bincount(sector, used)))[sector]
    return used & ~impossible & ~foreign, foreign


def _slot(data: bytes, index: int, parts: list[int], behind: bool) -> Slot:
    (short, attributes, case, tens, created_time, created_date, accessed, high, time, date, low,
     size) = ENTRY.unpack_from(data, 32 * index)
    removed = short[0] == REMOVED
    long, partly = _long(data, parts, short, removed)
    return Slot(32 * index, removed, short, long, attributes, case, high << 16 | low, size,
                (tens, created_time, created_date, accessed, time, date), behind, partly)


def _text(data: bytes, index: int) -> bytes:
    at = 32 * index
    return data[at + 1 : at + 11] + data[at + 14 : at + 26] + data[at + 28 : at + 32]


def _long(data: bytes, parts: list[int], short: bytes, removed: bool) -> tuple[str | None, bool]:
    """(the long name, whether its end is missing); None where the parts belong to another."""
    if not parts:
        return None, False
    total = data[32 * parts[-1] + 13]
    mine: list[int] = []
    for index in reversed(parts):  # the part before the short name is the first of the text
        at = 32 * index
        order = data[at]
        if data[at + 13] != total or len(mine) >= MAX_LONG_PARTS or (
                not removed and order & 0x3F != len(mine) + 1):
            break
        mine.append(index)
        if not removed and order & 0x40:
            break
    raw = b"".join(_text(data, index) for index in mine)
    ended, partly = False, False
    for at in range(0, len(raw), 2):
        if raw[at : at + 2] == b"\0\0":
            raw, ended = raw[:at], True
            break
    text = raw.decode("utf-16-le", "replace")
    if not text:
        return None, False
    if not removed:
        whole = bool(mine) and data[32 * mine[-1]] & 0x40
        if checksum(short) != total:
            return None, False
        return text, not whole
    # A removed name: neighbours of other files may stand before it; the end mark tells how far.
    partly = not ended and len(raw) % 26 != 0
    if not _fits(short, text, total):
        return None, False
    return text, partly


def _fits(short: bytes, text: str, total: int) -> bool:
    """Whether some first letter makes the checksum right; nearly always the long name's own."""
    if checksum(text[0].upper().encode(CODE_PAGE, "replace")[:1] + short[1:]) == total:
        return True
    likely = (b"_" + short[1:], bytes([ESCAPED]) + short[1:])
    if any(checksum(name) == total for name in likely):
        return True
    # Letters that the code page lacks become others; the rest of the short name must then agree.
    return any(checksum(bytes([byte]) + short[1:]) == total for byte in range(0x21, 0x100)) and (
        _alike(short, text))


def _alike(short: bytes, text: str) -> bool:
    plain = {c for c in short[1:8].decode(CODE_PAGE).upper() if c.isalnum()}
    return not plain or bool(plain & set(text.upper())) or not text.isascii()


def looks_like_entries(data: bytes, first: bool = False) -> bool:
    """Whether these bytes are entries of a directory; `first`: "." and ".." must begin them."""
    if len(data) < 64:
        return False
    if first:
        return data[:11] == b".          " and data[32:43] == b"..         " and bool(
            data[11] & FOLDER and data[43] & FOLDER)
    table = np.frombuffer(data[: len(data) // 32 * 32], np.uint8).reshape(-1, 32)
    ends = np.flatnonzero(table[:, 0] == END)
    end = int(ends[0]) if ends.size else len(table)
    if end == 0 or table[end:].any():
        return False
    return bool(plausible(table[:end]).all())


def plausible(table: Bytes) -> npt.NDArray[np.bool_]:
    """bool[n]: which of uint8[n, 32] may be entries of a directory."""
    attributes = table[:, 11]
    long = attributes == LONG
    good_long = (table[:, 12] == 0) & (table[:, 26] == 0) & (table[:, 27] == 0) & (
        ((table[:, 0] & 0x3F) <= MAX_LONG_PARTS) | (table[:, 0] == REMOVED))
    month = ((table[:, 25] & 1) << 3) | (table[:, 24] >> 5)
    day = table[:, 24] & 31
    hour = table[:, 23] >> 3
    dated = (month >= 1) & (month <= 12) & (day >= 1) & (hour <= 23)
    undated = (table[:, 24] == 0) & (table[:, 25] == 0)
    named = (table[:, 1:11] >= 0x20).all(axis=1)
    good: npt.NDArray[np.bool_] = np.where(
        long, good_long, (attributes & 0xC0 == 0) & (dated | undated) & named)
    return good
