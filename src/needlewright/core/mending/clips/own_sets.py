"""A clip described by its data alone: many recorders repeat the parameter sets in front of their
key pictures (ITU-T H.264, 7.4.1.2.1; H.265, 7.4.2.4.4), and sound in AAC shows by its frames;
plain sound by how much of it there is.

How fast pictures follow each other is told by the usability information, else by the sound; what
rate the sound has by the pictures. Where neither tells, it is guessed, and a doubt.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.kernels.aac_frames import RATES
from needlewright.core.kernels.clip_walk import AVC, HEVC, JPEGS
from needlewright.core.mending.clips.finding import Finder, Found
from needlewright.core.mending.clips.own_plain import Plain, chunks_of, plain_sound
from needlewright.core.mending.clips.tracks import SOUND, VIDEO, Longs, Model
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff_samples import Track
from needlewright.core.structures.bmff_writing import box, full
from needlewright.core.structures.parameter_sets import Order, order_of_avc, order_of_hevc

LOOK_BYTES = 16 << 20  # in which parameter sets must stand
TRIAL_BYTES = 256 << 20  # by which sound and pictures are measured against each other
AVC_SET = re.compile(rb"\0\0\0[\x08-\xff][\x27\x47\x67][\x42\x4d\x58\x64\x6e\x7a\xf4]", re.DOTALL)
HEVC_SET = re.compile(rb"\0\0\0[\x10-\xff]\x40\x01\x0c", re.DOTALL)
LENGTH = 4  # bytes in front of a unit; no recorder uses others
SIDES = range(16, 16_385)
FRAME = 1024  # samples of a frame of AAC
TABLES = ((3, 4), (5,), (6, 7), (8,), (2,), (0, 1))  # rates whose frames are divided alike
#: (timescale, step) of what recorders write, the usual ones first.
PACES = ((30_000, 1001), (30_000, 1000), (25_000, 1000), (24_000, 1001), (24_000, 1000),
         (60_000, 1001), (60_000, 1000), (50_000, 1000), (120_000, 1001), (120_000, 1000),
         (100_000, 1000), (240_000, 1000), (15_000, 1000), (20_000, 1000), (10_000, 1000))
USUAL_PACE = PACES[0]
NEAR = 0.03  # by which a pace that is measured may be off
LEAST_FRAMES = 8


@dataclass(frozen=True, slots=True)
class Told:
    """What the data tells. `guessed`: nothing says how fast it is."""

    models: list[Model]
    guessed: bool


def described(source: Source, start: int, stop: int, told: Callable[[float], None]) -> Told | None:
    """How the samples between `start` and `stop` are coded; None where that is not told."""
    head = source.read_at(start, min(LOOK_BYTES, stop - start))
    for coding, order, entry in _pictures(head):
        video = _video(coding, order, entry, USUAL_PACE)
        end = min(stop, start + TRIAL_BYTES)
        chunks = chunks_of(source, start, end, video)
        if not chunks.size and not Finder(source, start, min(end, start + LOOK_BYTES), video, None,
                                          told).run().video.offsets:
            continue
        sound, found = _heard(source, start, end, video, told)
        stated = order.rate if order is not None else 0.0
        if sound is None and chunks.size:
            plain = _plain_of(source, start, end, video, chunks, stated, told)
            if plain is not None:
                return Told([_video(coding, order, entry, plain.pace), _plain(plain)],
                            not plain.sure)
        pace, rate, guessed = _paces(found, stated, sound)
        models = [_video(coding, order, entry, pace)]
        if sound is not None:
            models.append(_sound(rate, sound[1]))
        return Told(models, guessed)
    return None


def _pictures(head: bytes) -> Iterator[tuple[int, Order | None, bytes]]:
    """(coding, how its order is told, sample entry) for all that `head` may be."""
    for match in AVC_SET.finditer(head):
        sps, at = _unit(head, match.start())
        pps, _ = _unit(head, at)
        if len(pps) < 2 or pps[0] & 0x1F != 8:
            continue
        try:
            order = order_of_avc(sps)
        except FormatError:
            continue
        if order.width in SIDES and order.height in SIDES:
            record = (bytes((1, sps[1], sps[2], sps[3], 0xFF, 0xE1)) + struct.pack(">H", len(sps))
                      + sps + b"\1" + struct.pack(">H", len(pps)) + pps)
            yield AVC, order, _entry(b"avc1", order.width, order.height, box(b"avcC", record))
            break
    for match in HEVC_SET.finditer(head):
        vps, at = _unit(head, match.start())
        sps, at = _unit(head, at)
        pps, _ = _unit(head, at)
        if len(sps) < 16 or len(pps) < 4 or sps[0] >> 1 != 33 or pps[0] >> 1 != 34:
            continue
        try:
            order = order_of_hevc(sps, pps)
        except FormatError:
            continue
        if order.width in SIDES and order.height in SIDES:
            yield HEVC, order, _entry(b"hev1", order.width, order.height,
                                      box(b"hvcC", _hevc_record(vps, sps, pps)))
            break
    first = head.find(b"\xff\xd8\xff")
    size = _jpeg_size(head, first + 2) if first >= 0 else None
    if size is not None:
        yield JPEGS, None, _entry(b"jpeg", *size)


def _unit(data: bytes, at: int) -> tuple[bytes, int]:
    """(the unit whose length stands at `at`, place behind it)."""
    size = int.from_bytes(data[at : at + LENGTH], "big")
    body = data[at + LENGTH : at + LENGTH + size] if size < 1 << 12 else b""
    return body, at + LENGTH + size


def _hevc_record(vps: bytes, sps: bytes, pps: bytes) -> bytes:
    """ISO/IEC 14496-15, 8.3.3.1; the profile as the sequence parameter set has it."""
    profile = sps.replace(b"\0\0\3", b"\0\0")[3:15]
    arrays = b"".join(bytes((kind,)) + struct.pack(">HH", 1, len(unit)) + unit
                      for kind, unit in ((32, vps), (33, sps), (34, pps)))
    return (b"\1" + profile + struct.pack(">HBBBBHB", 0xF000, 0xFC, 0xFD, 0xF8, 0xF8, 0, 0x0F)
            + b"\3" + arrays)


def _jpeg_size(head: bytes, at: int) -> tuple[int, int] | None:
    """Pixels of the JPEG whose segments begin at `at` (T.81, B.2.2)."""
    while at + 9 < len(head) and head[at] == 0xFF:
        if head[at + 1] in (0xC0, 0xC1, 0xC2):
            high, wide = struct.unpack_from(">HH", head, at + 5)
            return (wide, high) if wide in SIDES and high in SIDES else None
        at += 2 + int.from_bytes(head[at + 2 : at + 4], "big")
    return None


def _heard(source: Source, start: int, stop: int, video: Model,
           told: Callable[[float], None]) -> tuple[tuple[int, int] | None, Found]:
    """((rate as an index into RATES, channels) of the AAC that stands between the pictures, None
    for none; what is found with it)."""
    best: tuple[int, int, int] | None = None
    trial = min(stop, start + LOOK_BYTES)
    for rates in TABLES:
        for channels in (2, 1):
            found = Finder(source, start, trial, video, _sound(rates[0], channels), told).run()
            count = len(found.sound.offsets)
            if count >= LEAST_FRAMES and (best is None or sum(found.sound.sizes) > best[0]):
                best = sum(found.sound.sizes), rates[0], channels
        if best is not None:
            break
    sound = None if best is None else _sound(best[1], best[2])
    whole = Finder(source, start, stop, video, sound, told).run()
    return (None if best is None else (best[1], best[2])), whole


def _paces(found: Found, stated: float, sound: tuple[int, int] | None) -> tuple[
        tuple[int, int], int, bool]:
    """(timescale and step of the pictures, rate of the sound as an index, whether that is
    guessed)."""
    near = _stated(stated)
    if sound is None:
        return (near[0] if near else USUAL_PACE), 3, not near
    rates = next(rates for rates in TABLES if sound[0] in rates)
    pictures, frames = len(found.video.offsets), len(found.sound.offsets)
    fits = []
    for rate in rates:
        seconds = frames * FRAME / RATES[rate]
        for pace in near or PACES:
            fits.append((abs(pictures * pace[1] / pace[0] / seconds - 1), pace, rate))
    error, pace, rate = min(fits, key=lambda fit: fit[0])
    return pace, rate, error > NEAR


def _stated(rate: float) -> list[tuple[int, int]]:
    """The pace of `rate` pictures a second; none for 0."""
    if not rate:
        return []
    near = min(PACES, key=lambda p: abs(p[0] / p[1] / rate - 1))
    return [near if abs(near[0] / near[1] / rate - 1) <= NEAR else (
        max(1, round(rate * 1000)), 1000)]


def _video(coding: int, order: Order | None, entry: bytes, pace: tuple[int, int]) -> Model:
    wide, high = struct.unpack_from(">HH", entry, 32)
    trak = _trak(VIDEO, pace[0], full(b"vmhd", bytes(8), flags=1), entry, wide, high)
    track = Track(1, VIDEO, entry[4:8], pace[0], width=wide, height=high, length_bytes=LENGTH)
    return Model(track, trak, pace[1], coding, 0 if coding == JPEGS else LENGTH, order)


def _sound(rate: int, channels: int) -> Model:
    config = struct.pack(">H", 2 << 11 | rate << 7 | channels << 3)
    inner = b"\5" + bytes((len(config),)) + config
    decoder = b"\4" + bytes((13 + len(inner),)) + b"\x40\x15" + bytes(11) + inner
    body = b"\0\0" + b"\0" + decoder + b"\6\1\2"
    described = full(b"esds", b"\3" + bytes((len(body),)) + body)
    entry = box(b"mp4a", bytes(6), struct.pack(">H8xHH4xI", 1, channels, 16,
                                                  min(RATES[rate], 0xFFFF) << 16),
                described)
    trak = _trak(SOUND, RATES[rate], full(b"smhd", bytes(4)), entry, 0, 0)
    return Model(Track(2, SOUND, b"mp4a", RATES[rate]), trak, FRAME, channels=channels, rate=rate)


def _plain_of(source: Source, start: int, stop: int, video: Model, chunks: Longs, stated: float,
              told: Callable[[float], None]) -> Plain | None:
    """The plain sound that stands between the pictures in stretches of `chunks` bytes."""
    unnamed = Model(Track(2, SOUND, b"", 1, frame_bytes=1), b"", 1, chunks=chunks)
    found = Finder(source, start, stop, video, unnamed, told).run()
    near = _stated(stated)
    return plain_sound(source, found, chunks, near or list(PACES), bool(near))


def _plain(sound: Plain) -> Model:
    entry = sound.entry
    trak = _trak(SOUND, sound.rate, full(b"smhd", bytes(4)), entry, 0, 0)
    track = Track(2, SOUND, entry[4:8], sound.rate, frame_bytes=sound.channels * sound.width)
    return Model(track, trak, 1, chunks=sound.chunks)


def _entry(name: bytes, wide: int, high: int, *inner: bytes) -> bytes:
    """A sample entry of pictures (ISO/IEC 14496-12, 12.1.3)."""
    return box(name, bytes(6), struct.pack(">H16xHHII4xH", 1, wide, high, 0x48_0000, 0x48_0000, 1),
               bytes(32), struct.pack(">Hh", 24, -1), *inner)


def _trak(handler: bytes, scale: int, header: bytes, entry: bytes, wide: int, high: int) -> bytes:
    """A track without samples (ISO/IEC 14496-12, 8.3 to 8.5)."""
    matrix = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x4000_0000)
    loud = 0x100 if handler == SOUND else 0
    table = box(b"stbl", full(b"stsd", struct.pack(">I", 1), entry))
    data = box(b"dinf", full(b"dref", struct.pack(">I", 1), full(b"url ", flags=1)))
    return box(
        b"trak",
        full(b"tkhd", bytes(20), bytes(8), struct.pack(">HHHH", 0, 0, loud, 0), matrix,
             struct.pack(">II", wide << 16, high << 16), flags=7),
        box(b"mdia", full(b"mdhd", struct.pack(">IIIIHH", 0, 0, scale, 0, 0x55C4, 0)),
            full(b"hdlr", bytes(4), handler, bytes(12), b"\0"),
            box(b"minf", header, data, table)))
