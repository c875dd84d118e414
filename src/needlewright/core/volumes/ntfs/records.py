"""File records of NTFS: fixups, attributes, runs. Little-endian.

As documented for the kernel's ntfs3 (fs/ntfs3/ntfs.h): each sector of a record ends with a number
that stands again in its head, with what it displaced. Runs are pairs of lengths and differences.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.volumes.base import Extents, Times
from needlewright.core.volumes.stamps import nt

IN_USE, FOLDER = 1, 2
STANDARD, LIST, NAME, DATA = 0x10, 0x20, 0x30, 0x80
INDEX_ALLOCATION, BITMAP = 0xA0, 0xB0
COMPRESSED, ENCRYPTED, SPARSE = 0x0001, 0x4000, 0x8000
DOS_NAME = 2
MAX_ATTRIBUTES = 512  # of one record; more than fit
MAX_RUNS = 1 << 20
EARLIEST, LATEST = 94_354_848_000_000_000, 189_000_000_000_000_000  # 1900 to 2199, as NTFS counts
STRIDE = 512  # bytes that each number of a fixup guards

HEAD = struct.Struct("<4sHHQHHHHIIQ")
ATTRIBUTE = struct.Struct("<IIBBHHH")
RESIDENT = struct.Struct("<IHBx")
RUNNING = struct.Struct("<QQHB5xQQQ")
FILE_NAME = struct.Struct("<QQQQQQQIIBB")
TAIL = struct.Struct("<QQIIBB")  # its end, from the allocated size on
KNOWN_FLAGS = 0x3FA7  # file attributes but folder and device
NEVER_IN_NAMES = set('"*/:<>?\\|')
INDEXED = 0x1000_0000  # of the flags beside a name: it is a folder's


@dataclass(frozen=True, slots=True)
class Attribute:
    """One attribute. `value` where it is resident, else `runs` as stored, from `first_vcn` on."""

    kind: int
    name: str
    flags: int
    value: bytes | None
    value_at: int
    first_vcn: int = 0
    runs: bytes = b""
    unit: int = 0  # log2 of clusters in a compression unit
    size: int = 0
    initialized: int = 0


@dataclass(frozen=True, slots=True)
class FileName:
    """A name of a file: where it hangs, and what the directory knew of it."""

    parent: int
    parent_sequence: int
    name: str
    space: int
    size: int
    stamps: tuple[int, int, int]  # created, modified, accessed
    of_folder: bool = False

    def times(self) -> Times:
        created, modified, accessed = self.stamps
        return Times(nt(created), nt(modified), nt(accessed))


def fix_block(raw: bytearray, size: int) -> npt.NDArray[np.bool_]:
    """Undo the fixups of all records of `size` bytes in `raw`, in place; which of them are sound.

    Returns bool[n]. Records without a signature count as not sound and stay as they are.
    """
    count = len(raw) // size
    table = np.frombuffer(raw, np.uint8, count * size).reshape(count, size)
    signed: npt.NDArray[np.bool_] = (
        table[:, :4] == np.frombuffer(b"FILE", np.uint8)).all(axis=1)
    words = table.view("<u2").reshape(count, size // 2)
    sound: npt.NDArray[np.bool_] = signed.copy()
    at, length = words[:, 2], words[:, 3]
    wanted = size // STRIDE + 1
    usual = signed & (length == wanted) & (at % 2 == 0) & (at >= 40) & (
        at.astype(np.int64) + 2 * wanted <= STRIDE - 2)
    sound &= usual
    for place in np.unique(at[usual]).tolist():
        rows = np.flatnonzero(usual & (at == place))
        array = words[rows, place // 2 : place // 2 + wanted]
        for sector in range(1, wanted):
            end = sector * STRIDE // 2 - 1
            good = words[rows, end] == array[:, 0]
            sound[rows[~good]] = False
            words[rows[good], end] = array[good, sector]
    return sound


def fix_index(raw: bytearray) -> bool:
    """Undo the fixups of one index block in place; whether they hold."""
    if len(raw) < STRIDE or raw[:4] != b"INDX":
        return False
    at, count = struct.unpack_from("<HH", raw, 4)
    if count != len(raw) // STRIDE + 1 or at + 2 * count > len(raw):
        return False
    number = raw[at : at + 2]
    for sector in range(1, count):
        end = sector * STRIDE - 2
        if raw[end : end + 2] != number:
            return False
        raw[end : end + 2] = raw[at + 2 * sector : at + 2 * sector + 2]
    return True


def attributes(record: bytes) -> Iterator[Attribute]:
    """The attributes of a record whose fixups are undone; ends where one does not fit."""
    at = struct.unpack_from("<H", record, 20)[0]
    used = min(struct.unpack_from("<I", record, 24)[0], len(record))
    for _ in range(MAX_ATTRIBUTES):
        if at < 24 or at + 16 > used:
            return
        kind, length, apart, name_length, name_at, flags, _ = ATTRIBUTE.unpack_from(record, at)
        if kind == 0xFFFF_FFFF or length < 24 or at + length > used or kind % 16:
            return
        found = _attribute(record, at, length, kind, apart, name_length, name_at, flags)
        if found is not None:
            yield found
        at += length


def _attribute(record: bytes, at: int, length: int, kind: int, apart: int, name_length: int,
               name_at: int, flags: int) -> Attribute | None:
    name = ""
    if name_length:
        name = record[at + name_at : at + name_at + 2 * name_length].decode("utf-16-le", "replace")
    if not apart:
        size, value_at, _ = RESIDENT.unpack_from(record, at + 16)
        if value_at + size > length:
            return None
        return Attribute(kind, name, flags, record[at + value_at : at + value_at + size],
                         at + value_at, size=size, initialized=size)
    if length < 64:
        return None
    first, _, runs_at, unit, _, real, initialized = RUNNING.unpack_from(record, at + 16)
    if runs_at > length:
        return None
    return Attribute(kind, name, flags, None, at, first, record[at + runs_at : at + length], unit,
                     real, initialized)


def decode_runs(raw: bytes) -> list[tuple[int | None, int]]:
    """(cluster or None: sparse, count) of stored runs; FormatError where they make no sense."""
    found: list[tuple[int | None, int]] = []
    at, cluster = 0, 0
    while at < len(raw) and raw[at]:
        sizes = raw[at]
        length_bytes, offset_bytes = sizes & 15, sizes >> 4
        stop = at + 1 + length_bytes + offset_bytes
        if not 1 <= length_bytes <= 8 or offset_bytes > 8 or stop > len(raw) or (
                len(found) >= MAX_RUNS):
            raise FormatError("run-senseless", offset=at)
        middle = at + 1 + length_bytes
        count = int.from_bytes(raw[at + 1 : middle], "little")
        if count == 0 or count >> 48:
            raise FormatError("run-without-length", offset=at)
        if offset_bytes:
            cluster += int.from_bytes(raw[middle:stop], "little", signed=True)
            if cluster < 0 or cluster >> 48:
                raise FormatError("run-before-volume", offset=at)
            found.append((cluster, count))
        else:
            found.append((None, count))
        at = stop
    return found


def file_name(value: bytes) -> FileName | None:
    """A name attribute's value, which index entries hold as well; None where it is none."""
    if len(value) < 66:
        return None
    (parent, created, modified, _, accessed, _, size, flags, _, length,
     space) = FILE_NAME.unpack_from(value)
    if not length or 66 + 2 * length > len(value) or space > 3:
        return None
    name = value[66 : 66 + 2 * length].decode("utf-16-le", "replace")
    return FileName(parent & 0xFFFF_FFFF_FFFF, parent >> 48, name, space, size,
                    (created, modified, accessed), bool(flags & INDEXED))


def index_end(block: bytes) -> tuple[int, int]:
    """(first byte behind the entries in use, end of the room) of an index block."""
    used, allocated = struct.unpack_from("<II", block, 28)
    return min(24 + used, len(block)), min(24 + allocated, len(block))


RECORD_END, INDEX_END = b"\xff" * 4, struct.pack("<HHI", 16, 0, 2)
LOST_PARENT = -1


def stray_names(raw: bytes, start: int, stop: int) -> Iterator[tuple[int, int, FileName, int]]:
    """(record, sequence, name, byte) of index entries that no index holds any more.

    They stand behind the entries in use, and behind the end of a folder's record, shifted copies
    among them. Where the marks that end an index or a record were written over the head of one, its
    record is told as 0; where they hit its parent, that is told as `LOST_PARENT`.
    """
    at = (start + 7) // 8 * 8
    while at + 82 <= stop:
        ref, length, key = struct.unpack_from("<QHH", raw, at)
        fits = 82 <= length <= 616 and 66 < key <= length and length % 8 == 0
        parent = raw[at + 16 : at + 24]
        hit = parent[:4] == RECORD_END or parent == INDEX_END
        headless = hit or (ref == 0 and length == 16 and raw[at + 12] & 2)
        found = file_name(raw[at + 16 : stop]) if fits or headless else None
        if found is not None and hit:
            found = replace(found, parent=LOST_PARENT, parent_sequence=0)
            fits, ref = False, 0
        if found is not None and (ref or headless) and all(
                EARLIEST < s < LATEST for s in found.stamps):
            yield ref & 0xFFFF_FFFF_FFFF, ref >> 48, found, at
            at += length if fits else (82 + 2 * len(found.name) + 7) // 8 * 8
        else:
            at += 8


def stray_tails(raw: bytes, start: int, stop: int, cluster_size: int) -> Iterator[tuple[
        FileName, int]]:
    """(name, byte of its entry) where no more stands of an index entry than its end: allocated
    size, size, flags and letters. Two leftovers that were shifted over each other leave that.

    Only what agrees is told: so many clusters as the size needs, and flags that exist ([MS-FSCC]
    2.6). Its parent is LOST_PARENT, its times are 0.
    """
    for at in range((start + 7) // 8 * 8, stop - 27, 8):
        allocated, size, flags, reserved, length, space = TAIL.unpack_from(raw, at)
        if not 0 < size <= allocated or allocated != -(-size // cluster_size) * cluster_size or (
                flags & ~KNOWN_FLAGS or reserved or not length or space > 3):
            continue
        letters = raw[at + 26 : at + 26 + 2 * length]
        text = letters.decode("utf-16-le", "replace")
        if len(letters) == 2 * length and text.isprintable() and "\ufffd" not in text and (
                not set(text) & NEVER_IN_NAMES):
            yield FileName(LOST_PARENT, 0, text, space, size, (0, 0, 0)), at - 56


def extents_of(runs: list[tuple[int | None, int]], cluster_size: int) -> Extents:
    """Runs of clusters as bytes of the volume."""
    return tuple((None if c is None else c * cluster_size, n * cluster_size) for c, n in runs)
