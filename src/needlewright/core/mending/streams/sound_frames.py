"""Frames of sound one behind another, what is foreign between them passed over: for MPEG audio and
ADTS, whose frames say how long they are.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.sound_frames import follow, frame_bytes, resume
from needlewright.core.mending.base import Patient, Unmendable

MOST_BYTES = 1 << 29  # of a file that is held in memory
SURE = 6  # frames that must follow each other for a new beginning to be believed
BLOCK_BYTES = 1 << 22
Bytes = npt.NDArray[np.uint8]


@dataclass(slots=True)
class Run:
    """Frames that follow each other: where each begins, and where the last one ends."""

    starts: list[int]
    stop: int


@dataclass(slots=True)
class Runs:
    """All frames of a file. `data`: the file; `samples` a frame, `rate` a second."""

    data: Bytes
    runs: list[Run] = field(default_factory=list)
    dropped: int = 0  # frames that something foreign may begin in
    seconds: float = 0.0  # of one frame

    @property
    def frames(self) -> int:
        return sum(len(run.starts) for run in self.runs)


def runs_of(patient: Patient, coding: int, start: int) -> Runs:
    """The frames from byte `start` on; Unmendable where there are none, or too many."""
    source = patient.source
    if source.size > MOST_BYTES:
        raise Unmendable("too-large")
    found = Runs(np.frombuffer(source.read_at(0, source.size), np.uint8))
    data, at, key = found.data, start, 0
    at = _first(data, at, coding)
    while 0 <= at < data.size:
        patient.breathe(at / data.size * 0.8)
        stop, frames, samples, rate, key, _ = follow(data, at, key, coding, True)
        if frames:
            found.runs.append(Run(_starts(data, at, frames, coding), stop))
            found.seconds = samples / frames / rate if rate else 0.0
        again = resume(data, stop + (0 if frames else 1), key, coding, SURE)
        if again >= 0 and found.runs and frames:
            # What is foreign may begin in the last frame before it.
            run = found.runs[-1]
            run.stop = run.starts.pop()
            found.dropped += 1
        at = again
    found.runs = [run for run in found.runs if run.starts]
    if not found.runs:
        raise Unmendable("samples-none")
    return found


def _first(data: Bytes, at: int, coding: int) -> int:
    """Where frames begin that follow each other; -1 where none do."""
    while at + 8 < data.size:
        place = bytes(data[at : at + BLOCK_BYTES]).find(b"\xff")
        if place < 0:
            at += BLOCK_BYTES
            continue
        at += place
        _, frames, _, _, _, _ = follow(data, at, 0, coding, True)
        if frames >= SURE:
            return at
        at += 1
    return -1


def _starts(data: Bytes, at: int, frames: int, coding: int) -> list[int]:
    starts = []
    for _ in range(frames):
        starts.append(at)
        at += frame_bytes(bytes(data[at : at + 8]), coding)
    return starts
