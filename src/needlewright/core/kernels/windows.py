"""Filter for many three-byte windows at every offset: nibbles looked up sixteen at a time.

Windows are dealt into eight buckets, a bit each. For each of the three bytes two tables of 16 say
which buckets its low and its high nibble leave possible; a bucket that all six leave is a hit, to
be confirmed by whoever asked. One instruction of AVX2 looks up 32 nibbles. Where the processor has
it not, a bitmap of two-byte values does the same byte by byte.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import llvmlite.binding
import numpy as np
import numpy.typing as npt
from llvmlite import ir
from numba import njit, types
from numba.extending import intrinsic

from needlewright.core.kernels.blank import as_words, is_blank
from needlewright.core.kernels.steady import read_only

WINDOW_BYTES = 3
BUCKETS = 8
ROOM = 4096  # hits that are made room for at first; noise makes one in some hundred bytes
Bytes = npt.NDArray[np.uint8]
Longs = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class WindowTable:
    """Windows as arrays: `chosen`, `places` int64[w] (signature, offset of the window from a file's
    start); `texts`, `masks` uint8[w, 3]. `nibbles` uint8[6, 32]: low and high nibble tables of the
    three bytes, each twice. `pairs` uint8[8192]: bitmap of the first two bytes, and `thirds`
    uint8[256]: whether a byte is the third of any."""

    chosen: Longs
    places: Longs
    texts: Bytes
    masks: Bytes
    nibbles: Bytes
    pairs: Bytes
    thirds: Bytes


def mark_pairs(bitmap: Bytes, magic: Bytes, mask: Bytes) -> None:
    """Set the bits of all values of two bytes that agree with `magic` under `mask`."""
    values = np.arange(256)
    first = values[(values & mask[0]) == magic[0]]
    second = values[(values & mask[1]) == magic[1]]
    for value in (first[:, None] | second[None, :] << 8).ravel().tolist():
        bitmap[value >> 3] |= 1 << (value & 7)


def build_windows(chosen: Sequence[int], places: Sequence[int], texts: Sequence[Bytes],
                  masks: Sequence[Bytes]) -> WindowTable:
    """The table of windows; all sequences have one entry a window."""
    order = sorted(range(len(chosen)), key=lambda i: (tuple(texts[i]), i))
    nibbles = np.zeros((6, 32), np.uint8)
    pairs, thirds = np.zeros(8192, np.uint8), np.zeros(256, np.uint8)
    values = np.arange(256)
    for rank, index in enumerate(order):
        # Neighbours in order share nibbles, and so let less foreign data through together.
        bit = 1 << (rank * BUCKETS // max(1, len(order)))
        mark_pairs(pairs, texts[index], masks[index])
        for i in range(WINDOW_BYTES):
            fitting = values[(values & masks[index][i]) == texts[index][i]]
            if i == WINDOW_BYTES - 1:
                thirds[fitting] = 1
            for half in (0, 16):
                nibbles[2 * i, np.unique(fitting & 15) + half] |= bit
                nibbles[2 * i + 1, np.unique(fitting >> 4) + half] |= bit
    shape = (len(chosen), WINDOW_BYTES)
    return WindowTable(
        np.array(chosen, np.int64), np.array(places, np.int64),
        np.array(texts, np.uint8).reshape(shape), np.array(masks, np.uint8).reshape(shape),
        nibbles, pairs, thirds)


@cache
def has_wide_lookup() -> bool:
    """Whether this processor has the instruction; compiled for one without it, a kernel that uses
    it would end the process."""
    return bool(llvmlite.binding.get_host_cpu_features().get("avx2", False))


@intrinsic
def _hits_in_32(context: Any, data: Any, at: Any, tables: Any) -> Any:
    """uint32: bit i is set where a window may begin at data[at + i]; reads data[at : at + 34]."""
    signature = types.uint32(data, at, tables)

    def generate(cgctx: Any, builder: ir.IRBuilder, sig: Any, arguments: Any) -> Any:
        lanes = ir.VectorType(ir.IntType(8), 32)
        array = cgctx.make_array(sig.args[0])(cgctx, builder, arguments[0])
        table = cgctx.make_array(sig.args[2])(cgctx, builder, arguments[2])
        shuffle = builder.module.declare_intrinsic(
            "llvm.x86.avx2.pshuf.b", (), ir.FunctionType(lanes, (lanes, lanes)))
        low = ir.Constant(lanes, [15] * 32)
        four = ir.Constant(lanes, [4] * 32)

        def load(base: Any, offset: Any) -> Any:
            pointer = builder.gep(base, [offset])
            return builder.load(builder.bitcast(pointer, lanes.as_pointer()), align=1)

        word = arguments[1].type
        both = None
        for i in range(WINDOW_BYTES):
            block = load(array.data, builder.add(arguments[1], ir.Constant(word, i)))
            lows = builder.call(shuffle, [load(table.data, ir.Constant(word, 64 * i)),
                                          builder.and_(block, low)])
            highs = builder.call(shuffle, [load(table.data, ir.Constant(word, 64 * i + 32)),
                                           builder.and_(builder.lshr(block, four), low)])
            fits = builder.and_(lows, highs)
            both = fits if both is None else builder.and_(both, fits)
        some = builder.icmp_unsigned("!=", both, ir.Constant(lanes, [0] * 32))
        return builder.bitcast(some, ir.IntType(32))

    return signature, generate


@njit(cache=True, nogil=True)
def _wide(data, words, tables, hits):
    count = 0
    last = data.size - 34
    at = np.int64(0)
    checked = np.int64(0)
    while at <= last:
        if at >= checked:
            checked = at + 4096
            if checked <= data.size and is_blank(data, words, at, checked):
                at += 4096 - 32  # windows may begin in the last bytes of a blank stretch
                continue
        mask = _hits_in_32(data, at, tables)
        while mask != 0:
            low = mask & (~mask + np.uint32(1))
            if count < hits.size:
                place = 0
                while (low >> np.uint32(place)) != 1:
                    place += 1
                hits[count] = at + place
            count += 1
            mask ^= low
        at += 32
    return count, at


@njit(cache=True, nogil=True)
def _plain(data, even, odd, words, start, pairs, thirds, hits, count):
    """Two lanes of two-byte values, one beginning at even offsets and one at odd ones."""
    last = data.size - 2
    at = np.int64(start)
    while at < last:
        stop = min((at >> 12) * 4096 + 4096, data.size)
        if at & 4095 == 0 and stop - at == 4096 and is_blank(data, words, at, stop):
            at = stop - 2
        end = min(stop, last)
        if at & 1:  # to an even offset first
            value = np.uint32(odd[at >> 1])
            if (pairs[value >> np.uint32(3)] >> (value & np.uint32(7))) & 1 and thirds[
                    data[at + 2]]:
                if count < hits.size:
                    hits[count] = at
                count += 1
            at += 1
        lane0 = even[at >> 1 : (end + 1) >> 1]
        lane1 = odd[at >> 1 : end >> 1]
        for k in range(lane0.size):
            value = np.uint32(lane0[k])
            if (pairs[value >> np.uint32(3)] >> (value & np.uint32(7))) & 1:
                place = at + 2 * k
                if place < last and thirds[data[place + 2]]:
                    if count < hits.size:
                        hits[count] = place
                    count += 1
            if k < lane1.size:
                value = np.uint32(lane1[k])
                if (pairs[value >> np.uint32(3)] >> (value & np.uint32(7))) & 1:
                    place = at + 2 * k + 1
                    if place < last and thirds[data[place + 2]]:
                        if count < hits.size:
                            hits[count] = place
                        count += 1
        at = end
    return count


def find_windows(data: Bytes, table: WindowTable, portable: bool) -> tuple[Longs, int]:
    """(int64[room] of offsets, how many of them count) where a window may begin in `data`."""
    data = read_only(data)
    hits = np.empty(ROOM, np.int64)
    words = as_words(data)
    even = data[: data.size // 2 * 2].view(np.uint16)
    odd = data[1 : 1 + max(0, data.size - 1) // 2 * 2].view(np.uint16)
    while True:
        count, start = 0, 0
        if not portable and has_wide_lookup():
            count, start = _wide(data, words, table.nibbles, hits)
        count = _plain(data, even, odd, words, start, table.pairs, table.thirds, hits, count)
        if count <= hits.size:
            return hits, count
        hits = np.empty(count, np.int64)  # dense hits: data made to be so
