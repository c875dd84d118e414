"""`python -m benchmarks.delivering [--mib N] [--runs N]`: a delivery, hashed, read back from the
disk and compared, against `cp` and `sha256sum` of the same files; wall seconds, medians of one run.

`cp` may leave its files in memory and `sha256sum` read them there; a delivery may not. So the same
is told with `sync` between the two, and without.
"""

from __future__ import annotations

import argparse
import random
import resource
import shutil
import statistics
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.finds import Find
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.walks import Check, Facts, Kind, Outcome
from needlewright.wording.bag import words_for

MIB = 1 << 20


def fill(folder: Path, size: int) -> Job:
    """A job whose finds, photos of 1 to 4 MiB and a few clips, are all of an image of noise."""
    rng, image = random.Random(5), folder / "card.img"
    with image.open("wb") as out:
        for _ in range(size // MIB):
            out.write(rng.randbytes(MIB))
    job, source = job_for_image(folder / "job", image)
    check = Check("structure", Outcome.PASS, "structure-ok", {"parts": 3})
    at, finds = 0, []
    while at < size - 40 * MIB:
        large = rng.random() < 0.03
        length = rng.randrange(20 * MIB, 40 * MIB) if large else rng.randrange(MIB, 4 * MIB)
        kind, form, ending = (Kind.VIDEO, "mp4", "mp4") if large else (Kind.PHOTO, "jpeg", "jpg")
        finds.append(Find(form, kind, ending, Stretches(((at, length),)), Grade.WHOLE, 1.0,
                          ("signatures",), (check,), Facts(400, 300)))
        at += (length + 4095) // 4096 * 4096
    job.add_finds(source.id, finds)
    return job


def timed(act: Callable[[], None]) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--mib", type=int, default=345)
    parser.add_argument("--runs", type=int, default=5)
    options = parser.parse_args()
    ours: list[float] = []
    plain: list[float] = []
    synced: list[float] = []
    with tempfile.TemporaryDirectory(dir=".") as scratch, fill(
            Path(scratch), options.mib * MIB) as job:
        place, rows = Path(scratch), job.matching()

        def bag() -> None:
            *_, last = deliver(job, rows, place / "bag", words_for(job), threading.Event())
            assert isinstance(last, Delivered) and last.files == len(rows)

        def copy(sync: bool) -> None:
            subprocess.run(["cp", "-r", str(place / "bag" / "data"), str(place / "copy")],
                           check=True)
            if sync:
                subprocess.run(["sync", "-f", str(place / "copy")], check=True)
            files = [str(p) for p in sorted((place / "copy").rglob("*")) if p.is_file()]
            subprocess.run(["sha256sum", *files], check=True, stdout=subprocess.DEVNULL)

        for _ in range(options.runs):
            shutil.rmtree(place / "bag", ignore_errors=True)
            ours.append(timed(bag))
            for sync, times in ((False, plain), (True, synced)):
                shutil.rmtree(place / "copy", ignore_errors=True)
                times.append(timed(lambda sync=sync: copy(sync)))  # type: ignore[misc]
            subprocess.run(["sync"], check=True)
    took = statistics.median(ours)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(f"delivery of {len(rows)} files, {options.mib} MiB: {took:.2f} s, {peak} MiB")
    for name, times in (("cp and sha256sum", plain), ("cp, sync and sha256sum", synced)):
        limit = statistics.median(times)
        print(f"  against {name}: {limit:.2f} s, {limit / took:.2f} of their speed (target 0.8)")


if __name__ == "__main__":
    main()
