"""`make bench`: ratios to limits measured in the same run, on a page-cached image; peak memory.

Single-process work is measured in CPU time (user and system, reading included): other work on the
machine then matters less. What is spread over processes is measured in wall time against a limit
that uses both cores as well. Each figure is the median of RUNS runs, taken in turns.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.corpus import Laid, build
from benchmarks.measure import lasted, spent
from needlewright.core.formats.registry import formats
from needlewright.core.kernels.look import look
from needlewright.core.kernels.signatures import (
    Pattern,
    SignatureTable,
    build_table,
    find_everywhere,
    find_signatures,
)
from needlewright.core.kernels.texture import classify
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.search.step_signatures import BLOCK_BYTES
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.warming import warm

RUNS = 3
SPARSE = 256 << 30
DECODE = """
import io, json, sys
import av
from PIL import Image
av.logging.set_level(av.logging.PANIC)
path, listed = sys.argv[1], json.load(open(sys.argv[2]))
with open(path, "rb") as medium:
    for offset, size, kind in listed:
        medium.seek(offset)
        data = io.BytesIO(medium.read(size))
        if kind == "heic":
            import pillow_heif
            pillow_heif.register_heif_opener()
        if kind in ("jpeg", "png", "heic"):
            Image.open(data).load()
            continue
        with av.open(data, "r", metadata_errors="replace") as clip:
            for stream in clip.streams:
                stream.codec_context.thread_count = 1
            for packet in clip.demux():
                packet.decode()
"""


def table() -> SignatureTable:
    return build_table([Pattern(s.magic, s.at, s.mask, s.weak)
                        for f in formats().values() for s in f.signatures])


def cat(image: Path) -> None:
    with open(os.devnull, "wb") as nowhere:
        subprocess.run(["cat", str(image)], stdout=nowhere, check=True)


def over(image: Path, look: Callable[[np.ndarray], object]) -> None:
    """Read all of `image` block by block, as the search does, and look at each block."""
    block = bytearray(BLOCK_BYTES)
    view, data = memoryview(block), np.frombuffer(block, np.uint8)
    with ImageFile(image) as source:
        at = 0
        while got := source.read_into(at, view):
            look(data[:got])
            at += got


def full_search(image: Path, **options: bool) -> int:
    """Files found whole by a search with everything that it does."""
    with ImageFile(image) as source:
        events = search(source, Plan(texture=True, **options), threading.Event())
        grades = {e.find.start: e.find.grade for e in events if isinstance(e, Found | Rechecked)}
    return sum(grade == "whole" for grade in grades.values())


def plain_decode(image: Path, listed: list[Laid], processes: int = 2) -> None:
    """Decode the same files once, spread over two processes."""
    shares: list[list[Laid]] = [[] for _ in range(processes)]
    for laid in sorted(listed, key=lambda item: -item[1]):
        min(shares, key=lambda share: sum(size for _, size, _ in share)).append(laid)
    started = []
    for index, share in enumerate(shares):
        listing = image.with_name(f"share {index}.json")
        listing.write_text(json.dumps(share))
        started.append(subprocess.Popen([sys.executable, "-c", DECODE, str(image), str(listing)]))
    for process in started:
        if process.wait():
            raise RuntimeError("the plain decoder failed")


def entropy_against_decode(image: Path, listed: list[Laid]) -> tuple[float, float]:
    """(CPU seconds of our walk, of Pillow's full decode) over the photos, in this process."""
    import io

    from PIL import Image

    photos = []
    with image.open("rb") as medium:
        for offset, size, kind in listed:
            if kind == "jpeg":
                medium.seek(offset)
                photos.append(medium.read(size))
    walk = formats()["jpeg"].walk

    def ours() -> None:
        for data in photos:
            walk(MemorySource(data), 0, len(data))

    def theirs() -> None:
        for data in photos:
            Image.open(io.BytesIO(data)).load()

    return spent(ours), spent(theirs)


def sparse_copy(image: Path, listed: list[Laid]) -> Path:
    """The same files at the start of a sparse image of SPARSE bytes."""
    path = image.with_name("sparse.img")
    with image.open("rb") as source, path.open("wb") as out:
        for offset, size, _ in listed:
            source.seek(offset)
            out.write(source.read(size))
            out.seek(-(-out.tell() // 4096) * 4096)
        out.truncate(SPARSE)
    return path


def blank_image(image: Path) -> Path:
    """As many zero bytes as `image` has, written and not left out."""
    path = image.with_name("blank.img")
    if not path.exists():
        with path.open("wb") as out:
            for _ in range(image.stat().st_size >> 20):
                out.write(bytes(1 << 20))
    return path


def searched_apart(image: Path) -> tuple[int, float]:
    """(peak memory in bytes, seconds) of a search in a process that has done nothing else."""
    done = subprocess.run(
        [sys.executable, "-c",
         "import sys; from pathlib import Path; import benchmarks.__main__ as b;"
         "from benchmarks.measure import lasted, peak_memory; image = Path(sys.argv[1]);"
         "took = []; print(peak_memory(lambda: took.append(lasted(lambda: b.full_search(image)))),"
         "took[0])", str(image)], check=True, capture_output=True, text=True)
    peak, seconds = done.stdout.split()
    return int(peak), float(seconds)


def row(name: str, limit: list[float], work: list[float], target: float) -> None:
    """One line: the median of the ratios of neighbours in time."""
    ratio = statistics.median(a / b for a, b in zip(limit, work))
    print(f"{name:<52}{ratio:6.2f}   (target at least {target:.2f}; "
          f"{min(work):.2f} to {max(work):.2f} s)", flush=True)


def main() -> None:
    image, listed = build()
    warm()
    known = table()
    blank = blank_image(image)
    cat(image)
    cat(blank)
    work: dict[str, Callable[[], object]] = {
        "cat": lambda: cat(image),
        "512": lambda: over(image, lambda d: find_signatures(d, 512, known)),
        "4096": lambda: over(image, lambda d: find_signatures(d, 4096, known)),
        "every": lambda: over(image, lambda d: find_everywhere(d, known)),
        "portable": lambda: over(image, lambda d: find_everywhere(d, known, True)),
        "texture": lambda: over(image, classify),
        "cat blank": lambda: cat(blank),
        "blank": lambda: over(blank, lambda d: look(d, known, 512, 0, True, d.size)),
    }
    rows: dict[str, list[float]] = {name: [] for name in work}
    began = time.monotonic()
    for _ in range(RUNS):
        for name, act in work.items():
            rows[name].append(spent(act))
    print(f"image {image.stat().st_size / 2**30:.2f} GiB, {len(listed)} files; median of {RUNS}; "
          f"cat {statistics.median(rows['cat']):.2f} CPU s")
    row("aligned search of all signatures, against cat", rows["cat"], rows["512"], 0.6)
    row("aligned search at 4 KiB steps, against cat", rows["cat"], rows["4096"], 0.85)
    row("every-byte search (wide instructions), against cat", rows["cat"], rows["every"], 0.35)
    row("every-byte search (portable), against cat", rows["cat"], rows["portable"], 0.12)
    row("texture, against cat", rows["cat"], rows["texture"], 0.2)
    row("blank image, all of these together, against cat", rows["cat blank"], rows["blank"], 0.5)
    blank.unlink()
    pairs = [entropy_against_decode(image, listed) for _ in range(RUNS)]
    row("JPEG entropy check, against Pillow's full decode", [b for _, b in pairs],
        [a for a, _ in pairs], 3.0)
    ends, plain = [], []
    for _ in range(RUNS):
        plain.append(lasted(lambda: plain_decode(image, listed)))
        ends.append(lasted(lambda: full_search(image)))
    ratio = statistics.median(a / b for a, b in zip(ends, plain))
    print(f"{'end to end, wall time against decoding once':<52}{ratio:6.2f}   "
          f"(target at most 1.25; {min(ends):.1f} to {max(ends):.1f} s)")
    whole = full_search(image)
    print(f"{whole} of {len(listed)} found whole; {time.monotonic() - began:.0f} s in all")
    peak, _ = searched_apart(image)
    sparse = sparse_copy(image, listed)
    try:
        wide, seconds = searched_apart(sparse)
    finally:
        sparse.unlink()
    print(f"peak memory (PSS, all processes): {peak / 2**20:.0f} MiB at 2 GiB, "
          f"{wide / 2**20:.0f} MiB at a sparse {SPARSE >> 30} GiB ({seconds:.0f} s), "
          f"apart {abs(wide / peak - 1):.1%}   (targets under 700 MiB, within 10 %)")


if __name__ == "__main__":
    main()
