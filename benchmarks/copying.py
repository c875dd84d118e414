"""`python -m benchmarks.copying`: a copy with its hashes against what it cannot be faster than.

A page-cached image of 2 GiB. Wall time, in turns, medians; memory is the peak of all processes
above what a Python with the same imports takes.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import statistics
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path

import platformdirs

from benchmarks.measure import Memory, _pss
from needlewright.core.imaging.copier import CopyPlan, copy
from needlewright.core.imaging.events import Copied

SIZE = 2 << 30
RUNS = 5
BLOCK = 1 << 20


def image() -> Path:
    """Noise with a fifth of blank space, made once."""
    path = Path(platformdirs.user_cache_dir("needlewright")) / "benchmarks" / "copy-2g.img"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("wb") as out:
            for index in range(SIZE // BLOCK):
                out.write(bytes(BLOCK) if index % 5 == 4 else os.urandom(BLOCK))
    return path


def seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def hash_pass(path: Path) -> None:
    digest, block = hashlib.sha256(), bytearray(BLOCK)
    with path.open("rb", buffering=0) as source:
        while got := source.readinto(block):
            digest.update(memoryview(block)[:got])


def our_copy(path: Path, folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    *_, last = copy(str(path), folder / "copy.img", CopyPlan(), threading.Event())
    assert isinstance(last, Copied) and last.sha256


def plain_copy(path: Path, folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    subprocess.run(["dd", f"if={path}", f"of={folder / 'plain.img'}", "bs=1M", "status=none"],
                   check=True)


def main() -> None:
    path = image()
    folder = path.parent / "copied"
    hash_pass(path)
    rows: dict[str, list[float]] = {}
    works: dict[str, Callable[[], object]] = {
        "hashlib pass": lambda: hash_pass(path),
        "plain copy": lambda: plain_copy(path, folder),
        "sha256sum": lambda: subprocess.run(["sha256sum", str(path)], stdout=subprocess.DEVNULL,
                                            check=True),
        "our copy": lambda: our_copy(path, folder),
    }
    for _ in range(RUNS):
        for name, work in works.items():
            rows.setdefault(name, []).append(seconds(work))
    median = {name: statistics.median(found) for name, found in rows.items()}
    for name, value in median.items():
        print(f"  {name:<14}{value:6.2f} s   ({min(rows[name]):.2f} to {max(rows[name]):.2f})")
    slower = max(median["hashlib pass"], median["plain copy"])
    print(f"copy with SHA-256 and chunk hashes against the slower of hashlib and a plain copy "
          f"{median['our copy'] / slower:.2f}   (target at most 1.15)")
    print(f"against sha256sum {median['our copy'] / median['sha256sum']:.2f}   (target below 1)")
    base, watcher = _pss(os.getpid()), Memory()
    watcher.start()
    our_copy(path, folder)
    watcher.ending.set()
    watcher.join()
    print(f"peak memory above the base {(watcher.peak - base) / 2**20:.0f} MiB   (target 120)")
    shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
