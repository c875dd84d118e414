"""Checksums that the standard library does not have."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only


def _table() -> npt.NDArray[np.int64]:
    made = np.zeros(256, np.int64)
    for value in range(256):
        register = value << 24
        for _ in range(8):
            register = (register << 1 & 0xFFFFFFFF) ^ (0x04C11DB7 if register >> 31 else 0)
        made[value] = register
    return made


OGG = _table()


@njit(cache=True, nogil=True)
def _ogg(data, table):
    value = np.int64(0)
    for i in range(data.size):
        byte = np.int64(0) if 22 <= i < 26 else np.int64(data[i])
        value = ((value << 8) & 0xFFFFFFFF) ^ table[(value >> 24) ^ byte]
    return value


def ogg_page_crc(page: bytes) -> int:
    """The CRC-32 of an Ogg page (RFC 3533, section 6), its own field taken as zero."""
    return int(_ogg(np.frombuffer(page, np.uint8), OGG))


@njit(cache=True, nogil=True)
def _music(data, value):
    for i in range(data.size):
        value ^= np.int64(data[i])
        for _ in range(8):
            value = (value >> 1) ^ (0xA001 if value & 1 else 0)
    return value


def music_crc(data: npt.NDArray[np.uint8], value: int = 0) -> int:
    """CRC-16 as information frames of MPEG audio hold it (polynomial 0x8005, reflected, from 0) of
    uint8[n], going on from `value`."""
    data = read_only(data)
    return int(_music(data, np.int64(value)))


@njit(cache=True, nogil=True)
def _entry_set(data):
    value = np.int64(0)
    for i in range(data.size):
        if i != 2 and i != 3:
            value = (((value << 15) | (value >> 1)) + np.int64(data[i])) & 0xFFFF
    return value


def entry_set_sum(entries: bytes | bytearray) -> int:
    """The checksum of an exFAT entry set (specification 6.3.3), its own two bytes left out."""
    return int(_entry_set(read_only(np.frombuffer(entries, np.uint8))))
