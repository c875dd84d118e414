"""The byte and table layer of JPEG entropy coding (ITU-T T.81, B.1.1.5, C.2, F.2.2.3).

`clean` bytes are coded bytes without stuffing (FF 00 -> FF) and without RSTn markers; a segment
is what lies between two of them. Kernels notice the end of the data once a block, so clean arrays
carry PAD zero bytes behind it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

PAD = 512  # a block reads at most 63 * 31 bits past the end before that is noticed
LOOKUP_BITS = 11
CHECKPOINT = 256  # clean bytes between two entries of the clean -> raw map


@njit(cache=True, nogil=True, inline="always")
def peek64(words, bit):
    """The 33 or more bits from bit position `bit` (uint64), left-aligned in a uint64.

    Two aligned loads; a code and its extra bits are at most 31 (F.2.2.3: 16 + 15).
    """
    i = bit >> np.uint64(5)
    pair = (np.uint64(words[i]) << np.uint64(32)) | np.uint64(words[i + np.uint64(1)])
    return pair << (bit & np.uint64(31))


@njit(cache=True, nogil=True)
def _scan_end(data, start):
    """Index of the first marker that is neither stuffing, fill nor RSTn; data.size if none."""
    i = start
    last = data.size - 1
    while i < last:
        if data[i] == 0xFF:
            code = data[i + 1]
            if code == 0xFF:
                i += 1
                continue
            if code != 0 and not 0xD0 <= code <= 0xD7:
                return i
            i += 2
        else:
            i += 1
    return data.size


@njit(cache=True, nogil=True)
def _unstuff(raw, clean, seg_clean, seg_raw, seg_number, raw_at):
    size = raw.size
    i = 0
    o = 0
    segments = 1
    seg_clean[0] = 0
    seg_raw[0] = 0
    seg_number[0] = -1
    mark = 0
    while i < size:
        if o >= mark:
            raw_at[mark // CHECKPOINT] = i
            mark += CHECKPOINT
        byte = raw[i]
        if byte != 0xFF:
            clean[o] = byte
            o += 1
            i += 1
            continue
        if i + 1 >= size:
            break
        code = raw[i + 1]
        if code == 0:
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
    """Index of the marker that ends the coded data from `start`; len(data) if there is none."""
    return int(_scan_end(data, start))


def unstuff(raw: npt.NDArray[np.uint8], max_segments: int) -> CleanScan:
    """Take the stuffing and RSTn markers out of `raw` uint8[n], which holds no other marker.

    Segments beyond `max_segments` are left off; the decoder then meets the end of the data.
    """
    clean = np.zeros((raw.size + PAD + 7) // 8 * 8, np.uint8)
    seg_clean = np.zeros(max_segments, np.int64)
    seg_raw = np.zeros(max_segments, np.int64)
    seg_number = np.zeros(max_segments, np.int64)
    raw_at = np.zeros(raw.size // CHECKPOINT + 2, np.int64)
    size, count = _unstuff(raw, clean, seg_clean, seg_raw, seg_number, raw_at)
    used = raw_at[: max(1, (size + CHECKPOINT - 1) // CHECKPOINT)]
    words = clean.view(">u4").astype(np.uint32)
    return CleanScan(
        clean, words, int(size), seg_clean[:count], seg_raw[:count], seg_number[:count], raw, used
    )


@dataclass(frozen=True, slots=True)
class HuffmanTable:
    """A decoding table (T.81 annex C and F.2.2.3).

    `lookup` int32[2048]: (symbol << 8 | code length) for codes of up to 11 bits, else 0;
    `maxcode` int64[18]: largest code of each length left-aligned to 16 bits plus one; `delta`
    int64[18]: what to add to a code to index `symbols` uint8[256].
    """

    lookup: npt.NDArray[np.int32]
    maxcode: npt.NDArray[np.int64]
    delta: npt.NDArray[np.int64]
    symbols: npt.NDArray[np.uint8]


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
    return HuffmanTable(lookup, maxcode, delta, values)


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
