"""Whole words out of and into byte arrays, for kernels that would spend their time on single bytes.

Nothing here checks bounds: whoever calls has made sure that `at` lies eight bytes before the end.
"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np
from llvmlite import ir
from numba import config, njit, types
from numba.extending import intrinsic

LOW_BITS, HIGH_BITS = np.uint64(0x0101010101010101), np.uint64(0x8080808080808080)
LITTLE = sys.byteorder == "little"


def _pointer(context: Any, builder: Any, kind: Any, array: Any, at: Any) -> Any:
    data = context.make_array(kind)(context, builder, array).data
    byte = builder.gep(builder.bitcast(data, ir.IntType(8).as_pointer()), [at])
    return builder.bitcast(byte, ir.IntType(64).as_pointer())


def _swapped(builder: Any, value: Any) -> Any:
    swap = builder.module.declare_intrinsic("llvm.bswap", [ir.IntType(64)])
    return builder.call(swap, [value])


@intrinsic
def load_big(typing: Any, data: Any, at: Any) -> Any:
    """The eight bytes of uint8 `data` from index `at`, the first one on top, as uint64."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        value = builder.load(_pointer(context, builder, signature.args[0], *args))
        value.align = 1
        return _swapped(builder, value) if LITTLE else value

    return types.uint64(data, types.int64), code


@intrinsic
def load_little(typing: Any, data: Any, at: Any) -> Any:
    """The eight bytes of uint8 `data` from index `at`, the first one lowest, as uint64."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        value = builder.load(_pointer(context, builder, signature.args[0], *args))
        value.align = 1
        return value if LITTLE else _swapped(builder, value)

    return types.uint64(data, types.int64), code


@intrinsic
def store_little(typing: Any, data: Any, at: Any, word: Any) -> Any:
    """Put the eight bytes of `word` at index `at` of uint8 `data`, the lowest first."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        place = _pointer(context, builder, signature.args[0], args[0], args[1])
        kept = builder.store(args[2] if LITTLE else _swapped(builder, args[2]), place)
        kept.align = 1
        return context.get_dummy_value()

    return types.void(data, types.int64, types.uint64), code


@intrinsic
def pick(typing: Any, data: Any, at: Any) -> Any:
    """`data[at]`; indices from the end, which cost an instruction each, are not meant."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, args[0])
        place = builder.gep(array.data, [args[1]])
        return context.unpack_value(builder, signature.return_type, place)

    return data.dtype(data, types.int64), code


@intrinsic
def trailing_zeros(typing: Any, word: Any) -> Any:
    """The number of the lowest bit that is set in a uint64 that is not zero."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = builder.module.declare_intrinsic(
            "llvm.cttz", [ir.IntType(64)],
            ir.FunctionType(ir.IntType(64), [ir.IntType(64), ir.IntType(1)]))
        return builder.call(count, [args[0], ir.Constant(ir.IntType(1), 1)])

    return types.int64(types.uint64), code


@intrinsic
def ones_in(typing: Any, word: Any) -> Any:
    """How many bits of a uint64 are set."""
    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = builder.module.declare_intrinsic("llvm.ctpop", [ir.IntType(64)])
        return builder.call(count, [args[0]])

    return types.int64(types.uint64), code


if config.DISABLE_JIT:  # kernels run as plain Python to see that they stay inside their arrays
    def load_big(data: Any, at: Any) -> Any:
        return np.uint64(int.from_bytes(_eight(data, at).tobytes(), "big"))

    def load_little(data: Any, at: Any) -> Any:
        return np.uint64(int.from_bytes(_eight(data, at).tobytes(), "little"))

    def store_little(data: Any, at: Any, word: Any) -> None:
        _eight(data, at)[:] = np.frombuffer(int(word).to_bytes(8, "little"), np.uint8)

    def pick(data: Any, at: Any) -> Any:
        if at < 0:
            raise IndexError(at)
        return data[at]

    def trailing_zeros(word: Any) -> Any:
        return np.int64((int(word) & -int(word)).bit_length() - 1)

    def ones_in(word: Any) -> Any:
        return np.int64(int(word).bit_count())

    def _eight(data: Any, at: Any) -> Any:
        if not 0 <= at <= data.size - 8:
            raise IndexError(at)
        return data[at : at + 8]


@njit(cache=True, nogil=True, inline="always")
def bytes_of_ones(word):
    """Marks bytes FF of `word`: the lowest bit that is set is the top bit of the first of them."""
    other = ~word
    return (other - LOW_BITS) & word & HIGH_BITS
