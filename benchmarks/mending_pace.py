"""`python -m benchmarks.mending_pace [--mb N]`: how long mending takes, and how much memory.

A photograph of 12 megapixels with one break and with ten; a clip of N MB whose index is removed,
against reading it once.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import tempfile
import threading
import time
from pathlib import Path

from benchmarks import mending_damage as damage
from benchmarks.families import photograph
from needlewright.core.mending.treating import Treated, treat
from needlewright.demo import clips, photos


def timed(path: Path, to: Path, references: list[Path]) -> tuple[float, Treated]:
    begun = time.monotonic()
    (done,) = treat([path], to, references, threading.Event())
    return time.monotonic() - begun, done


def photo(folder: Path, breaks: int) -> None:
    rng = random.Random(breaks)
    picture = photograph(rng, 4000, 3000)
    data = bytearray(photos.encode_photo(picture, "2031:05:12 05:58:12", 200, 90))
    begin = damage.coded_start(bytes(data))
    for number in range(breaks):
        at = begin + int((len(data) - begin) * (number + 0.5) / breaks)
        data[at : at + 64] = rng.randbytes(64)
    path = folder / f"{breaks}.jpg"
    path.write_bytes(data)
    timed(path, folder / "out", [])  # compiles
    seconds, done = timed(path, folder / "out", [])
    print(f"12 MP, {breaks} breaks, {len(data) / 1e6:.1f} MB: {seconds:.2f} s, {done.grade}, "
          f"{done.share:.3f}", flush=True)


def forget(path: Path) -> None:
    """Let the file be read from its disk again."""
    with path.open("rb") as file:
        os.fsync(file.fileno())
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


def clip(folder: Path, megabytes: int) -> None:
    whole = clips.encode("mp4", "libx264", "aac", 77, 100, (1280, 720),
                         coder={"preset": "ultrafast", "qp": "12", "g": "25"})
    start, size = damage.boxes(whole)[b"mdat"]
    media = whole[start + 8 : start + size]
    path, sibling = folder / "long.mp4", folder / "sibling.mp4"
    sibling.write_bytes(whole)
    with path.open("wb") as out:
        out.write(whole[:start] + (0).to_bytes(4, "big") + b"mdat")
        for _ in range(max(1, megabytes * 1_000_000 // len(media))):
            out.write(media)
    forget(path)
    begun = time.monotonic()
    with path.open("rb", buffering=0) as file:
        while file.read(1 << 20):
            pass
    read = time.monotonic() - begun
    forget(path)
    stop = threading.Event()
    begun = time.monotonic()
    from needlewright.core.mending import mend_clip
    from needlewright.core.mending.base import Patient, Reference
    from needlewright.core.sources.files import ImageFile

    lent = Reference("sibling", "sibling", ImageFile(sibling))
    patient = Patient(ImageFile(path), "long.mp4", "mp4", None, [lent], stop)
    proposal = next(iter(mend_clip.mend(patient)))
    found = time.monotonic() - begun
    with (folder / "written.mp4").open("wb") as out:
        proposal.write(out)
    written = time.monotonic() - begun
    size = path.stat().st_size / 1e6
    print(f"clip of {size:.0f} MB without index: read {read:.2f} s, samples found "
          f"{found:.2f} s ({found / read:.1f} times), written {written:.2f} s, share "
          f"{proposal.share}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--mb", type=int, default=1000)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "out").mkdir()
        for breaks in (1, 10):
            photo(folder, breaks)
        clip(folder, options.mb)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak of this process {peak:.0f} MiB")


if __name__ == "__main__":
    main()
