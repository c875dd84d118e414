"""`python -m benchmarks.splices`: foreign clusters in JPEG photos, noticed or not, and where.

Overwrites one to eight clusters of 4 KiB in survey photos of several sizes, qualities and codings
with text, zeros, noise, other photos or another part of the same one, from a seed.
"""

from __future__ import annotations

import random
from collections import Counter, defaultdict

from needlewright.core.errors import FormatError
from needlewright.core.formats.jpeg import walk
from needlewright.core.sources.memory import MemorySource
from needlewright.core.walks import Walk
from needlewright.demo import photos, scenes

CLUSTER = 4096
SEED = 3
PER_PHOTO = 40
SIZES = ((1024, 768), (1632, 1224), (2448, 3264), (2592, 1944))
KINDS = ("text", "zeros", "noise", "other photo", "same photo")


def pictures() -> list[bytes]:
    found = []
    for index in range(24):
        width, height = SIZES[index % len(SIZES)]
        picture = scenes.draw_photo(600 + index, width, height, "Fernbeck Valley")
        found.append(photos.encode_photo(
            picture, "2031:05:12 05:58:12", 100 + index, (78, 86, 93)[index % 3],
            progressive=index % 6 == 5, restart_rows=int(index % 6 == 4)))
    return found


def foreign(kind: str, rng: random.Random, own: bytes, others: list[bytes], size: int) -> bytes:
    if kind == "zeros":
        return bytes(size)
    if kind == "text":
        return (b"05:58;Reedmouth weir;3;mist\n" * (size // 28 + 1))[:size]
    if kind == "noise":
        return rng.randbytes(size)
    donor = own if kind == "same photo" else rng.choice([o for o in others if o is not own])
    at = rng.randrange(CLUSTER, len(donor) - size)
    return donor[at : at + size]


def walked(data: bytes) -> Walk | None:
    try:
        return walk(MemorySource(data), 0, len(data))
    except FormatError:
        return None


def main() -> None:
    rng = random.Random(SEED)
    files = pictures()
    convicted = sum(found is None or found.broken is not None for found in map(walked, files))
    errors: dict[str, list[float]] = defaultdict(list)
    unnoticed: Counter[str] = Counter()
    suspected = 0
    for data in files:
        for _ in range(PER_PHOTO):
            kind, clusters = rng.choice(KINDS), rng.choice((1, 1, 2, 4, 8))
            at = rng.randrange(4, len(data) // CLUSTER - clusters) * CLUSTER
            block = foreign(kind, rng, data, files, clusters * CLUSTER)
            found = walked(data[:at] + block + data[at + len(block):])
            if found is None or found.broken is not None:
                place = found.broken.offset if found is not None and found.broken else 0
                errors[kind].append((place - at) / CLUSTER)
            else:
                unnoticed[kind] += 1
                suspected += found.suspect is not None
    total = sum(map(len, errors.values())) + sum(unnoticed.values())
    print(f"{len(files)} photos, {convicted} convicted although intact; {total} splices, "
          f"{sum(unnoticed.values())} unnoticed by the walk, {suspected} of these suspected")
    for kind in KINDS:
        off = errors[kind]
        exact = sum(e == 0 for e in off) / len(off)
        late = sum(e >= 1 for e in off) / len(off)
        early = sum(e < 0 for e in off) / len(off)
        print(f"  {kind:<12} {len(off):>4} noticed, {unnoticed[kind]} not; placed exactly "
              f"{exact:.0%}, a cluster or more late {late:.0%}, early {early:.0%}")


if __name__ == "__main__":
    main()
