"""The key stream of the old cipher of ZIP archives (APPNOTE.TXT 6.3.10, 6.1.5 to 6.1.7)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

BEGIN = (0x12345678, 0x23456789, 0x34567890)
FACTOR = 134_775_813
POLYNOMIAL = 0xEDB88320  # of the CRC-32


@njit(cache=True, nogil=True)
def _table():
    made = np.empty(256, np.uint32)
    for number in range(256):
        value = np.uint32(number)
        for _ in range(8):
            low = value & np.uint32(1)
            value = value >> np.uint32(1)
            if low:
                value = value ^ np.uint32(POLYNOMIAL)
        made[number] = value
    return made


@njit(cache=True, nogil=True)
def _step(keys, table, byte):
    keys[0] = (keys[0] >> np.uint32(8)) ^ table[(keys[0] ^ byte) & np.uint32(0xFF)]
    keys[1] = np.uint32((np.uint64(keys[1]) + np.uint64(keys[0] & np.uint32(0xFF)))
                        * np.uint64(FACTOR) + np.uint64(1))
    keys[2] = (keys[2] >> np.uint32(8)) ^ table[
        (keys[2] ^ (keys[1] >> np.uint32(24))) & np.uint32(0xFF)]


@njit(cache=True, nogil=True)
def _take(password, keys):
    table = _table()
    for byte in password:
        _step(keys, table, np.uint32(byte))


@njit(cache=True, nogil=True)
def _open(data, keys, out):
    table = _table()
    for index in range(data.size):
        mixed = (keys[2] | np.uint32(2)) & np.uint32(0xFFFF)
        stream = ((mixed * (mixed ^ np.uint32(1))) >> np.uint32(8)) & np.uint32(0xFF)
        byte = np.uint32(data[index]) ^ stream
        out[index] = byte
        _step(keys, table, byte)


def begin(password: bytes) -> npt.NDArray[np.uint32]:
    """The keys that a password makes: uint32[3]."""
    keys = np.array(BEGIN, np.uint32)
    _take(np.frombuffer(password, np.uint8), keys)
    return keys


def decrypt(data: bytes, keys: npt.NDArray[np.uint32]) -> bytes:
    """The next bytes in the clear; `keys` go on with them."""
    out = np.empty(len(data), np.uint8)
    _open(np.frombuffer(data, np.uint8), keys, out)
    return out.tobytes()
