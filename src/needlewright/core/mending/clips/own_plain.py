"""Plain sound of a clip that nothing describes: what stands between its pictures, told by how much
of it there is, and by which reading of its bytes is smooth (samples of one channel go on from each
other; ISO/IEC 23003-5 and the QuickTime File Format name the codings).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.clip_walk import stretches
from needlewright.core.mending.clips.finding import Found
from needlewright.core.mending.clips.tracks import Longs, Model
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff_writing import box

LEAST_STRETCHES = 3
LEAST_BYTES = 256  # of a stretch: shorter ones are padding
MOST_SIZES = 64
MOST_BYTES = 1 << 20
LOOK_BYTES = 16 << 20  # in which stretches are looked for
READ_BYTES = 1 << 16  # of one stretch that are read as samples
LOOKED_AT = 6  # stretches
NEAR = 0.01  # by which the amount of sound may miss a rate
CLEAR = 2.0  # times by which one order of bytes must be smoother than the other
APART = 1.3  # times by which two channels must be smoother than one
#: (samples a second, channels, bytes of a sample), what recorders write most first.
KINDS = ((48_000, 2, 2), (48_000, 1, 2), (44_100, 2, 2), (48_000, 2, 3), (44_100, 1, 2),
         (48_000, 4, 2), (48_000, 4, 3), (32_000, 2, 2), (16_000, 1, 2), (96_000, 2, 3),
         (96_000, 2, 2), (48_000, 1, 3), (32_000, 1, 2), (22_050, 1, 2), (16_000, 2, 2),
         (11_025, 1, 2), (8_000, 1, 2))
Pace = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Plain:
    """`rate`: samples a second; `width`: bytes of one; `chunks`: bytes of the stretches; `pace`: of
    the pictures; `sure`: whether the bytes say so."""

    rate: int
    channels: int
    width: int
    little: bool
    chunks: Longs
    pace: Pace
    sure: bool

    @property
    def entry(self) -> bytes:
        """The sample entry (QuickTime File Format, sound sample descriptions)."""
        name = b"in24" if self.width == 3 else b"sowt" if self.little else b"twos"
        if self.width == 2 or not self.little:
            return box(name, bytes(6), struct.pack(
                ">H8xHH4xI", 1, self.channels, 16, min(self.rate, 0xFFFF) << 16))
        inner = box(b"wave", box(b"frma", name), box(b"enda", b"\0\1"), box(b"\0\0\0\0"))
        return box(name, bytes(6), struct.pack(
            ">HHHIHHHHIIIII", 1, 1, 0, 0, self.channels, 16, 0, 0, min(self.rate, 0xFFFF) << 16,
            1, self.width, self.width * self.channels, 2), inner)


def chunks_of(source: Source, start: int, stop: int, video: Model) -> Longs:
    """Bytes of the stretches between the pictures that begin at byte `start`, the commonest first;
    none where they are not nearly alike. int64[k]"""
    data = np.frombuffer(source.read_at(start, min(LOOK_BYTES, stop - start)), np.uint8)
    found = stretches(data, 0, data.size, video.width, video.coding, LEAST_BYTES, MOST_BYTES)
    if found.size < LEAST_STRETCHES:
        return found[:0]
    sizes, counts = np.unique(found, return_counts=True)
    return sizes[np.argsort(-counts, kind="stable")][:MOST_SIZES]


def plain_sound(source: Source, found: Found, chunks: Longs, paces: list[Pace],
                stated: bool) -> Plain | None:
    """What the sound is that was `found` between pictures in stretches of `chunks` bytes; None
    where that is no plain sound. `paces`: how fast the pictures may follow each other, one where it
    is `stated`."""
    sound = found.sound
    if len(sound.offsets) < LEAST_STRETCHES:
        return None
    # From the first stretch to the last, as many pictures were taken as there is sound for.
    frames = int(np.searchsorted(found.video.offsets, sound.offsets[-1])
                 - np.searchsorted(found.video.offsets, sound.offsets[0]))
    amount = sum(sound.sizes[:-1])
    step = max(1, (len(sound.offsets) - 1) // LOOKED_AT)
    pieces = [np.frombuffer(source.read_at(at, min(size, READ_BYTES)), np.uint8)
              for at, size in list(zip(sound.offsets, sound.sizes))[:-1:step]]
    fits = []
    for order, (rate, channels, width) in enumerate(KINDS):
        frame = channels * width
        if frames < 1 or (chunks % frame).any():
            continue
        near = min(paces, key=lambda p: abs(amount * p[0] / (frames * p[1] * rate * frame) - 1))
        error = abs(amount * near[0] / (frames * near[1] * rate * frame) - 1)
        if error < NEAR + 1 / frames:
            read = [_read(pieces, channels, width, little) for little in (True, False)]
            fits.append((min(read)[0], order, rate, channels, width, read, near))
    if not fits:
        return None
    # Samples that are read rightly are the smoothest; where readings are alike, the usual one.
    best = min(fit[0] for fit in fits)
    _, _, rate, channels, width, (low, high), pace = min(
        (fit for fit in fits if fit[0] <= best * APART), key=lambda fit: fit[1])
    plain = max(low[0], high[0]) > CLEAR * min(low[0], high[0])
    # Mere noise is rough both ways; wrongly read it is loud as well.
    little = low[0] <= high[0] if plain else low[1] <= high[1]
    return Plain(rate, channels, width, little, chunks, pace, stated and plain)


def _read(pieces: list[npt.NDArray[np.uint8]], channels: int, width: int, little: bool) -> tuple[
        float, float]:
    """(how far samples are from the one before them in their channel, of how far they reach from
    their mean: about 0 for sound, 1.4 for what is none; how far that is, squared)."""
    steps, reach = 0.0, 0.0
    for piece in pieces:
        frame = channels * width
        parts = piece[: piece.size // frame * frame].reshape(-1, channels, width)
        parts = parts if little else parts[..., ::-1]
        values = np.zeros(parts.shape[:2])
        for place in range(width):
            part = parts[..., place]
            values += (part.view(np.int8) if place == width - 1 else part) * 256.0**place
        steps += float(np.square(np.diff(values, axis=0)).sum())
        reach += float(np.square(values - values.mean(axis=0)).sum())
    return ((steps / reach) ** 0.5 if reach else 1.0), reach
