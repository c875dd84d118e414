"""MPEG audio with foreign or missing bytes: its frames, one behind another (ISO/IEC 11172-3).

A frame of layer III may use data that stand in the frames before it. Where these are lost, frames
are kept for the data that they carry for later ones, and are silent themselves.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.kernels.mp3_main_data import HEAD_BYTES, main_data
from needlewright.core.kernels.sound_frames import MPEG
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Pieces, left_out, writing
from needlewright.core.mending.streams.sound_frames import Runs, runs_of
from needlewright.core.structures.tags import closing_tags_end, id3_end
from needlewright.core.structures.view import View

SIDE_AT = 4
POLYNOMIAL = 0x8005  # of the frames' checksums (2.4.3.1)


def mend(patient: Patient) -> Iterator[Mended]:
    view = View(patient.source, 0, patient.source.size)
    try:
        first = id3_end(view, 0)
    except FormatError:
        first = 0
    runs = runs_of(patient, MPEG, first)
    if len(runs.runs) == 1 and runs.runs[0].starts[0] == first:
        stop = runs.runs[0].stop
        if closing_tags_end(view, stop) == view.stop:
            raise Unmendable("nothing-found")
    pieces, silent = _sound(runs, runs.runs[0].starts[0] == first)
    kept = runs.frames
    end = runs.runs[-1].stop
    tags = closing_tags_end(view, end)
    if tags > end:
        pieces.add((end, tags))
    stated = _stated(runs)
    _tell_counts(pieces, runs)
    left = runs.dropped + len(silent)
    changes = [Change("frames-joined", {"count": kept, "times": max(1, len(runs.runs) - 1)}),
               *left_out(left, _times(runs, silent))]
    share = (kept - len(silent)) / max(kept + runs.dropped, stated)
    # Players find the next frame by themselves: what is silent now was noise before.
    yield Mended(writing(patient.source, [(0, first)] if first else [], pieces.pieces), "mp3",
                 tuple(changes), share, share_before=share)


def _sound(runs: Runs, from_start: bool) -> tuple[Pieces, list[int]]:
    """(the frames in row, numbers of those that are silent). `from_start`: the first is the first
    there was."""
    pieces, silent, number = Pieces(), [], 0
    for index, run in enumerate(runs.runs):
        have, whole = 0, index == 0 and from_start
        for start, stop in zip(run.starts, [*run.starts[1:], run.stop], strict=True):
            told = None if whole else main_data(runs.data[start : start + HEAD_BYTES])
            if told is None or told[0] <= have:
                whole = whole or told is None or told[0] == 0
                pieces.add((start, stop))
            else:
                pieces.add(silenced(bytes(runs.data[start:stop]), have))
                silent.append(number)
            have += told[2] if told is not None else 0
            whole = whole or have >= 2048  # farther back nothing ever begins
            number += 1
    return pieces, silent


def silenced(frame: bytes, have: int) -> bytes:
    """A frame of layer III that says nothing of its own; what it, and the `have` bytes before it,
    carry for others stays."""
    mono, low = frame[3] >> 6 == 3, frame[1] >> 3 & 3 != 3
    size = (9 if mono else 17) if low else (17 if mono else 32)
    back = bytes((min(have, 255),)) if low else struct.pack(">H", min(have, 511) << 7)
    side = back.ljust(size, b"\0")
    if frame[1] & 1:
        return frame[:SIDE_AT] + side + frame[SIDE_AT + size :]
    value = 0xFFFF
    for byte in frame[2:4] + side:
        for bit in range(7, -1, -1):
            value = value << 1 ^ (POLYNOMIAL if (value >> 15 ^ byte >> bit) & 1 else 0)
            value &= 0xFFFF
    return frame[:SIDE_AT] + struct.pack(">H", value) + side + frame[SIDE_AT + 2 + size :]


def _mark(runs: Runs) -> int:
    """Where in the first frame an encoder's information stands; -1 where none does."""
    head = bytes(runs.data[runs.runs[0].starts[0] :][:192])
    place = max(head.find(b"Xing"), head.find(b"Info"))
    return place if 4 <= place <= 40 and len(head) >= place + 16 else -1


def _stated(runs: Runs) -> int:
    place = _mark(runs)
    if place < 0:
        return 0
    head = runs.data[runs.runs[0].starts[0] + place :][:16].tobytes()
    return int.from_bytes(head[8:12], "big") + 1 if head[7] & 1 else 0


def _tell_counts(pieces: Pieces, runs: Runs) -> None:
    """Let the information frame say how many there are now, and no sum of those that there were."""
    place, start = _mark(runs), runs.runs[0].starts[0]
    if place < 0 or not isinstance(pieces.pieces[0], tuple):
        return
    begin, stop = pieces.pieces[0]
    first = runs.runs[0].starts[1] if len(runs.runs[0].starts) > 1 else runs.runs[0].stop
    if begin != start:
        return
    frame = bytearray(runs.data[start:first].tobytes())
    flags = frame[place + 7]
    at = place + 8
    if flags & 1:
        struct.pack_into(">I", frame, at, runs.frames - 1)
    if flags & 2:
        struct.pack_into(">I", frame, at + 4 * (flags & 1), _bytes_of(runs))
    behind = at + sum(size for bit, size in ((1, 4), (2, 4), (4, 100), (8, 4)) if flags & bit)
    if len(frame) >= behind + 36:
        frame[behind + 28 : behind + 36] = bytes(8)
    pieces.pieces[0] = (first, stop)
    pieces.pieces.insert(0, bytes(frame))


def _bytes_of(runs: Runs) -> int:
    return sum(run.stop - run.starts[0] for run in runs.runs)


def _times(runs: Runs, silent: list[int]) -> list[tuple[float, float]]:
    """When frames are missing or silent, seconds of the new file."""
    borders = np.cumsum([len(run.starts) for run in runs.runs[:-1]])
    spans = [(b * runs.seconds, (b + 1) * runs.seconds) for b in borders.tolist()]
    return spans + [(n * runs.seconds, (n + 1) * runs.seconds) for n in silent]


register(Mender("mp3", frozenset(("mp3",)), mend))
