"""The files of a ZIP archive, by its directory or by their own headers (APPNOTE.TXT 6.3.10)."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

from needlewright.core.errors import FormatError
from needlewright.core.shelves.backups import zip_cipher
from needlewright.core.shelves.backups.zip_cipher import Strength, strength_of
from needlewright.core.shelves.item_shelf import MOST_ITEMS, MOST_STATED
from needlewright.core.sources.source import Source
from needlewright.core.volumes.stamps import unix

LOCAL, CENTRAL, END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
END64, LOCATOR64, DESCRIPTOR = b"PK\x06\x06", b"PK\x06\x07", b"PK\x07\x08"
LOCAL_BYTES, CENTRAL_BYTES, END_BYTES = 30, 46, 22
MOST_COMMENT = 0xFFFF
MOST_DIRECTORY = 1 << 29
SCAN = 1 << 20
OFTEN = 1024
ENCRYPTED, LATER, STRONG, UTF8 = 0x1, 0x8, 0x40, 0x800  # flags
NOWHERE = 0xFFFFFFFF


@dataclass(frozen=True, slots=True)
class ZipEntry:
    """A file. `at`: of its local header; sizes in bytes, `size` None where it is not told; `crc`:
    CRC-32 of the content, None where there is none; `modified`: RFC 3339."""

    path: str
    at: int
    packed: int
    size: int | None
    method: int
    crc: int | None
    modified: str | None
    encrypted: bool
    strength: Strength | None
    check: int | None  # the byte that tells the password of the old cipher; None for other ciphers

    @property
    def plain_method(self) -> int:
        return self.strength.method if self.strength is not None else self.method


def entries_by_directory(source: Source, breathe: Callable[[], None]) -> list[ZipEntry] | None:
    """What the central directory tells; None where there is none. FormatError where it is
    damaged."""
    place = _directory(source)
    if place is None:
        return None
    start, size, moved = place
    data = source.read_at(start, size)
    found: list[ZipEntry] = []
    at = 0
    while at + CENTRAL_BYTES <= len(data) and data[at : at + 4] == CENTRAL:
        (flags, method, when, day, crc, packed, length, name, extra, comment) = struct.unpack_from(
            "<HHHHIIIHHH", data, at + 8)
        local = struct.unpack_from("<I", data, at + 42)[0]
        stop = at + CENTRAL_BYTES + name + extra + comment
        if stop > len(data) or len(found) >= MOST_ITEMS:
            raise FormatError("coded-data-damaged", start + at)
        raw = data[at + CENTRAL_BYTES : at + CENTRAL_BYTES + name]
        more = _extras(data[at + CENTRAL_BYTES + name : at + CENTRAL_BYTES + name + extra])
        length, packed, local = _wide(more.get(1, b""), length, packed, local)
        entry = _entry(raw, local + moved, packed, length, flags, method, crc, when, day, more)
        found.append(entry)
        if len(found) % OFTEN == 0:
            breathe()
        at = stop
    if at != len(data):
        raise FormatError("coded-data-damaged", start + at)
    return found


def _directory(source: Source) -> tuple[int, int, int] | None:
    """(start, bytes, by how much what it tells is displaced) of the central directory."""
    begin = max(0, source.size - END_BYTES - MOST_COMMENT)
    tail = source.read_at(begin, source.size - begin)
    at = tail.rfind(END)
    while at >= 0:
        if at + END_BYTES <= len(tail):
            size, start = struct.unpack_from("<II", tail, at + 12)
            end = begin + at
            if at >= 20 and tail[at - 20 : at - 16] == LOCATOR64:
                wide = _directory64(source, struct.unpack_from("<Q", tail, at - 12)[0], end - 20)
                if wide is not None:
                    end, size, start = wide
            real = end - size
            if size <= MOST_DIRECTORY and real >= 0 and (
                    size == 0 or source.read_at(real, 4) == CENTRAL):
                return real, size, real - start  # something may stand in front of the archive
        at = tail.rfind(END, 0, at)
    return None


def _directory64(source: Source, told: int, before: int) -> tuple[int, int, int] | None:
    for at in (told, before - 56):
        if 0 <= at <= source.size - 56:
            raw = source.read_at(at, 56)
            if raw[:4] == END64:
                size, start = struct.unpack_from("<QQ", raw, 40)
                return at, size, start
    return None


def entries_by_headers(source: Source, breathe: Callable[[], None]) -> list[ZipEntry]:
    """What the headers of the files themselves tell, in their order."""
    found: list[ZipEntry] = []
    at = 0
    while len(found) < MOST_ITEMS:
        breathe()
        at = _next(source, LOCAL, at)
        if at < 0 or at + LOCAL_BYTES > source.size:
            break
        head = source.read_at(at, LOCAL_BYTES)
        flags, method, when, day, crc, packed, length, name, extra = struct.unpack_from(
            "<HHHHIIIHH", head, 6)
        raw = source.read_at(at + LOCAL_BYTES, name)
        more = _extras(source.read_at(at + LOCAL_BYTES + name, extra))
        length, packed, _ = _wide(more.get(1, b""), length, packed, 0)
        data = at + LOCAL_BYTES + name + extra
        if not _is_name(raw):
            at += 4
            continue
        size: int | None = length
        if flags & LATER and not packed:
            packed, size, crc = _by_descriptor(source, data)
        packed = max(0, min(packed, source.size - data))
        found.append(_entry(raw, at, packed, size, flags, method, crc, when, day, more))
        at = data + packed
    return found


def _by_descriptor(source: Source, data: int) -> tuple[int, int | None, int]:
    """(packed, size, CRC) of a file whose sizes stand behind its data, or which is cut."""
    at = data
    while True:
        at = _next(source, DESCRIPTOR, at)
        if at < 0:
            return source.size - data, None, 0
        raw = source.read_at(at, 24)
        if len(raw) >= 16:
            crc, packed, size = struct.unpack_from("<III", raw, 4)
            if packed == at - data:
                return packed, size, crc
        if len(raw) == 24:
            crc, wide, whole = struct.unpack_from("<IQQ", raw, 4)
            if wide == at - data:
                return wide, whole, crc
        at += 4


def _next(source: Source, mark: bytes, at: int) -> int:
    """The next place of `mark` from `at` on; -1 where there is none."""
    while at + len(mark) <= source.size:
        block = source.read_at(at, min(SCAN, source.size - at))
        place = block.find(mark)
        if place >= 0:
            return at + place
        if len(block) < SCAN:
            return -1
        at += len(block) - len(mark) + 1
    return -1


def local_data(source: Source, entry: ZipEntry) -> int:
    """Where the data of a file begins; FormatError where its own header is damaged."""
    if not 0 <= entry.at <= source.size - LOCAL_BYTES:
        raise FormatError("coded-data-damaged", max(0, entry.at))
    head = source.read_at(entry.at, LOCAL_BYTES)
    if head[:4] != LOCAL:
        raise FormatError("coded-data-damaged", entry.at)
    name, extra = struct.unpack_from("<HH", head, 26)
    return entry.at + LOCAL_BYTES + int(name) + int(extra)


def _entry(raw: bytes, at: int, packed: int, size: int | None, flags: int, method: int, crc: int,
           when: int, day: int, more: dict[int, bytes]) -> ZipEntry:
    strength = strength_of(more.get(zip_cipher.EXTRA, b"")) if method == zip_cipher.METHOD else None
    summed = None if strength is not None and strength.version == 2 else crc
    if size is None:
        summed = None
    return ZipEntry(_name(raw, flags, more), at, packed,
                    size if size is None or size < MOST_STATED else None, method, summed,
                    _time(when, day, more), bool(flags & ENCRYPTED), strength,
                    _check(flags, method, crc, when))


def _check(flags: int, method: int, crc: int, when: int) -> int | None:
    """What the last byte in front of the data says in the old cipher (6.1.6): of the CRC, or of
    the time where that comes behind the data."""
    if not flags & ENCRYPTED or flags & STRONG or method == zip_cipher.METHOD:
        return None
    return (when >> 8 if flags & LATER else crc >> 24) & 0xFF


def _name(raw: bytes, flags: int, more: dict[int, bytes]) -> str:
    unicode = more.get(0x7075, b"")  # 4.6.9
    if len(unicode) > 5 and unicode[0] == 1:
        return unicode[5:].decode("utf-8", "replace")
    if flags & UTF8:
        return raw.decode("utf-8", "replace")
    try:
        return raw.decode("utf-8")  # what most write without saying so
    except UnicodeDecodeError:
        return raw.decode("cp437")


def _time(when: int, day: int, more: dict[int, bytes]) -> str | None:
    extended = more.get(0x5455, b"")
    if len(extended) >= 5 and extended[0] & 1:
        stamp = unix(struct.unpack_from("<i", extended, 1)[0])
        if stamp is not None:
            return stamp.text()
    try:
        return datetime(1980 + (day >> 9), day >> 5 & 15, day & 31, when >> 11, when >> 5 & 63,
                        2 * (when & 31)).isoformat()
    except ValueError:
        return None


def _extras(data: bytes) -> dict[int, bytes]:
    found, at = {}, 0
    while at + 4 <= len(data):
        kind, size = struct.unpack_from("<HH", data, at)
        found[kind] = data[at + 4 : at + 4 + size]
        at += 4 + size
    return found


def _wide(extra: bytes, size: int, packed: int, local: int) -> tuple[int, int, int]:
    """Sizes and place, from the ZIP64 field where they are too large for their own."""
    numbers: Iterator[int] = iter([
        int(struct.unpack_from("<Q", extra, at)[0]) for at in range(0, len(extra) // 8 * 8, 8)])
    size, packed, local = (next(numbers, value) if value == NOWHERE else value
                           for value in (size, packed, local))
    return size, packed, local


def _is_name(raw: bytes) -> bool:
    return bool(raw) and b"\0" not in raw
