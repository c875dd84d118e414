"""Sound recordings encoded by FFmpeg's libraries through PyAV, and a few tiny writers."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.demo.clips import record

RATE = 44_100


def encode(container: str, coding: str, seed: int = 90, seconds: float = 2.0, rate: int = RATE,
           options: dict[str, str] | None = None, bit_rate: int | None = None) -> bytes:
    return record(container, coding, seed, seconds, rate, options, bit_rate)


def tagged(sound: bytes) -> bytes:
    """MPEG audio with an ID3v1 tag behind it."""
    return sound + b"TAG" + b"Reedmouth weir".ljust(125, b"\0")


def long_wave(wave: bytes) -> bytes:
    """The same recording as RF64, its sizes in a `ds64` chunk."""
    at = wave.index(b"data")
    data_bytes = int.from_bytes(wave[at + 4 : at + 8], "little")
    sizes = struct.pack("<QQQI", len(wave) - 8 + 36, data_bytes, data_bytes // 2, 0)
    head = b"RF64" + b"\xff" * 4 + b"WAVEds64" + struct.pack("<I", 28) + sizes
    return head + wave[12 : at + 4] + b"\xff" * 4 + wave[at + 8 :]


def make() -> Iterator[tuple[str, str, str, bytes]]:
    """(format, variant, name, file) of each recording."""
    wave = encode("wav", "pcm_s16le", 90)
    yield "wav", "wav", "16-bit", wave
    yield "wav", "wav", "long", long_wave(wave)
    yield "mp3", "mp3", "constant", encode("mp3", "libmp3lame", 91)
    yield "mp3", "mp3", "bare", encode("mp3", "libmp3lame", 92, options={
        "id3v2_version": "0", "write_xing": "0"})
    yield "mp3", "mp3", "tagged", tagged(encode("mp3", "libmp3lame", 93))
    yield "mp4", "m4a", "aac", encode("ipod", "aac", 94)
    yield "aac", "aac", "frames", encode("adts", "aac", 95)
    yield "flac", "flac", "16-bit", encode("flac", "flac", 96)
    yield "ogg", "ogg", "flac", encode("ogg", "flac", 97)
    yield "ogg", "opus", "opus", encode("ogg", "libopus", 98, rate=48_000)
    yield "amr", "amr", "narrow", encode("amr", "libopencore_amrnb", 99, rate=8000, bit_rate=12_200)
    yield "aiff", "aiff", "16-bit", encode("aiff", "pcm_s16be", 100)
    yield "asf", "wma", "wmav2", encode("asf", "wmav2", 101, bit_rate=64_000)
