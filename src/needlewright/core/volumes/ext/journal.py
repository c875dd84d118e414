"""The journal of ext3 and ext4 (jbd2): older copies of blocks. Big-endian.

Source: the kernel's include/linux/jbd2.h. The whole log is looked at, not only what a recovery
would replay: what was committed and written back long ago is the evidence that counts here, and so
is what was revoked. Not read: fast commits, external journals.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source

MAGIC = 0xC03B3998
DESCRIPTOR, COMMIT, SUPER_2, REVOKE = 1, 2, 4, 5
BITS_64, SUMS_2, SUMS_3 = 0x02, 0x08, 0x10
ESCAPED, SAME_UUID, LAST = 1, 2, 8
MAX_BLOCKS = 1 << 22


@dataclass(frozen=True, slots=True)
class Copy:
    """An older copy of a block of the volume: `sequence` of its transaction, its byte in the log.
    """

    sequence: int
    block: int
    at: int
    escaped: bool


class Journal:
    """The copies that a journal holds. `log`: its content as a source."""

    def __init__(self, log: Source, block_size: int) -> None:
        self._log, self._size = log, block_size
        self.copies: dict[int, list[Copy]] = {}  # block -> copies, the oldest first
        head = self._read(0)
        if len(head) < 1024 or struct.unpack_from(">I", head)[0] != MAGIC:
            return
        _, _, _, stated, length, first = struct.unpack_from(">6I", head)
        kind = struct.unpack_from(">I", head, 4)[0]
        if stated != block_size or not 0 < first < length:
            return
        self._features = struct.unpack_from(">I", head, 40)[0] if kind == SUPER_2 else 0
        self._first, self._length = first, min(length, log.size // block_size, MAX_BLOCKS)
        self._collect()

    def _read(self, index: int) -> bytes:
        try:
            return self._log.read_at(index * self._size, self._size)
        except SourceError:
            return b""

    def _collect(self) -> None:
        """Which block of the log is a copy of what. The newest claim to a block of the log holds.
        """
        owner: dict[int, tuple[int, int, bool]] = {}  # place in the log -> sequence, block, escaped
        for index in range(self._first, self._length):
            raw = self._read(index)
            if len(raw) < 12:
                continue
            magic, kind, sequence = struct.unpack_from(">III", raw)
            if magic != MAGIC or kind not in (DESCRIPTOR, COMMIT, REVOKE):
                continue
            self._own(owner, index, sequence, -1, False)
            if kind == DESCRIPTOR:
                at = index
                for block, escaped in self._tags(raw):
                    at = at + 1 if at + 1 < self._length else self._first
                    self._own(owner, at, sequence, block, escaped)
        for at, (sequence, block, escaped) in owner.items():
            if block >= 0:
                self.copies.setdefault(block, []).append(
                    Copy(sequence, block, at * self._size, escaped))
        for found in self.copies.values():
            found.sort(key=lambda copy: copy.sequence)

    @staticmethod
    def _own(owner: dict[int, tuple[int, int, bool]], at: int, sequence: int, block: int,
             escaped: bool) -> None:
        known = owner.get(at)
        if known is None or known[0] <= sequence:
            owner[at] = (sequence, block, escaped)

    def _tags(self, raw: bytes) -> Iterator[tuple[int, bool]]:
        """(block, whether its first four bytes are masked) of what follows a descriptor."""
        at = 12
        sums_3 = self._features & SUMS_3
        size = 16 if sums_3 else 12 if self._features & BITS_64 else 8
        stop = len(raw) - (4 if self._features & (SUMS_2 | SUMS_3) else 0)
        while at + size <= stop:
            if sums_3:
                low, flags, high = struct.unpack_from(">III", raw, at)
            else:
                low, _, flags = struct.unpack_from(">IHH", raw, at)
                high = struct.unpack_from(">I", raw, at + 8)[0] if size == 12 else 0
            if not self._features & BITS_64:
                high = 0
            at += size + (0 if flags & SAME_UUID else 16)
            yield low | high << 32, bool(flags & ESCAPED)
            if flags & LAST:
                return

    def read(self, copy: Copy) -> bytes:
        """The block as it was."""
        raw = self._read(copy.at // self._size)
        if copy.escaped:
            raw = MAGIC.to_bytes(4, "big") + raw[4:]
        return raw

    def version(self, block: int, sequence: int) -> bytes:
        """The last copy of `block` not newer than `sequence`; b"" where there is none."""
        best = None
        for copy in self.copies.get(block, ()):
            if copy.sequence <= sequence:
                best = copy
        return self.read(best) if best is not None else b""
