"""MPEG audio layers I to III (ISO/IEC 11172-3, 13818-3) with ID3 and APE tags around it.

Frames say how long they are; an information frame, where an encoder wrote one, says how many there
should be, and often the sum of all of them (CRC-16, LAME's extension of it), which proves them.
Streams of free format are not followed. Where no frames are stated, those of another file of the
same encoder may stand at the same places: only an exact record proves such a file.
"""

from __future__ import annotations

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.checksums import music_crc
from needlewright.core.kernels.mp3_main_data import first_overlap, fresh
from needlewright.core.kernels.sound_frames import MPEG, frame_bytes
from needlewright.core.sources.source import Source
from needlewright.core.structures.frame_chain import MAX_FRAME, Chain, follow_chain
from needlewright.core.structures.stream_end import cut_at_sector, cut_check
from needlewright.core.structures.tags import closing_tags_end, id3_end, torn_tag
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

MIN_FRAMES = 12  # fewer, without a tag before them, are too little to tell from chance
MAX_PADDING = 4096
BLOCK_BYTES = 1 << 20
SUM = "encoder's sum"
ENCODERS = (b"LAM", b"Lav", b"L3.")  # that write a sum of the frames beside their name
LAYERS = (b"\xff\xfb", b"\xff\xfa", b"\xff\xf3", b"\xff\xf2", b"\xff\xe3", b"\xff\xfd",
          b"\xff\xfc", b"\xff\xf5")


def _stated_frames(view: View, at: int) -> int | None:
    """How many frames the information frame at `at` states, itself included."""
    head = view.peek(at, 192)
    for mark in (b"Xing", b"Info"):
        place = head.find(mark)
        if 4 <= place <= 40 and len(head) >= place + 12 and head[place + 7] & 1:
            return int.from_bytes(head[place + 8 : place + 12], "big") + 1
    if head[36:40] == b"VBRI" and len(head) >= 54:
        return int.from_bytes(head[50:54], "big") + 1
    return None


def _music_sum(view: View, at: int) -> tuple[int, int] | None:
    """(bytes from the information frame at `at` to the last frame, CRC-16 of the frames behind it)
    that an encoder stated there; None where it did not."""
    head = view.peek(at, 256)
    place = max(head.find(b"Xing"), head.find(b"Info"))
    if not 4 <= place <= 40 or len(head) < 200:
        return None
    flags = head[place + 7]
    more = place + 8 + sum(size for bit, size in ((1, 4), (2, 4), (4, 100), (8, 4)) if flags & bit)
    length, crc = int.from_bytes(head[more + 28 : more + 32], "big"), head[more + 32 : more + 34]
    if head[more : more + 3] not in ENCODERS or not length or not any(crc):
        return None
    return length, int.from_bytes(crc, "big")


def encoders_sum(source: Source) -> bool | None:
    """Whether the sum that an encoder stated agrees with a whole file; None where it stated none.
    """
    view = View(source, 0, source.size)
    try:
        first = id3_end(view, 0)
        first = _skip_padding(view, first) if first else first
        stated = _music_sum(view, first)
        return None if stated is None else _sum_agrees(view, first, first + stated[0], stated)
    except FormatError:
        return None


def _sum_agrees(view: View, first: int, stop: int, stated: tuple[int, int]) -> bool:
    length, wanted = stated
    at, crc = first + frame_bytes(view.peek(first, 8), MPEG), 0
    if first + length != stop:
        return False
    while at < stop:
        data = np.frombuffer(view.source.read_at(at, min(BLOCK_BYTES, stop - at)), np.uint8)
        if not data.size:
            return False
        crc = music_crc(data, crc)
        at += data.size
    return crc == wanted


def _opens_stream(head: bytes) -> bool:
    """Whether a frame of layer III can be the first: the sound data of later ones begins in the
    frames before them (ISO/IEC 11172-3, 2.4.2.7: main_data_begin)."""
    if head[1] >> 1 & 3 != 1:
        return True
    side = head[4:] if head[1] & 1 else head[6:]
    return side[0] == 0 and (head[1] >> 3 & 3 != 3 or side[1] & 0x80 == 0)


def _skip_padding(view: View, at: int) -> int:
    block = view.peek(at, MAX_PADDING)
    used = len(block) - len(block.lstrip(b"\0"))
    return at + used if used < len(block) else at


def _another_begins(view: View, first: int, stop: int) -> int | None:
    """The first sector behind `first` with which another file begins: with a tag, or with an
    encoder's information frame. Frames of one length may stand in step across it."""
    sector = view.source.sector_size
    at = first + -(first - view.start) % sector
    at += sector if at == first else 0
    while at < stop:
        length = min(BLOCK_BYTES // sector * sector, stop - at)
        data = view.source.read_at(at, length)
        heads = np.frombuffer(data[: len(data) // sector * sector], np.uint8).reshape(-1, sector)
        tagged = (heads[:, 0] == 0x49) & (heads[:, 1] == 0x44) & (heads[:, 2] == 0x33) & (
            heads[:, 3] <= 4) & (heads[:, 4] == 0) & (heads[:, 6:10] < 0x80).all(axis=1)
        framed = (heads[:, 0] == 0xFF) & (heads[:, 1] >= 0xE0)
        for row in np.flatnonzero(tagged | framed).tolist():
            if tagged[row] or any(data[row * sector + 4 : row * sector + 44].find(m) >= 0
                                  for m in (b"Xing", b"Info")):
                return at + row * sector
        if not length:
            return None
        at += length
    return None


def _foreign_frame(view: View, first: int, stop: int) -> int | None:
    """The first frame whose sound data would lie in that of the frame before: it is of another
    stream."""
    state, at = fresh(), first
    while at < stop:
        data = np.frombuffer(view.source.read_at(at, min(BLOCK_BYTES, stop - at)), np.uint8)
        done, wrong = first_overlap(data, state)
        if wrong >= 0:
            return at + wrong
        if not done:
            return None
        at += done
    return None


def _problem(chain: Chain, stated: int | None, foreign: int | None) -> FormatError | None:
    if foreign is not None:
        return FormatError("frame-of-another-stream", offset=foreign)
    if chain.damaged is not None:
        return FormatError("no-frame", offset=chain.damaged)
    if stated is not None and chain.frames < stated:
        return FormatError("fewer-frames-than-stated", offset=chain.stop)
    return None


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the sound at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    first = id3_end(view, start)
    tagged = first > start
    if tagged:
        parts.add("tag", start, first)
        first = _skip_padding(view, first)
    if not tagged and not _opens_stream(view.take(first, 8)):
        raise FormatError("begins-inside-stream", offset=first)
    chain = follow_chain(view, first, MPEG)
    if chain.frames < (3 if tagged else MIN_FRAMES):
        raise FormatError("too-few-frames", offset=chain.stop)
    parts.add("sound", first, chain.stop)
    stated = _stated_frames(view, first)
    summed = _music_sum(view, first)
    proven = summed is not None and _sum_agrees(view, first, chain.stop, summed)
    sound_stop = chain.stop if chain.damaged is None else chain.damaged
    foreign = None if proven else _foreign_frame(view, first, sound_stop)
    begins = None if proven else _another_begins(view, first, foreign or sound_stop)
    foreign = foreign if begins is None else begins
    problem = _problem(chain, stated, foreign)
    end = closing_tags_end(view, chain.stop)
    if end > chain.stop:
        parts.add("closing tag", chain.stop, end)
    share = 1.0
    if foreign is not None:
        share = (foreign - first) / (chain.stop - first)
    elif problem is not None:
        share = chain.frames / stated if stated else 1 - chain.lost / (chain.stop - chain.start)
    seconds = round(chain.seconds, 3)
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "samples-agree", {"samples": chain.frames})
    sure = None if problem is None and end > chain.stop else chain.sure_until
    if begins is not None:
        sure = begins
    elif foreign is not None:
        sure = max(first, foreign - MAX_FRAME)
    cut = problem is None and (torn_tag(view, end) or (
        stated is None and end == chain.stop and cut_at_sector(view, end, (view.take(first, 2),))))
    sums = [] if summed is None or problem is not None else [
        Check(SUM, Outcome.PASS, "sum-agrees", content=True) if proven
        else Check(SUM, Outcome.DOUBT, "sum-differs", content=True)]
    return finish(
        start, end, problem, Facts(duration_s=seconds or None), parts,
        (structure(problem, start, len(parts)), samples, *sums,
         cut_check() if cut else end_mark(problem is None, counted=True)),
        share=share, verified=sure,
        unproven="coding-silent" if stated is None and summed is None else "")


def accept(head: bytes) -> bool:
    """An ID3v2 tag, or a frame header without reserved values."""
    if head[:3] == b"ID3":
        return len(head) > 9 and 2 <= head[3] <= 4 and head[4] < 16 and max(head[6:10]) < 128
    return (head[:2] in LAYERS and head[2] >> 4 not in (0, 15) and head[2] >> 2 & 3 != 3
            and head[3] & 3 != 2)


register(Format(
    name="mp3", kind=Kind.AUDIO, extension="mp3",
    signatures=(Signature(b"ID3\x02\0"), Signature(b"ID3\x03\0"), Signature(b"ID3\x04\0"),
                *(Signature(magic, weak=True) for magic in LAYERS)),
    accept=accept, walk=walk, decoder=Decoder.SOUND, object_formats={"mp3": 0x3009},
))
