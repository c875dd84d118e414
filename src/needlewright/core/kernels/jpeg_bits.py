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

from needlewright.core.kernels.loads import (
    bytes_of_ones,
    load_little,
    store_little,
    trailing_zeros,
)
from needlewright.core.kernels.steady import read_only

PAD = 512  # a block reads at most 63 * 31 bits past the end before that is noticed
LOOKUP_BITS = 11
LOOKUP_SHIFT = np.uint64(64 - LOOKUP_BITS)
CHECKPOINT = 256  # clean bytes between two entries of the clean -> raw map
SLACK_BYTES = 8  # that may stay behind the last MCU

# Entries of a `HuffmanTable`. Advances beyond a block mark how it ends: 64 + 64
# for EOB, more for a symbol that sequential scans do not have (F.1.2.2.1: size 0, run 1 to 14).
ENDS, NOT_A_SYMBOL = 128, 256
ADVANCE_AT, BEFORE_AT, CODE_AT, SIZE_AT = 8, 18, 18, 24


@njit(cache=True, nogil=True, inline="always")
def extended(word, size):
    """The value of the `size` bits (0 to 15) at the top of `word` (T.81 F.2.2.1); no branches."""
    value = np.int64((word >> np.uint64(1)) >> np.uint64(63 - size))
    room = np.int64(1) << size
    return value - (room - 1) * np.int64(value < room >> 1)


@njit(cache=True, nogil=True, inline="always")
def empty_blocks(word, length, run):
    """How many blocks, this one included, a code EOBn says to be empty from here on (T.81
    G.1.2.2): the code, of `length` bits, and its `run` bits stand at the top of `word`."""
    more = np.int64(0)
    if run > 0:
        more = np.int64((word << np.uint64(length)) >> np.uint64(64 - run))
    return (np.int64(1) << run) + more


@njit(cache=True, nogil=True)
def is_padding(clean, bit, stop_bit):
    """Whether what is left from `bit` to `stop_bit` is no more than an encoder leaves behind.

    The rest of a byte (T.81 F.1.2.3 fills it with ones, not all encoders do), then at most
    SLACK_BYTES whole ones that are all 00 or all FF; coded data that nobody decoded differs.
    """
    at = (bit + 7) >> 3
    last = stop_bit >> 3
    if last - at > SLACK_BYTES:
        return False
    filler = clean[at]
    if at < last and filler != 0 and filler != 0xFF:
        return False
    for i in range(at, last):  # noqa: SIM110 (a kernel has no generators)
        if clean[i] != filler:
            return False
    return True


@njit(cache=True, nogil=True)
def unstuff_into(raw, clean, seg_clean, seg_raw, seg_number, raw_at):
    """Eight bytes at a time from FF to FF. Returns (clean bytes, segments)."""
    i = np.int64(0)
    o = np.int64(0)
    segments = 1
    seg_clean[0] = 0
    seg_raw[0] = 0
    seg_number[0] = -1
    mark = np.int64(0)
    size = np.int64(raw.size)
    while i < size:
        # Up to the next FF, or the end: what is copied beyond it is written over.
        while i + 8 <= size:
            word = load_little(raw, i)
            store_little(clean, o, word)
            ones = bytes_of_ones(word)
            if ones != np.uint64(0):
                step = trailing_zeros(ones) >> 3
                i += step
                o += step
                break
            i += 8  # apart from the above: the next word need not wait for this one
            o += 8
            if o > mark:
                raw_at[mark // CHECKPOINT] = i - (o - mark)
                mark += CHECKPOINT
        if o > mark:
            raw_at[mark // CHECKPOINT] = i - (o - mark)
            mark += CHECKPOINT
        while i < size and raw[i] != 0xFF:
            clean[o] = raw[i]
            if o == mark:
                raw_at[mark // CHECKPOINT] = i
                mark += CHECKPOINT
            i += 1
            o += 1
        if i + 1 >= size:
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


@njit(cache=True, nogil=True)
def scan_end_in(data, start):
    i = np.int64(start)
    size = np.int64(data.size)
    while i + 1 < size:
        while i + 8 <= size:
            ones = bytes_of_ones(load_little(data, i))
            if ones != np.uint64(0):
                i += trailing_zeros(ones) >> 3
                break
            i += 8
        while i < size and data[i] != 0xFF:
            i += 1
        if i + 1 >= size:
            break
        code = data[i + 1]
        if code != 0 and code != 0xFF and (code < 0xD0 or code > 0xD7):
            return i
        i += 2 if code == 0 else 1
    return size


@dataclass(frozen=True, slots=True)
class CleanScan:
    """One scan's coded data without stuffing.

    `clean` uint8[size + PAD or a little more], zero behind its size; `seg_clean`, `seg_raw`
    int64[segments]: where each segment begins in clean and in raw bytes; `seg_number`
    int64[segments]: its RSTn number, -1 for the first.
    """

    clean: npt.NDArray[np.uint8]
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
    data = read_only(data)
    return int(scan_end_in(data, start))


def unstuff(raw: npt.NDArray[np.uint8], max_segments: int) -> CleanScan:
    """Take the stuffing and RSTn markers out of `raw` uint8[n], which holds no other marker.

    Segments beyond `max_segments` are left off; the decoder then meets the end of the data.
    """
    raw = read_only(raw)
    clean = np.empty(raw.size + PAD, np.uint8)
    seg_clean = np.zeros(max_segments, np.int64)
    seg_raw = np.zeros(max_segments, np.int64)
    seg_number = np.zeros(max_segments, np.int64)
    raw_at = np.zeros(raw.size // CHECKPOINT + 2, np.int64)
    size, count = unstuff_into(raw, clean, seg_clean, seg_raw, seg_number, raw_at)
    clean[size:] = 0
    used = raw_at[: max(1, (size + CHECKPOINT - 1) // CHECKPOINT)]
    return CleanScan(
        clean, int(size), seg_clean[:count], seg_raw[:count], seg_number[:count], raw, used
    )


@dataclass(frozen=True, slots=True)
class HuffmanTable:
    """A decoding table (T.81 annex C and F.2.2.3).

    `lookup` int32[2048]: (symbol << 8 | code length) for codes of up to 11 bits, else 0; `steps`,
    `bands` int32[2048]: what AC symbols starting here do, in sequential and in first progressive
    scans; `marks` uint64[2048]: which coefficients `bands` makes other than zero, the next one
    lowest; `single` int32[2048]: what the first symbol is (see `_ac_tables`);
    `maxcode` int64[18]: largest code of each length left-aligned to 16 bits plus one; `delta`
    int64[18]: what to add to a code to index `symbols` uint8[256].
    """

    lookup: npt.NDArray[np.int32]
    steps: npt.NDArray[np.int32]
    bands: npt.NDArray[np.int32]
    marks: npt.NDArray[np.uint64]
    single: npt.NDArray[np.int32]
    maxcode: npt.NDArray[np.int64]
    delta: npt.NDArray[np.int64]
    symbols: npt.NDArray[np.uint8]


@njit(cache=True)
def _advance_of(symbol):
    """Coefficients to advance by an AC symbol; ENDS and more where it ends a block."""
    if symbol & 15 > 0:
        return (symbol >> 4) + 1
    if symbol >> 4 == 0:
        return ENDS
    return 16 if symbol >> 4 == 15 else NOT_A_SYMBOL


@njit(cache=True)
def _ac_tables(lookup, progressive, steps, marks, single):
    """Fill the tables of what AC symbols do, by the 11 bits they start with.

    `steps`, of up to four symbols at once: bits 0-7: bits to skip, with the extra bits of each
    symbol; 8-17: coefficients to advance; 18-25: how far all but the last of them advance. The
    last one belongs to this block only if those before it do not fill it, so a decoder must look at
    that before it takes them. Where a code is longer than 11 bits that is 64, which fills any
    block; so it is where a progressive scan begins a run of empty blocks, which has bits of its
    own.
    `single`, of one: bits 0-7 and 8-17 as before; 18-23: bits of the code; 24-27: size of the value
    behind it; 0 where the code is longer.
    """
    for index in range(lookup.size):
        bits = advance = before = 0
        mark = np.uint64(0)
        for count in range(4):
            entry = lookup[(index << bits) & (lookup.size - 1)]
            length = entry & 0xFF
            own = _advance_of(entry >> 8)
            if length == 0 or bits + length > LOOKUP_BITS or (
                    progressive and own == NOT_A_SYMBOL):
                if count == 0:
                    before = 64
                break
            before = advance
            advance += own
            bits += length + ((entry >> 8) & 15)
            if own < 17 and (entry >> 8) & 15 > 0 and advance <= 64:
                mark |= np.uint64(1) << np.uint64(advance - 1)
            if count == 0:
                single[index] = bits | own << ADVANCE_AT | length << CODE_AT | (
                    (entry >> 8) & 15) << SIZE_AT
            if own >= ENDS or bits >= LOOKUP_BITS or advance >= 64:
                break
        steps[index] = bits | advance << ADVANCE_AT | before << BEFORE_AT
        marks[index] = mark


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
    steps, bands, single = (np.zeros(lookup.size, np.int32) for _ in range(3))
    marks = np.zeros(lookup.size, np.uint64)
    _ac_tables(lookup, True, bands, marks, single)
    _ac_tables(lookup, False, steps, np.zeros_like(marks), single)
    return HuffmanTable(lookup, steps, bands, marks, single, maxcode, delta, values)


@njit(cache=True, nogil=True, inline="always")
def decode_symbol(word, table, lookup, maxcode, delta, symbols):
    """(symbol << 8 | code length) at the top of `word`; -1 for a code that is not in the table."""
    entry = lookup[np.uint64(table), word >> LOOKUP_SHIFT]
    if entry != 0:
        return np.int64(entry)
    top = np.int64(word >> np.uint64(48))
    for length in range(LOOKUP_BITS + 1, 17):
        if top < maxcode[table, length]:
            index = (top >> (16 - length)) + delta[table, length]
            return (np.int64(symbols[table, index]) << 8) | length
    return np.int64(-1)
