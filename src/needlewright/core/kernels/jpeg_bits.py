"""The byte and table layer of JPEG entropy coding (ITU-T T.81, B.1.1.5, C.2, F.2.2.3).

`clean` bytes are coded bytes without stuffing (FF 00 -> FF) and without RSTn markers; a segment
is what lies between two of them. Kernels notice the end of the data once a block, so clean arrays
carry PAD zero bytes behind it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from numba import njit

PAD = 512  # a block reads at most 63 * 31 bits past the end before that is noticed
LOOKUP_BITS = 11
CHECKPOINT = 256  # clean bytes between two entries of the clean -> raw map
SLACK_BYTES = 8  # that may stay behind the last MCU

# Entries of `HuffmanTable.steps`. Advances beyond a block mark how it ends: 64 + 64 for EOB, more
# for a symbol that sequential scans do not have (F.1.2.2.1: size 0 with a run of 1 to 14).
ENDS, NOT_A_SYMBOL = 128, 256
ADVANCE_AT, FIRST_AT = 8, 18


@njit(cache=True, nogil=True, inline="always")
def peek64(words, bit):
    """The 33 or more bits from bit position `bit` (uint64), left-aligned in a uint64.

    Two aligned loads; a code and its extra bits are at most 31 (F.2.2.3: 16 + 15).
    """
    i = bit >> np.uint64(5)
    pair = (np.uint64(words[i]) << np.uint64(32)) | np.uint64(words[i + np.uint64(1)])
    return pair << (bit & np.uint64(31))


@njit(cache=True, nogil=True, inline="always")
def extended(word, size):
    """The value of the `size` bits (0 to 15) at the top of `word` (T.81 F.2.2.1); no branches."""
    value = np.int64((word >> np.uint64(1)) >> np.uint64(63 - size))
    room = np.int64(1) << size
    return value - (room - 1) * np.int64(value < room >> 1)


@njit(cache=True, nogil=True)
def is_padding(words, bit, stop_bit):
    """Whether what is left from `bit` to `stop_bit` is no more than an encoder leaves behind.

    The rest of a byte (T.81 F.1.2.3 fills it with ones, not all encoders do), then at most
    SLACK_BYTES whole ones that are all 00 or all FF; coded data that nobody decoded differs.
    """
    at = (bit + 7) >> 3
    last = stop_bit >> 3
    if last - at > SLACK_BYTES:
        return False
    filler = (words[at >> 2] >> np.uint32(8 * (3 - (at & 3)))) & np.uint32(0xFF)
    if at < last and filler != 0 and filler != 0xFF:
        return False
    for i in range(at, last):
        if (words[i >> 2] >> np.uint32(8 * (3 - (i & 3)))) & np.uint32(0xFF) != filler:
            return False
    return True


@njit(cache=True, nogil=True)
def _unstuff(raw, marks, clean, seg_clean, seg_raw, seg_number, raw_at):
    """`marks`: where FF stands in `raw`; what lies between two of them is copied in one go."""
    i = 0
    o = 0
    segments = 1
    seg_clean[0] = 0
    seg_raw[0] = 0
    seg_number[0] = -1
    mark = 0
    for m in range(marks.size + 1):
        stop = marks[m] if m < marks.size else raw.size
        if stop < i:
            continue  # the second byte of a pair that was taken already
        length = stop - i
        while mark < o + length:
            raw_at[mark // CHECKPOINT] = i + mark - o
            mark += CHECKPOINT
        clean[o : o + length] = raw[i:stop]
        o += length
        i = stop
        if i + 1 >= raw.size:
            break
        code = raw[i + 1]
        if code == 0:
            if o >= mark:
                raw_at[mark // CHECKPOINT] = i
                mark += CHECKPOINT
            clean[o] = 0xFF
            o += 1
            i += 2
        elif code == 0xFF:
            i += 1
        else:  # RSTn: the caller cut the data before any other marker
            if segments >= seg_clean.size:
                break
            i += 2
            seg_clean[segments] = o
            seg_raw[segments] = i
            seg_number[segments] = code - 0xD0
            segments += 1
    return o, segments


@dataclass(frozen=True, slots=True)
class CleanScan:
    """One scan's coded data without stuffing.

    `clean` uint8[size + PAD or a little more]; `words` uint32: the same, four bytes each, the first
    on top; `seg_clean`, `seg_raw` int64[segments]: where each segment begins in
    clean and in raw bytes; `seg_number` int64[segments]: its RSTn number, -1 for the first.
    """

    clean: npt.NDArray[np.uint8]
    words: npt.NDArray[np.uint32]
    size: int
    seg_clean: npt.NDArray[np.int64]
    seg_raw: npt.NDArray[np.int64]
    seg_number: npt.NDArray[np.int64]
    raw: npt.NDArray[np.uint8]
    raw_at: npt.NDArray[np.int64]

    def raw_offsets(self, clean_offsets: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Raw offsets of clean byte offsets, to within the stuffing of CHECKPOINT bytes."""
        slot = np.clip(clean_offsets // CHECKPOINT, 0, len(self.raw_at) - 1)
        offsets: npt.NDArray[np.int64] = self.raw_at[slot] + clean_offsets - slot * CHECKPOINT
        return np.minimum(offsets, len(self.raw), out=offsets)


def scan_end(data: npt.NDArray[np.uint8], start: int = 0) -> int:
    """Index of the marker that ends the coded data from `start`; len(data) if there is none.

    Stuffing (FF 00), fill (FF FF) and RSTn do not end it.
    """
    places = start + np.flatnonzero(data[start:-1] == 0xFF)
    codes = data[places + 1]
    ends = places[(codes != 0) & (codes != 0xFF) & ((codes < 0xD0) | (codes > 0xD7))]
    return int(ends[0]) if ends.size else len(data)


def unstuff(raw: npt.NDArray[np.uint8], max_segments: int) -> CleanScan:
    """Take the stuffing and RSTn markers out of `raw` uint8[n], which holds no other marker.

    Segments beyond `max_segments` are left off; the decoder then meets the end of the data.
    """
    clean = np.zeros((raw.size + PAD + 7) // 8 * 8, np.uint8)
    seg_clean = np.zeros(max_segments, np.int64)
    seg_raw = np.zeros(max_segments, np.int64)
    seg_number = np.zeros(max_segments, np.int64)
    raw_at = np.zeros(raw.size // CHECKPOINT + 2, np.int64)
    marks = np.flatnonzero(raw == 0xFF)
    size, count = _unstuff(raw, marks, clean, seg_clean, seg_raw, seg_number, raw_at)
    used = raw_at[: max(1, (size + CHECKPOINT - 1) // CHECKPOINT)]
    words = clean.view(">u4").astype(np.uint32)
    return CleanScan(
        clean, words, int(size), seg_clean[:count], seg_raw[:count], seg_number[:count], raw, used
    )


@dataclass(frozen=True, slots=True)
class HuffmanTable:
    """A decoding table (T.81 annex C and F.2.2.3).

    `lookup` int32[2048]: (symbol << 8 | code length) for codes of up to 11 bits, else 0; `steps`
    int32[2048]: what AC symbols starting here do, for sequential scans (see `_ac_steps`);
    `maxcode` int64[18]: largest code of each length left-aligned to 16 bits plus one; `delta`
    int64[18]: what to add to a code to index `symbols` uint8[256].
    """

    lookup: npt.NDArray[np.int32]
    steps: npt.NDArray[np.int32]
    maxcode: npt.NDArray[np.int64]
    delta: npt.NDArray[np.int64]
    symbols: npt.NDArray[np.uint8]


def _ac_steps(lookup: npt.NDArray[np.int32]) -> npt.NDArray[np.int32]:
    """One or two AC symbols at once, by the 11 bits they start with; 0 where a code is longer.

    Bits 0-7: bits to skip, with the extra bits of each symbol; 8-17: coefficients to advance;
    18-25: how far the first of two advances, 0 for one alone. The second symbol belongs to this
    block only if the first does not fill it, so a decoder must look at that before it takes both.
    """
    length, symbol = lookup & 0xFF, lookup >> 8
    run, size = symbol >> 4, symbol & 15
    bits = length + size
    advance = np.where(size > 0, run + 1, np.where(run == 0, ENDS, np.where(
        run == 15, 16, NOT_A_SYMBOL)))
    index = np.arange(lookup.size)
    behind = (index << bits) & (lookup.size - 1)
    pair = (length > 0) & (advance < ENDS) & (length[behind] > 0) & (
        bits + length[behind] <= LOOKUP_BITS)
    bits = bits + np.where(pair, bits[behind], 0)
    both = advance + np.where(pair, advance[behind], 0)
    first = np.where(pair, advance, 0)
    steps = bits | both << ADVANCE_AT | first << FIRST_AT
    return np.where(length > 0, steps, 0).astype(np.int32)


@lru_cache(maxsize=64)
def build_huffman(counts: bytes, symbols: bytes) -> HuffmanTable:
    """Table for the 16 `counts` and the `symbols` of a DHT segment; ValueError if over-full."""
    lookup = np.zeros(1 << LOOKUP_BITS, np.int32)
    maxcode = np.zeros(18, np.int64)
    delta = np.zeros(18, np.int64)
    values = np.zeros(256, np.uint8)
    values[: len(symbols)] = np.frombuffer(symbols, np.uint8)
    code = index = 0
    for length in range(1, 17):
        count = counts[length - 1]
        if code + count > 1 << length:
            raise ValueError("more codes than fit")
        delta[length] = index - code
        if length <= LOOKUP_BITS:
            shift = LOOKUP_BITS - length
            for step in range(count):
                low = (code + step) << shift
                lookup[low : low + (1 << shift)] = (symbols[index + step] << 8) | length
        code += count
        index += count
        maxcode[length] = code << (16 - length)
        code <<= 1
    return HuffmanTable(lookup, _ac_steps(lookup), maxcode, delta, values)


@njit(cache=True, nogil=True, inline="always")
def decode_symbol(word, table, lookup, maxcode, delta, symbols):
    """(symbol << 8 | code length) at the top of `word`; -1 for a code that is not in the table."""
    entry = lookup[table, word >> np.uint64(64 - LOOKUP_BITS)]
    if entry != 0:
        return np.int64(entry)
    top = np.int64(word >> np.uint64(48))
    for length in range(LOOKUP_BITS + 1, 17):
        if top < maxcode[table, length]:
            index = (top >> (16 - length)) + delta[table, length]
            return (np.int64(symbols[table, index]) << 8) | length
    return np.int64(-1)
