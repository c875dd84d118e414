"""`python -m benchmarks.window`: the Finds station with 100,000 finds; seconds and milliseconds."""

from __future__ import annotations

import os
import random
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from needlewright.app.main import application, make_window
from needlewright.app.settings import Settings
from needlewright.app.window import FINDS
from needlewright.core.checks.grading import Grade
from needlewright.core.formats.base import Check, Facts, Kind, Outcome
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.search.events import Find

COUNT, BATCH = 100_000, 1000
FRAMES = 100


def fill(folder: Path) -> Path:
    """A job with COUNT made-up finds on a sparse image."""
    image = folder / "large.img"
    with image.open("wb") as out:
        out.truncate(200 << 30)
    job, source = job_for_image(folder / "job", image)
    rng = random.Random(1)
    check = Check("structure", Outcome.PASS, "structure-ok", {"parts": 3})
    for first in range(0, COUNT, BATCH):
        job.add_finds(source.id, [
            Find("jpeg", Kind.PHOTO, "jpg", ((2_000_896 * i, 1_000_000),), Grade.WHOLE, 1.0,
                 ("signatures",), (check,), Facts(rng.choice((300, 400, 600)), 300))
            for i in range(first, first + BATCH)])
    job.close()
    return folder / "job"


def main() -> None:
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        job = fill(folder)
        app = application()
        window = make_window(Settings(folder / "settings.json"))
        window.resize(1280, 800)
        window.show()
        began, slowest = time.perf_counter(), 0.0
        window.session.open_job(job)
        window.show_station(FINDS)
        sheet = window.finds.sheet
        while sheet.sheet.ids.size < COUNT:
            step = time.perf_counter()
            app.processEvents()
            slowest = max(slowest, time.perf_counter() - step)
            time.sleep(0.001)
        print(f"{COUNT:,} finds: sheet after {time.perf_counter() - began:.2f} s, "
              f"slowest event {slowest * 1000:.0f} ms")
        bar, slowest = sheet.verticalScrollBar(), 0.0
        for frame in range(FRAMES):
            step = time.perf_counter()
            bar.setValue(bar.maximum() * frame // FRAMES)
            sheet.viewport().repaint()
            slowest = max(slowest, time.perf_counter() - step)
        print(f"scrolling through all in {FRAMES} frames: slowest {slowest * 1000:.0f} ms")
        window.close()


if __name__ == "__main__":
    main()
