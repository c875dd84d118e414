"""Damage of every kind that mending is for, seeded: of photographs, clips, pictures and sound."""

from __future__ import annotations

import random
import struct

from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.sources.memory import MemorySource

PHOTO = ("header cut", "header zeroed", "header random", "size wrong", "zeroed", "zeroed thrice",
         "doubled", "inserted", "inserted photo", "cut off", "no end", "changed", "changed often",
         "single bytes", "removed", "removed thrice", "line ends", "swapped")
CLIP = ("index removed", "never closed", "cut off", "sizes wrong", "zeroed", "index first, cut off",
        "moved")

PICTURE = ("head lost", "cut off", "zeroed", "inserted", "removed")
HEADS = {"png": 33, "gif": 6, "bmp": 54, "tif": 8, "webp": 12}  # bytes in front
STREAM = ("head lost", "cut off", "zeroed", "inserted", "removed", "changed")


def stream(data: bytes, kind: str, rng: random.Random) -> tuple[bytes, float]:
    """A file that is a row of units, damaged: (damaged, share of its bytes that is there)."""
    at = int(len(data) * rng.uniform(0.25, 0.75)) // 512 * 512
    size = min(rng.choice((512, 4096, 20_000)), len(data) // 8)
    match kind:
        case "head lost":
            return bytes(4096) + data[4096:], 1 - 4096 / len(data)
        case "cut off":
            return data[:at], at / len(data)
        case "zeroed":
            return data[:at] + bytes(size) + data[at + size :], 1 - size / len(data)
        case "inserted":
            return data[:at] + rng.randbytes(size) + data[at:], 1.0
        case "removed":
            return data[:at] + data[at + size :], 1 - size / len(data)
        case "changed":
            return data[:at] + rng.randbytes(size) + data[at + size :], 1 - size / len(data)
    raise ValueError(kind)


def picture(data: bytes, kind: str, form: str, rng: random.Random) -> tuple[bytes, float]:
    """A picture of another format, damaged: (damaged, share of its bytes that is there)."""
    if kind == "head lost":
        size = HEADS.get(form) or data.index(b"mdat") + 4  # of HEIC the index as well
        return bytes(size) + data[size:], 1.0
    return stream(data, kind, rng)


def coded_start(data: bytes) -> int:
    return seg.read_headers(MemorySource(data))[2]


def photo(data: bytes, kind: str, rng: random.Random) -> tuple[bytes, float]:
    """(damaged, share of the coded data that is still physically there)."""
    begin, stop = coded_start(data), len(data) - 2
    length = stop - begin
    at = (begin + int(length * rng.uniform(0.15, 0.8))) // 512 * 512
    many = [begin + int(length * (i + rng.uniform(0.2, 0.8)) / 3) for i in range(3)]
    match kind:
        case "header cut":
            return data[begin:], 1.0
        case "header zeroed":
            size = min(begin - 20, rng.choice((512, 2048, 4096)))
            return bytes(size) + data[size:], 1.0
        case "header random":
            return rng.randbytes(1024) + data[1024:], 1.0
        case "size wrong":
            place = max(data.rfind(m, 0, begin) for m in (b"\xff\xc0\0", b"\xff\xc2\0"))
            size = struct.pack(">HH", rng.randrange(300, 3000), rng.randrange(300, 3000))
            return data[: place + 5] + size + data[place + 9 :], 1.0
        case "zeroed":
            size = rng.choice((512, 4096, 16_384))
            return data[:at] + bytes(size) + data[at + size :], 1 - size / length
        case "zeroed thrice":
            out = bytearray(data)
            for place in many:
                place = place // 512 * 512
                out[place : place + 4096] = bytes(4096)
            return bytes(out[: len(data)]), 1 - 3 * 4096 / length
        case "doubled":
            size = rng.choice((512, 4096, 32_768))
            return data[: at + size] + data[at : at + size] + data[at + size :], 1.0
        case "inserted":
            return data[:at] + rng.randbytes(rng.choice((4096, 32_768))) + data[at:], 1.0
        case "inserted photo":
            other = data[stop // 2 : stop // 2 + rng.choice((4096, 32_768))]
            return data[:at] + other[::-1] + data[at:], 1.0
        case "cut off":
            return data[:at], (at - begin) / length
        case "no end":
            return data[:-2], 1.0
        case "changed":
            size = rng.choice((4, 16, 64, 512))
            return data[:at] + rng.randbytes(size) + data[at + size :], 1 - size / length
        case "changed often":
            out = bytearray(data)
            for place in many:
                out[place : place + 64] = rng.randbytes(64)
            return bytes(out), 1 - 192 / length
        case "single bytes":
            out = bytearray(data)
            for place in rng.sample(range(begin, stop), 20):
                out[place] = rng.randrange(256)
            return bytes(out), 1.0
        case "removed":
            size = rng.choice((512, 4096, 32_768))
            return data[:at] + data[at + size :], 1 - size / length
        case "removed thrice":
            out = bytearray(data)
            for place in reversed(many):
                del out[place : place + 1000]
            return bytes(out), 1 - 3000 / length
        case "line ends":
            return data.replace(b"\n", b"\r\n"), 1.0
        case "swapped":
            size = 16_384
            first = (begin + 8192) // 512 * 512
            one, two = data[first : first + size], data[first + size : first + 2 * size]
            return data[:first] + two + one + data[first + 2 * size :], 1.0
    raise ValueError(kind)


def boxes(data: bytes) -> dict[bytes, tuple[int, int]]:
    at, found = 0, {}
    while at + 8 <= len(data):
        size = int.from_bytes(data[at : at + 4], "big")
        found.setdefault(data[at + 4 : at + 8], (at, size))
        at += max(8, size)
    return found


def clip(data: bytes, first: bytes, kind: str, rng: random.Random) -> tuple[bytes, float]:
    """(damaged, share of the media data that is there). `first`: the same clip with its index in
    front."""
    found = boxes(data)
    index, (media, size) = found[b"moov"][0], found[b"mdat"]
    match kind:
        case "index removed":
            return data[:index], 1.0
        case "never closed":
            return data[:media] + b"\0\0\0\0" + data[media + 4 : index], 1.0
        case "cut off":
            share = rng.uniform(0.4, 0.9)
            return data[: media + 8 + int((size - 8) * share)], share
        case "sizes wrong":
            wrong = struct.pack(">I", rng.randrange(9, 1 << 20))
            return data[:media] + wrong + data[media + 4 :], 1.0
        case "zeroed":
            at = (media + int(size * rng.uniform(0.3, 0.7))) // 512 * 512
            return data[:at] + bytes(4096) + data[at + 4096 : index], 1 - 4096 / size
        case "index first, cut off":
            share = rng.uniform(0.4, 0.9)
            place, length = boxes(first)[b"mdat"]
            return first[: place + 8 + int((length - 8) * share)], share
        case "moved":
            return data[:media] + struct.pack(">I4s", 640, b"free") + bytes(632) + data[media:], 1.0
    raise ValueError(kind)
