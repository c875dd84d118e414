"""GIF: frames taken up again behind damage or closed with a neutral rest, later ones found again,
the end added (GIF89a specification, 18 to 27 and appendix F).

LZW carries no checks, but encoders begin its table anew now and then: from there on codes mean
what they say, and those that lead to the end have their place from there. Where nothing but
codes that are none shows the damage, its beginning is a doubt.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.lzw import last_begun, last_good, tail
from needlewright.core.mending.base import (
    Change,
    Mended,
    Mender,
    Patient,
    Unmendable,
    bytes_written,
)
from needlewright.core.mending.registry import register

MAX_BYTES, MAX_PIXELS, MAX_BLOCKS = 1 << 27, 1 << 24, 100_000
MAX_SUB_BLOCKS = 1 << 17  # of one frame
MAGICS = (b"GIF89a", b"GIF87a")
SCREEN = 13  # bytes in front of the palette
END, IMAGE, EXTENSION = 0x3B, 0x2C, 0x21
LABELS = (0x01, 0xF9, 0xFE, 0xFF)
CONTROL = 0xF9
INTERLACED = 0x40
PASSES = (0, 8), (4, 8), (2, 4), (1, 2)  # first row, step (appendix E)
MOST_TOLD = 40
SUB_BLOCK = 255
MOST_TRIED = 512
LOOKED_BITS, LOOKED_BYTES, IN_STEP = 1 << 18, 1 << 16, 4


@dataclass(slots=True)
class _Frames:
    """What is kept. `rows`: of the first frame that had to be closed: (there, of all)."""

    out: list[bytes] = field(default_factory=list)
    whole: int = 0
    closed: int = 0
    rows: tuple[int, int] = (1, 1)
    areas: list[list[int]] = field(default_factory=list)
    lost: int = 0  # stretches that were stepped over
    ended: bool = False


def mend(patient: Patient) -> Iterator[Mended]:
    size = patient.source.size
    if size > MAX_BYTES:
        raise Unmendable("too-large")
    data = patient.source.read_at(0, size)
    if len(data) < SCREEN + 1:
        raise Unmendable("nothing-decodes")
    at = SCREEN + (3 << ((data[10] & 7) + 1) if data[10] & 0x80 else 0)
    changes: list[Change] = []
    head = data[:at]
    if data[:6] not in MAGICS:
        if not _begins(data, at):
            raise Unmendable("nothing-decodes")
        head = MAGICS[0] + data[6:at]
        changes.append(Change("header-made"))
    frames = _Frames()
    _gather(patient, data, at, frames)
    if not frames.whole and not frames.closed:
        raise Unmendable("nothing-decodes")
    there, rows = frames.rows
    if frames.closed:
        changes.append(Change("rows-missing", {
            "rows": rows - there, "total": rows, "areas": frames.areas}))
    if frames.lost:
        changes.append(Change("frames-missing", {"count": frames.lost}))
    if not frames.ended:
        changes.append(Change("end-added"))
    if not changes:
        raise Unmendable("nothing-found")
    doubts = ("unproven",) if frames.lost else ()
    share = there / rows if frames.closed and not frames.whole else (
        1.0 if not frames.closed else frames.whole / (frames.whole + frames.closed))
    yield Mended(bytes_written(head + b"".join(frames.out) + bytes([END])), "gif", tuple(changes),
                 round(share, 4), doubts)


def _begins(data: bytes, at: int) -> bool:
    """Whether a block may begin at `at`."""
    if at + 10 > len(data):
        return False
    return data[at] == IMAGE or (data[at] == EXTENSION and data[at + 1] in LABELS)


def _gather(patient: Patient, data: bytes, at: int, frames: _Frames) -> None:
    """The blocks from `at` on; what is damaged is stepped over to the next frame that decodes."""
    transparent = 0
    for _ in range(MAX_BLOCKS):
        patient.breathe(min(1.0, at / len(data)))
        if at < len(data) and data[at] == END:
            frames.ended = True
            return
        if at + 1 < len(data) and data[at] == EXTENSION and data[at + 1] in LABELS:
            stop, _ = _chain(data, at + 2)
            if stop is not None:
                if data[at + 1] == CONTROL and data[at + 3] & 1:
                    transparent = data[at + 6]
                frames.out.append(data[at:stop])
                at = stop
                continue
        elif at < len(data) and data[at] == IMAGE:
            stop = _frame(data, at, frames, transparent)
            if stop is not None:
                at = stop
                continue
        again = _next_frame(patient, data, at + 1)
        if again is None:
            return
        frames.lost += 1
        at = again


def _chain(data: bytes, at: int) -> tuple[int | None, bytes]:
    """(place behind the sub-blocks at `at`, None where they do not end; their contents)."""
    parts: list[bytes] = []
    while at < len(data) and len(parts) < MAX_SUB_BLOCKS:
        size = data[at]
        if size == 0:
            return at + 1, b"".join(parts)
        parts.append(data[at + 1 : at + 1 + size])
        at += 1 + size
    return None, b"".join(parts)


def _frame(data: bytes, at: int, frames: _Frames, transparent: int) -> int | None:
    """Take the frame at `at`; the place behind it, None where it is damaged. The first frame is
    taken all the same, with what there is of it."""
    head = data[at : at + 10]
    if len(head) < 10:
        return None
    width, height = (int.from_bytes(head[i : i + 2], "little") for i in (5, 7))
    begin = at + 10 + (3 << ((head[9] & 7) + 1) if head[9] & 0x80 else 0)
    if begin >= len(data) or not 0 < width * height <= MAX_PIXELS or not 2 <= data[begin] <= 8:
        return None
    least = data[begin]
    stop, coded = _chain(data, begin + 1)
    pixels, bit, wide = last_good(np.frombuffer(coded, np.uint8), least, width * height)
    if pixels == width * height and stop is not None:
        frames.out.append(data[at:stop])
        frames.whole += 1
        return stop
    if frames.whole or frames.closed or not pixels:
        return None
    behind = _behind(data, begin + 1, coded, bit, least, width * height)
    if behind is not None:  # what is damaged goes, from where the table was last begun
        sure = np.frombuffer(coded[: behind.before], np.uint8)
        pixels, bit, wide = last_begun(sure, least, width * height)
        wide, stop = wide or least + 1, behind.stop
        frames.lost += behind.unsure
    again = behind.pixels if behind is not None else 0
    total = width * height
    if pixels + again > total:
        return None
    first, last = pixels // width, (-(-(total - again) // width))
    frames.closed, frames.rows = 1, (height - (last - first), height)
    frames.areas = _missing(first, last, height, width, bool(head[9] & INTERLACED))
    fill = min(transparent, (1 << least) - 1)
    frames.out.append(data[at : begin + 1] + _closed(
        coded, bit, wide, least, total - pixels - again, fill, behind))
    return stop if behind is not None else None


@dataclass(frozen=True, slots=True)
class _Behind:
    """What decodes behind damage: `bits` uint8[n] behind the code that begins the table anew;
    `unsure`: only codes that are none showed where it is; `before`: bytes of codes in front of it.
    """

    bits: npt.NDArray[np.uint8]
    pixels: int
    stop: int
    unsure: bool
    before: int


def _behind(data: bytes, at: int, coded: bytes, bit: int, least: int, total: int) -> _Behind | None:
    """The codes behind damage, from the first that begins the table anew and leads to the end."""
    place, broken = at, at
    while place < len(data) and data[place]:
        broken, place = place, place + 1 + data[place]
        if data[broken] != SUB_BLOCK:
            break
    again = _in_step(data, broken)
    stop, part = _chain(data, again if again is not None else at)
    if stop is None:
        return None
    array = np.frombuffer(part, np.uint8)
    found = tail(array, least, total, 0 if again is not None else bit, LOOKED_BITS)
    if found is None:
        return None
    start, wide, pixels = found
    bits = np.unpackbits(array, bitorder="little")[start + wide :]
    # What is foreign may begin in the last full sub-block.
    full = max(0, (broken - at) // (SUB_BLOCK + 1) - 1) * SUB_BLOCK
    return _Behind(bits, pixels, stop, again is None, full if again is not None else len(coded))


def _in_step(data: bytes, at: int) -> int | None:
    """The next place from which full sub-blocks follow each other; None where none do."""
    for place in range(at + 1, min(len(data) - IN_STEP * (SUB_BLOCK + 1), at + LOOKED_BYTES)):
        if data[place] == SUB_BLOCK and all(
                data[place + n * (SUB_BLOCK + 1)] == SUB_BLOCK for n in range(1, IN_STEP)):
            return place
    return None


def _missing(first: int, last: int, height: int, width: int, interlaced: bool) -> list[list[int]]:
    """The areas of rows `first` to `last` in the order in which they are stored."""
    stored = [row for first, step in PASSES for row in range(first, height, step)] if (
        interlaced) else list(range(height))
    areas: list[list[int]] = []
    for row in sorted(stored[first:last]):
        if areas and areas[-1][2] == row:
            areas[-1][2] = row + 1
        else:
            areas.append([row, 0, row + 1, width])
    return areas if len(areas) <= MOST_TOLD else [[areas[0][0], 0, areas[-1][2], width]]


def _closed(coded: bytes, bit: int, wide: int, least: int, missing: int, fill: int,
            behind: _Behind | None) -> bytes:
    """The codes up to `bit`, then `missing` pixels `fill`, and what is `behind`, in sub-blocks. The
    table is begun anew often enough for all codes to keep their width (appendix F); `wide`: bits
    of the next code."""
    clear, each = 1 << least, (1 << least) - 2
    rounds, rest = divmod(missing, each)
    one = _as_bits(np.array([*[fill] * each, clear]), least + 1)  # many of one kind
    own = np.unpackbits(np.frombuffer(coded, np.uint8), bitorder="little")
    last = clear if behind is not None else clear + 1
    bits = [own[:bit], _as_bits(np.array([clear]), wide), np.tile(one, rounds),
            _as_bits(np.array([*[fill] * rest, last]), least + 1)]
    if behind is not None:
        bits.append(behind.bits)
    packed = np.packbits(np.concatenate(bits), bitorder="little").tobytes()
    blocks = [packed[i : i + SUB_BLOCK] for i in range(0, len(packed), SUB_BLOCK)]
    return b"".join(bytes([len(block)]) + block for block in blocks) + b"\0"


def _as_bits(codes: npt.NDArray[np.int64], width: int) -> npt.NDArray[np.uint8]:
    """uint8[n * width]: the bits of codes, the lowest first."""
    bits: npt.NDArray[np.uint8] = (codes[:, None] >> np.arange(width) & 1).astype(np.uint8).ravel()
    return bits


def _next_frame(patient: Patient, data: bytes, at: int) -> int | None:
    """Where the next frame, or what controls it, begins that decodes to its end."""
    for _ in range(MOST_TRIED):
        patient.breathe(min(1.0, at / len(data)))
        place = data.find(bytes([IMAGE]), at)
        if place < 0:
            return None
        control = place - 8
        trial = _Frames(whole=1)
        if _frame(data, place, trial, 0) is not None:
            begins = control >= at - 1 and data[control : control + 3] == b"\x21\xf9\x04"
            return control if begins else place
        at = place + 1
    return None


register(Mender("gif", frozenset(("gif",)), mend))
