"""Where a raw AAC frame ends (ISO/IEC 14496-3:2019, 4.4.2 and 4.6): frames in boxes have no head,
so that their syntax is followed to its END, bit by bit. Low complexity only; nothing is decoded.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.loads import load_big

RATES = (96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025,
         8000)
MOST_BYTES = 2048  # of a frame, for each channel: 4.5.3.2 allows 768, not all encoders keep to it
EIGHT_SHORT = 2
MAX_ELEMENTS = 32
PAD = 16  # bytes behind the data that are read past its end

_L48 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 56, 64, 72, 80, 88, 96, 108, 120, 132, 144,
        160, 176, 196, 216, 240, 264, 292, 320, 352, 384, 416, 448, 480, 512, 544, 576, 608, 640,
        672, 704, 736, 768, 800, 832, 864, 896, 928, 1024)
_L32 = (*_L48[:-1], 960, 992, 1024)
_L96 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 44, 48, 52, 56, 64, 72, 80, 88, 96, 108, 120, 132,
        144, 156, 172, 188, 212, 240, 276, 320, 384, 448, 512, 576, 640, 704, 768, 832, 896, 960,
        1024)
_L64 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 44, 48, 52, 56, 64, 72, 80, 88, 100, 112, 124, 140,
        156, 172, 192, 216, 240, 268, 304, 344, 384, 424, 464, 504, 544, 584, 624, 664, 704, 744,
        784, 824, 864, 904, 944, 984, 1024)
_L24 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 44, 52, 60, 68, 76, 84, 92, 100, 108, 116, 124,
        136, 148, 160, 172, 188, 204, 220, 240, 260, 284, 308, 336, 364, 396, 432, 468, 508, 552,
        600, 652, 704, 768, 832, 896, 960, 1024)
_L16 = (0, 8, 16, 24, 32, 40, 48, 56, 64, 72, 80, 88, 100, 112, 124, 136, 148, 160, 172, 184, 196,
        212, 228, 244, 260, 280, 300, 320, 344, 368, 396, 424, 456, 492, 532, 572, 616, 664, 716,
        772, 832, 896, 960, 1024)
_L8 = (0, 12, 24, 36, 48, 60, 72, 84, 96, 108, 120, 132, 144, 156, 172, 188, 204, 220, 236, 252,
       268, 288, 308, 328, 348, 372, 396, 420, 448, 476, 508, 544, 580, 620, 664, 712, 764, 820,
       880, 944, 1024)
_S96 = (0, 4, 8, 12, 16, 20, 24, 32, 40, 48, 64, 92, 128)
_S48 = (0, 4, 8, 12, 16, 20, 28, 36, 44, 56, 68, 80, 96, 112, 128)
_S24 = (0, 4, 8, 12, 16, 20, 24, 28, 36, 44, 52, 64, 76, 92, 108, 128)
_S16 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 40, 48, 60, 72, 88, 108, 128)
_S8 = (0, 4, 8, 12, 16, 20, 24, 28, 36, 44, 52, 60, 72, 88, 108, 128)
_LONG = (_L96, _L96, _L64, _L48, _L48, _L32, _L24, _L24, _L16, _L16, _L16, _L8)
_SHORT = (_S96, _S96, _S96, _S48, _S48, _S48, _S24, _S24, _S16, _S16, _S16, _S8)


def bands(rate: int) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """(long, short) offsets of the scale factor bands of `rate`, an index into RATES (4.5.4)."""
    return np.array(_LONG[rate], np.int64), np.array(_SHORT[rate], np.int64)


@njit(cache=True, nogil=True, inline="always")
def _bits(data, at, count):
    """`count` bits (1 to 32) from bit `at`."""
    word = load_big(data, at >> 3) << np.uint64(at & 7)
    return np.int64(word >> np.uint64(64 - count))


@njit(cache=True, nogil=True)
def _ics_info(data, at, bands_long, bands_short, groups, info):
    """Fills info: window sequence, max_sfb, count of groups; groups: windows of each. -1: no such
    frame."""
    if _bits(data, at, 1):
        return np.int64(-1)
    sequence = _bits(data, at + 1, 2)
    at += 4
    info[0] = sequence
    if sequence == EIGHT_SHORT:
        info[1] = _bits(data, at, 4)
        grouping = _bits(data, at + 4, 7)
        at += 11
        groups[0] = 1
        count = 0
        for i in range(7):
            if grouping & (64 >> i):
                groups[count] += 1
            else:
                count += 1
                groups[count] = 1
        info[2] = count + 1
        if info[1] > bands_short.size - 1:
            return np.int64(-1)
    else:
        info[1] = _bits(data, at, 6)
        at += 6
        if _bits(data, at, 1):  # prediction is for other profiles
            return np.int64(-1)
        at += 1
        groups[0] = 1
        info[2] = 1
        if info[1] > bands_long.size - 1:
            return np.int64(-1)
    return at


@njit(cache=True, nogil=True)
def _spectrum(data, at, stop, book, count, spectra):
    """Step over `count` coefficients of `book`; -1 where they do not fit."""
    width = 4 if book <= 4 else 2
    done = 0
    while done < count:
        if at >= stop:
            return np.int64(-1)
        entry = spectra[book, _bits(data, at, 16)]
        if entry == 0:
            return np.int64(-1)
        at += entry & 31
        index = entry >> 5
        if book == 3 or book == 4:
            for _ in range(4):
                if index % 3:
                    at += 1
                index //= 3
        elif book >= 7:
            base = 8 if book <= 8 else 13 if book <= 10 else 17
            first, second = index // base, index % base
            at += (first > 0) + (second > 0)
            if book == 11:
                for value in (first, second):
                    if value == 16:
                        ones = 0
                        while _bits(data, at, 1):
                            at += 1
                            ones += 1
                            if ones > 8:
                                return np.int64(-1)
                        at += 1 + ones + 4
        done += width
    return at


@njit(cache=True, nogil=True)
def _channel(data, at, stop, common, bands_long, bands_short, groups, info, books, spectra, scale):
    at += 8  # global gain
    if not common:
        at = _ics_info(data, at, bands_long, bands_short, groups, info)
        if at < 0:
            return at
    short = info[0] == EIGHT_SHORT
    most, count = info[1], info[2]
    bits = 3 if short else 5
    escape = (1 << bits) - 1
    for group in range(count):  # section data
        band = 0
        while band < most:
            if at >= stop:
                return np.int64(-1)
            book = _bits(data, at, 4)
            at += 4
            if book == 12:
                return np.int64(-1)
            length = 0
            while True:
                step = _bits(data, at, bits)
                at += bits
                length += step
                if step != escape or at >= stop:
                    break
            if length == 0 or band + length > most:
                return np.int64(-1)
            for i in range(band, band + length):
                books[group, i] = book
            band += length
    noise = False
    for group in range(count):  # scale factors
        for band in range(most):
            book = books[group, band]
            if book == 0:
                continue
            if at >= stop:
                return np.int64(-1)
            if book == 13 and not noise:
                noise = True
                at += 9
                continue
            entry = scale[_bits(data, at, 19)]
            if entry == 0:
                return np.int64(-1)
            at += entry & 31
    if _bits(data, at, 1):  # pulses
        if short:
            return np.int64(-1)
        at += 1
        at += 2 + 6 + (_bits(data, at, 2) + 1) * 9
    else:
        at += 1
    if _bits(data, at, 1):  # temporal noise shaping
        at += 1
        for _ in range(8 if short else 1):
            filters = _bits(data, at, 1 if short else 2)
            at += 1 if short else 2
            fine = np.int64(0)
            if filters:
                fine = _bits(data, at, 1)
                at += 1
            for _f in range(filters):
                at += 4 if short else 6
                order = _bits(data, at, 3 if short else 5)
                at += 3 if short else 5
                if order > (7 if short else 12):
                    return np.int64(-1)
                if order:
                    packed = _bits(data, at + 1, 1)
                    at += 2 + order * (fine + 3 - packed)
    else:
        at += 1
    if _bits(data, at, 1):  # gain control is for another profile
        return np.int64(-1)
    at += 1
    for group in range(count):
        band = 0
        while band < most:
            book = books[group, band]
            first = band
            while band < most and books[group, band] == book:
                band += 1
            if book == 0 or book >= 13:
                continue
            if short:
                width = (bands_short[band] - bands_short[first]) * groups[group]
            else:
                width = bands_long[band] - bands_long[first]
            at = _spectrum(data, at, stop, book, width, spectra)
            if at < 0:
                return at
    return at


@njit(cache=True, nogil=True)
def frame_end_in(data, start, stop, channels, bands_long, bands_short, spectra, scale):
    """The byte behind the frame at byte `start`, none of it beyond `stop`; -1 where none stands
    there. `data` has PAD bytes behind `stop`."""
    groups = np.zeros(8, np.int64)
    info = np.zeros(3, np.int64)
    books = np.zeros((8, 64), np.int64)
    limit = min(stop, start + MOST_BYTES * max(1, channels) + 8) * 8
    at = np.int64(start) * 8
    heard = 0
    for _ in range(MAX_ELEMENTS):
        if at + 3 > limit:
            return np.int64(-1)
        kind = _bits(data, at, 3)
        at += 3
        if kind == 7:  # END
            end = (at + 7) >> 3
            return end if heard == channels and end * 8 <= limit else np.int64(-1)
        if kind == 0 or kind == 3:  # one channel, or the low frequencies
            at = _channel(data, at + 4, limit, False, bands_long, bands_short, groups, info, books,
                          spectra, scale)
            heard += 1
        elif kind == 1:  # two
            common = _bits(data, at + 4, 1)
            at += 5
            if common:
                at = _ics_info(data, at, bands_long, bands_short, groups, info)
                if at < 0:
                    return at
                mask = _bits(data, at, 2)
                at += 2
                if mask == 3:
                    return np.int64(-1)
                if mask == 1:
                    at += info[1] * info[2]
            for _c in range(2):
                at = _channel(data, at, limit, common == 1, bands_long, bands_short, groups, info,
                              books, spectra, scale)
                if at < 0:
                    return at
            heard += 2
        elif kind == 4:  # data
            aligned = _bits(data, at + 4, 1)
            size = _bits(data, at + 5, 8)
            at += 13
            if size == 255:
                size += _bits(data, at, 8)
                at += 8
            if aligned:
                at = (at + 7) >> 3 << 3
            at += size * 8
        elif kind == 6:  # filling
            size = _bits(data, at, 4)
            at += 4
            if size == 15:
                size += _bits(data, at, 8) - 1
                at += 8
            at += size * 8
        else:
            return np.int64(-1)
        if at < 0 or at > limit or heard > channels:
            return np.int64(-1)
    return np.int64(-1)
