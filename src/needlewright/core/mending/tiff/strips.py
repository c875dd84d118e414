"""Strips and tiles of a TIFF that are lost, coded anew as a neutral picture (TIFF 6.0, sections 3,
9, 13, 14 and 15; Adobe's Deflate).
"""

from __future__ import annotations

import zlib

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.structures.inflating import Inflater

SECTOR = 512
PLAIN, LZW, DEFLATE, DEFLATE_OLD, PACKBITS = 1, 5, 8, 32946, 32773
KNOWN = (PLAIN, LZW, DEFLATE, DEFLATE_OLD, PACKBITS)
GREY = 0x80
CLEAR, END = 256, 257
EACH = 250  # codes of 9 bits between two that begin the table anew


def neutral(rows: int, row_bytes: int, pixel: int, grey: bool, predicted: bool) -> bytes:
    """The samples of `rows` of `row_bytes`, `pixel` bytes each: grey, or all 0. `predicted`: each
    is told as the difference to the one before (section 14)."""
    if not grey:
        return bytes(rows * row_bytes)
    row = bytes([GREY]) * row_bytes
    if predicted:
        row = bytes([GREY]) * pixel + bytes(row_bytes - pixel)
    return row * rows


def rows_before_damage(data: bytes, start: int, row_bytes: int, most: int) -> bytes:
    """The rows, at most `most` of `row_bytes`, that a strip of Deflate at byte `start` of its file
    gives in front of its damage. Damage covers sectors, and is noticed a sector late at most;
    nothing coded is blank."""
    inflater, out, before, at = Inflater(most * row_bytes), bytearray(), 0, 0
    try:
        while at < len(data):
            stop = at + SECTOR - (start + at) % SECTOR
            block = data[at:stop]
            if len(block) == SECTOR and not block.strip(b"\0"):
                before = len(out)
                break
            kept = len(out)
            for piece in inflater.feed(block):
                out += piece
            before, at = kept, stop
    except FormatError:
        pass
    return bytes(out[: before // row_bytes * row_bytes])


def coded(samples: bytes, coding: int) -> bytes:
    """`samples` in the coding of the file, which is one of KNOWN."""
    if coding in (DEFLATE, DEFLATE_OLD):
        return zlib.compress(samples, 6)
    if coding == PACKBITS:
        parts = []
        for at in range(0, len(samples), 128):
            piece = samples[at : at + 128]
            parts.append(bytes([len(piece) - 1]) + piece)
        return b"".join(parts)
    if coding == LZW:
        return _lzw(samples)
    return samples


def _lzw(samples: bytes) -> bytes:
    """LZW whose codes all have 9 bits, since its table is begun anew before it grows."""
    values = np.frombuffer(samples, np.uint8).astype(np.int64)
    rounds = -(-values.size // EACH)
    codes = np.full((rounds, EACH + 1), -1, np.int64)
    codes[:, 0] = CLEAR
    codes[:, 1:].flat[: values.size] = values
    stream = np.append(codes[codes >= 0], END)
    bits = (stream[:, None] >> np.arange(8, -1, -1) & 1).astype(np.uint8)
    return np.packbits(bits.ravel()).tobytes()
