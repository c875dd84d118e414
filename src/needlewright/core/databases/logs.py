"""Older and newer pages of a SQLite database, from its write-ahead log and its rollback journal
(sqlite.org file format, sections 3 and 4)."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.sources.source import Source

LOG, JOURNAL = "-wal", "-journal"  # endings of their names, behind that of the database
LOG_MAGICS = {0x377F0682: "<u4", 0x377F0683: ">u4"}  # how its sums are counted
LOG_HEADER, FRAME_HEADER = 32, 24
JOURNAL_MAGIC = bytes.fromhex("d9d505f920a163d7")
SECTOR = 512


@dataclass(frozen=True, slots=True)
class Image:
    """One page as it was. `number`: of the page; `at`: byte of its content in `kind`, the log or
    the journal; `valid`: its sums are right."""

    kind: str
    number: int
    at: int
    valid: bool


@dataclass(slots=True)
class Log:
    """A log or journal. `over`: pages of what counts now; `size`: pages of the database then, 0
    where that is not said; `images`: every page image in it, in order."""

    source: Source
    page_bytes: int
    over: dict[int, int] = field(default_factory=dict)  # page -> byte in the log
    size: int = 0
    images: list[Image] = field(default_factory=list)

    def content(self, at: int) -> bytes:
        return self.source.read_at(at, self.page_bytes)


def log_sums(data: bytes, order: str, first: int, second: int) -> tuple[int, int]:
    """The running checksum of a log (4.2) over `data`, an even number of 32-bit words in `order`,
    which goes on from `first` and `second`."""
    for one, two in np.frombuffer(data, order).reshape(-1, 2).tolist():
        first = (first + one + second) & 0xFFFFFFFF
        second = (second + two + first) & 0xFFFFFFFF
    return first, second


def read_log(source: Source, page_bytes: int) -> Log | None:
    """The write-ahead log; None where it is none of a database with such pages. Frames up to the
    last one that ends a transaction count, while sums and salts are right."""
    head = source.read_at(0, LOG_HEADER)
    if len(head) < LOG_HEADER:
        return None
    magic, _, size, _, salt1, salt2, sum1, sum2 = struct.unpack(">8I", head)
    if magic not in LOG_MAGICS or (65_536 if size == 1 else size) != page_bytes:
        return None
    order = LOG_MAGICS[magic]
    log = Log(source, page_bytes)
    sums = log_sums(head[:24], order, 0, 0)
    valid = sums == (sum1, sum2)
    pending: dict[int, int] = {}
    at = LOG_HEADER
    while at + FRAME_HEADER + page_bytes <= source.size:
        frame = source.read_at(at, FRAME_HEADER)
        content = source.read_at(at + FRAME_HEADER, page_bytes)
        number, commit, one, two, told1, told2 = struct.unpack(">6I", frame)
        if valid:
            sums = log_sums(frame[:8] + content, order, *sums)
            valid = (one, two) == (salt1, salt2) and sums == (told1, told2) and number > 0
        if number:
            log.images.append(Image("log", number, at + FRAME_HEADER, valid))
        if valid:
            pending[number] = at + FRAME_HEADER
            if commit:
                log.over.update(pending)
                log.size, pending = commit, {}
        at += FRAME_HEADER + page_bytes
    return log


def read_journal(source: Source, page_bytes: int) -> Log | None:
    """The rollback journal; None where it holds nothing. While its header stands, the database is
    as it was before the last transaction: its pages count. One that was kept with its header
    cleared holds older pages all the same."""
    if source.size < 28 + page_bytes:
        return None
    first = _journal_header(source, 0, page_bytes)
    if first is None:
        log = Log(source, page_bytes)
        _journal_part(log, SECTOR, (source.size - SECTOR) // (page_bytes + 8), None)
        return log
    log = Log(source, page_bytes, size=first[2])
    at: int | None = 0
    while at is not None:  # each time it was brought to the disk, another header follows
        header = _journal_header(source, at, page_bytes)
        if header is None:
            break
        count, nonce, _, sector = header
        limit = (source.size - at - sector) // (page_bytes + 8)
        wanted = limit if count == 0xFFFFFFFF else min(count, limit)
        at = _journal_part(log, at + sector, wanted, nonce)
        at = None if at is None else -(-at // sector) * sector
    return log


def _journal_header(source: Source, at: int, page_bytes: int) -> tuple[int, int, int, int] | None:
    """(records, nonce, pages of the database, bytes of a sector) of the header at `at`."""
    head = source.read_at(at, 28)
    if len(head) < 28 or head[:8] != JOURNAL_MAGIC:
        return None
    count, nonce, size, sector, pages = struct.unpack(">5I", head[8:])
    if pages not in (page_bytes, 0) or not 32 <= sector <= 65_536 or sector & (sector - 1):
        return None
    return count, nonce, size, sector


def _journal_part(log: Log, at: int, count: int, nonce: int | None) -> int | None:
    """Take `count` records from `at` on; the byte behind them, None where one is not right.
    `nonce`: of their sums; None where the header is gone, so that none counts."""
    for _ in range(max(0, count)):
        record = log.source.read_at(at, log.page_bytes + 8)
        if len(record) < log.page_bytes + 8:
            return None
        number = int.from_bytes(record[:4], "big")
        content = record[4:-4]
        if nonce is not None:
            if not number or _journal_sum(content, nonce) != int.from_bytes(record[-4:], "big"):
                return None
            log.over.setdefault(number, at + 4)
        if 0 < number < 1 << 31:
            log.images.append(Image("journal", number, at + 4, nonce is not None))
        at += log.page_bytes + 8
    return at


def _journal_sum(content: bytes, nonce: int) -> int:
    """Section 3: every 200th byte from the end."""
    picked = content[len(content) - 200 :: -200] if len(content) > 200 else b""
    return (nonce + sum(picked)) & 0xFFFFFFFF


