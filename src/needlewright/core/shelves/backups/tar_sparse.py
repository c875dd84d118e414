"""Members of a tar archive that are stored without their holes (GNU tar manual, "Storing Sparse
Files": the old format, and those of pax 0.0, 0.1 and 1.0).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from needlewright.core.shelves.backups.tar_headers import RECORD, number, octal
from needlewright.core.shelves.item_shelf import MOST_STATED

MAJOR, SIZE, REAL, NAME, MAP = (f"GNU.sparse.{what}" for what in (
    "major", "size", "realsize", "name", "map"))
OLD_AT, OLD_ENTRIES, OLD_MORE, OLD_REAL = 386, 4, 482, 483
MORE_ENTRIES, MORE_MORE = 21, 504  # of a block that goes on
NUMBERS = 12  # bytes of one
MOST_PIECES, MOST_BLOCKS = 1 << 16, 1 << 12

#: (byte of the file, length) of each piece that is stored, in order.
Spread = tuple[tuple[int, int], ...]
Read = Callable[[int], bytes]


def is_sparse(told: Mapping[str, str]) -> bool:
    """Whether a header of pax tells of holes."""
    return MAJOR in told or MAP in told


def old_spread(raw: bytes, stored: int, read: Read) -> tuple[Spread | None, int]:
    """(where the pieces of a member of the old format belong, the size of the file) from its
    header; `read` goes on behind that. None where it makes no sense."""
    pieces = _entries(raw, OLD_AT, OLD_ENTRIES)
    more, blocks = raw[OLD_MORE], 0
    while more and blocks < MOST_BLOCKS:
        block = read(RECORD)
        if len(block) < RECORD:
            return None, 0
        pieces += _entries(block, 0, MORE_ENTRIES)
        more, blocks = block[MORE_MORE], blocks + 1
    real = octal(raw[OLD_REAL : OLD_REAL + NUMBERS]) or 0
    return _checked(pieces, stored, real), real


def pax_spread(told: Mapping[str, str], stored: int, read: Read) -> tuple[Spread | None, int, int]:
    """(as above, the size, bytes of the member that hold the map) by headers of pax."""
    real = number(told.get(REAL) or told.get(SIZE))
    if MAJOR not in told:
        numbers = [number(text) for text in told[MAP].split(",")[: 2 * MOST_PIECES]]
        return _checked(_paired(numbers), stored, real), real, 0
    numbers, taken = _leading(read, stored)
    return _checked(_paired(numbers), stored - taken, real), real, taken


def _leading(read: Read, stored: int) -> tuple[list[int], int]:
    """(the numbers of the map in front of the data, how many bytes it takes)."""
    blocks: list[bytes] = []
    lines, wanted = 0, 0
    while not lines or lines < wanted:
        block = read(RECORD) if (len(blocks) + 1) * RECORD <= stored else b""
        blocks.append(block)
        lines += block.count(b"\n")
        if len(blocks) == 1 and lines:
            wanted = 2 * number(block.split(b"\n")[0].decode("ascii", "replace")) + 1
        if not lines or len(block) < RECORD or wanted > 2 * MOST_PIECES:
            return [], sum(map(len, blocks))
    told = b"".join(blocks).split(b"\n")[1:wanted]
    return [number(line.decode("ascii", "replace")) for line in told], len(blocks) * RECORD


def _entries(raw: bytes, at: int, count: int) -> list[tuple[int, int]]:
    found = []
    for index in range(count):
        start = at + 2 * NUMBERS * index
        begin, length = (octal(raw[a : a + NUMBERS]) for a in (start, start + NUMBERS))
        if begin is None or length is None or not raw[start : start + NUMBERS].strip(b"\0"):
            break
        found.append((begin, length))
    return found


def _paired(numbers: list[int]) -> list[tuple[int, int]]:
    return list(zip(numbers[::2], numbers[1::2]))


def _checked(pieces: list[tuple[int, int]], stored: int, real: int) -> Spread | None:
    """`pieces` if they lie one behind the other within the file, and are what is stored."""
    behind = 0
    for begin, length in pieces:
        if begin < behind or length < 0:
            return None
        behind = begin + length
    fits = behind <= real < MOST_STATED and sum(length for _, length in pieces) == stored
    return tuple(pieces) if fits and len(pieces) <= MOST_PIECES else None


def stretches(spread: Spread, size: int, begin: int) -> Iterator[tuple[int | None, int]]:
    """(byte in what is stored, or None for a hole; length) of a file from byte `begin` on."""
    stored = behind = 0
    for start, length in (*spread, (size, 0)):
        if start > max(begin, behind):
            yield None, start - max(begin, behind)
        left = start + length - max(begin, start)
        if left > 0:
            yield stored + length - left, left
        stored, behind = stored + length, start + length
