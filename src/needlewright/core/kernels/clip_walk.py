"""Samples of a clip found one behind another in its data, without an index (ISO/IEC 14496-15,
4.2.2 and 8.3; ITU-T H.264, 7.4.1; H.265, 7.4.2; raw AAC frames by their syntax).

What stands at a byte counts as a NAL unit or a frame of sound if more of them follow just behind
it.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.aac_frames import frame_end_in
from needlewright.core.kernels.steady import read_only

NONE, AVC, HEVC, JPEGS = 0, 1, 2, 3
VIDEO, SOUND, PLAIN = 0, 1, 2
MOST_STRETCHES = 4096
SLACK = 64  # bytes by which a stretch may be shorter or longer than the one before
DEPTH = 4  # alike ones that must follow the first
MOST_UNITS = 1 << 26  # that are looked at for stretches


@njit(cache=True, nogil=True)
def _unit_end(data, at, stop, width, coding):
    """The byte behind the NAL unit at `at`, though it may lie beyond `stop`; -1 where none
    stands."""
    if at + width + 2 > stop:
        return np.int64(-1)
    if coding == 3:  # a JPEG from SOI to EOI
        if at + 4 > stop or data[at] != 0xFF or data[at + 1] != 0xD8 or data[at + 2] != 0xFF:
            return np.int64(-1)
        for i in range(at + 4, min(stop - 1, at + (1 << 25))):
            if data[i] == 0xFF and data[i + 1] == 0xD9:
                return np.int64(i + 2)
        return np.int64(stop + 1) if stop - at < (1 << 25) else np.int64(-1)
    length = np.int64(0)
    for i in range(width):
        length = (length << 8) | np.int64(data[at + i])
    if length < 2:
        return np.int64(-1)
    head, second = data[at + width], data[at + width + 1]
    if head & 0x80:
        return np.int64(-1)
    if coding == 1:
        kind, idc = head & 0x1F, head >> 5
        if kind == 0 or kind > 14:
            return np.int64(-1)
        if (kind == 5 or kind == 7 or kind == 8) != (idc > 0) and kind != 1 and kind != 14:
            return np.int64(-1)
        if ((kind >= 7 and kind <= 8) and length > 4096) or (kind == 9 and length > 4):
            return np.int64(-1)
    else:
        kind = (head >> 1) & 0x3F
        if (kind > 9 and kind < 16) or (kind > 21 and kind < 32) or kind > 40:
            return np.int64(-1)
        if head & 1 or second >> 3 or second & 7 == 0:
            return np.int64(-1)
        if kind >= 32 and kind <= 35 and length > 4096:
            return np.int64(-1)
    if length > (1 << 25):
        return np.int64(-1)
    return at + width + length


@njit(cache=True, nogil=True)
def _plain_end(data, at, stop, final, width, coding, plain):
    """The byte behind a stretch of plain sound at `at`: pictures, or nothing more, follow it."""
    for size in plain:
        end = at + size
        if end == stop and final:
            return end
        if end + width + 2 > stop:
            continue
        behind = _unit_end(data, end, stop, width, coding)
        if behind > 0 and (behind <= stop or not final):
            if behind >= stop:
                return end
            if _unit_end(data, behind, stop, width, coding) > 0:
                return end
            for other in plain:
                after = behind + other
                if after == stop:
                    return end
                if after < stop and _unit_end(data, after, stop, width, coding) > 0:
                    return end
    return np.int64(-1)


@njit(cache=True, nogil=True)
def _chain(data, at, stop, final, depth, width, coding, channels, bands_long, bands_short, spectra,
           scale, plain):
    """Whether so many items follow one another from `at`: 1 yes, 0 no, -2 more is needed to tell.
    The end of all data is as good as an item."""
    for _ in range(depth):
        if at == stop and final:
            return 1
        if at >= stop:
            return 0 if final else -2
        end = np.int64(-1)
        if coding > 0:
            end = _unit_end(data, at, stop, width, coding)
            if end > stop:
                if not final:
                    return -2
                end = np.int64(-1)
            if end > 0 and channels > 0 and depth > 1:
                # Where both may stand, the one that goes on.
                inner = _chain_once(data, end, stop, final, width, coding, channels, bands_long,
                                    bands_short, spectra, scale)
                if inner == 0:
                    end = np.int64(-1)
        if end < 0 and channels > 0:
            end = frame_end_in(data, at, stop, channels, bands_long, bands_short, spectra, scale)
            if end < 0 and not final and stop - at < 2048 * channels + 8:
                return -2
        if end < 0 and plain.size > 0:
            end = _plain_end(data, at, stop, final, width, coding, plain)
            if end < 0 and not final and stop - at < 2 * plain.max() + 64:
                return -2
        if end < 0:
            return 0
        at = end
    return 1


@njit(cache=True, nogil=True)
def _chain_once(data, at, stop, final, width, coding, channels, bands_long, bands_short, spectra,
                scale):
    if at == stop and final:
        return 1
    if at >= stop:
        return 0 if final else 1
    end = _unit_end(data, at, stop, width, coding)
    if end > 0 and (end <= stop or not final):
        return 1
    end = frame_end_in(data, at, stop, channels, bands_long, bands_short, spectra, scale)
    if end > 0:
        return 1
    return 1 if not final and stop - at < 2048 * channels + 8 else 0


@njit(cache=True, nogil=True)
def _walk(data, at, stop, final, width, coding, channels, bands_long, bands_short, spectra, scale,
          plain, offsets, sizes, kinds):
    """Returns (items found, where it stopped, bytes passed over)."""
    count = 0
    passed = np.int64(0)
    afresh = True
    barren = np.int64(0)  # up to it, no JPEG that begins comes to an end
    while at < stop and count < offsets.size:
        taken = False
        for kind in range(3):
            if kind == 0:
                end = _unit_end(data, at, stop, width, coding) if coding > 0 and (
                    at >= barren) else np.int64(-1)
                if end > stop:
                    if not final:
                        return count, at, passed
                    end = np.int64(-1)
                    barren = stop if coding == 3 else barren
            elif kind == 2:
                end = np.int64(-1)
                if plain.size > 0 and not afresh:
                    end = _plain_end(data, at, stop, final, width, coding, plain)
                    if end < 0 and not final and stop - at < 2 * plain.max() + 64:
                        return count, at, passed
            else:
                end = np.int64(-1)
                if channels > 0:
                    end = frame_end_in(data, at, stop, channels, bands_long, bands_short, spectra,
                                       scale)
                    if end < 0 and not final and stop - at < 2048 * channels + 8:
                        return count, at, passed
            if end < 0:
                continue
            told = 1 if kind == 2 else _chain(
                data, end, stop, final, 4 if afresh else 3, width, coding, channels, bands_long,
                bands_short, spectra, scale, plain)
            if told == -2:
                return count, at, passed
            if told == 1:
                offsets[count] = at
                sizes[count] = end - at
                kinds[count] = kind
                count += 1
                at = end
                taken = True
                afresh = False
                break
        if not taken:
            at += 1
            passed += 1
            afresh = True
    return count, at, passed


def walk_items(
    data: npt.NDArray[np.uint8], start: int, stop: int, final: bool, width: int, coding: int,
    channels: int, bands: tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]],
    codes: tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]],
    plain: npt.NDArray[np.int64], most: int,
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], npt.NDArray[np.int64], int]:
    """(offsets, sizes, kinds of up to `most` items, where it stopped) in `data` uint8[n] from
    `start` to `stop`, with `aac_frames.PAD` bytes behind. `final`: nothing follows; else the last
    items wait until more is at hand. `width`: bytes of a length; `coding` NONE, AVC, HEVC or JPEGS;
    `channels` 0: no AAC. A NAL unit counts with its length. `plain` int64[k]: bytes of stretches of
    plain sound between pictures, the likeliest first."""
    data = read_only(data)
    offsets, sizes, kinds = (np.zeros(most, np.int64) for _ in range(3))
    count, at, _ = _walk(data, start, stop, final, width, coding, channels, bands[0], bands[1],
                         codes[0], codes[1], plain, offsets, sizes, kinds)
    return offsets[:count], sizes[:count], kinds[:count], int(at)


@njit(cache=True, nogil=True)
def _run_end(data, at, stop, width, coding, left):
    """The byte behind all units that stand one behind another from `at` on; `at` for none.
    `left` int64[1]: how many may still be looked at, so that no data takes for ever."""
    while at < stop and left[0] > 0:
        end = _unit_end(data, at, stop, width, coding)
        # To find the end of a JPEG all of it is read.
        left[0] -= 1 + (max(end - at, 0) // 64 if coding == 3 else 0)
        if end < 0 or end > stop:
            return at
        at = end
    return at


@njit(cache=True, nogil=True)
def _next_run(data, at, stop, width, coding, size, slack, left):
    """The byte nearest to `at` + `size` at which units begin, no more than `slack` bytes off; -1
    for none."""
    for off in range(slack + 1):
        for place in (at + size - off, at + size + off):
            if at < place < stop and _run_end(data, place, stop, width, coding, left) > place:
                return place
    return np.int64(-1)


@njit(cache=True, nogil=True)
def _stretches(data, at, stop, width, coding, least, most, slack, depth, sizes):
    count = 0
    left = np.full(1, MOST_UNITS, np.int64)
    at = _run_end(data, at, stop, width, coding, left)
    size = np.int64(-1)
    for place in range(at + least, min(at + most, stop)):
        end = _run_end(data, place, stop, width, coding, left)
        good = end > place
        for _ in range(depth):
            if good:
                following = _next_run(data, end, stop, width, coding, place - at, slack, left)
                good = following > 0
                end = _run_end(data, following, stop, width, coding, left) if good else end
        if left[0] <= 0:
            return count
        if good:
            size = np.int64(place - at)
            break
    while size > 0 and count < sizes.size:
        following = _next_run(data, at, stop, width, coding, size, slack, left)
        if following < 0:
            break
        size = following - at
        sizes[count] = size
        count += 1
        at = _run_end(data, following, stop, width, coding, left)
    return count


def units(data: npt.NDArray[np.uint8], start: int, stop: int, width: int, coding: int) -> tuple[
        list[tuple[int, int]], bool]:
    """((start, stop) of all units that stand one behind another in `data` from `start` on, whether
    another follows that `stop` cuts off)."""
    data = read_only(data)
    found: list[tuple[int, int]] = []
    while start < stop:
        end = int(_unit_end(data, start, stop, width, coding))
        if end < 0 or end > stop:
            return found, end > stop
        found.append((start, end))
        start = end
    return found, False


def stretches(data: npt.NDArray[np.uint8], start: int, stop: int, width: int, coding: int,
              least: int, most: int) -> npt.NDArray[np.int64]:
    """int64[k]: bytes of the stretches of what is no pictures between those in `data` uint8[n],
    from `start` on, as long as they are nearly alike; none where they are not from `least` to
    `most` bytes each."""
    data = read_only(data)
    sizes = np.zeros(MOST_STRETCHES, np.int64)
    count = _stretches(data, start, stop, width, coding, least, most, SLACK, DEPTH, sizes)
    return sizes[:count]


@njit(cache=True, nogil=True)
def _zeros_inside(data, offsets, sizes, width, found):
    for i in range(offsets.size):
        begin, stop = offsets[i] + width, offsets[i] + sizes[i]
        at = begin + 2
        while at < stop:
            if data[at] != 0:  # of three in a row, one is every third
                at += 3
                continue
            first = at
            while first > begin and data[first - 1] == 0:
                first -= 1
            while at < stop and data[at] == 0:
                at += 1
            run = at - first
            if run >= (3 if at < stop else 16):  # some writers fill up their last word
                found[i] = True
                break
            at += 3


def zeros_inside(data: npt.NDArray[np.uint8], offsets: npt.NDArray[np.int64],
                 sizes: npt.NDArray[np.int64], width: int) -> npt.NDArray[np.bool_]:
    """bool[n]: NAL units with three zeros in a row before their end, which no encoder writes
    (H.264 and H.265, 7.4.1: emulation prevention): something else was written over them."""
    data = read_only(data)
    found = np.zeros(offsets.size, np.bool_)
    _zeros_inside(data, offsets, sizes, width, found)
    return found
