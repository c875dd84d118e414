"""`python -m benchmarks.window`: the Finds station with 100,000 and 200,000 finds, the former while
a search runs; seconds and milliseconds."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, Qt, QTimer
from PySide6.QtTest import QSignalSpy, QTest

from benchmarks import corpus
from needlewright.app.main import application, make_window, warm_kernels
from needlewright.app.settings import Settings
from needlewright.app.viewmodels.read_lane import lane_of
from needlewright.app.widgets.tape import Tape
from needlewright.app.window import FINDS, SEARCH, MainWindow
from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs import runner
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.search.plan import Plan
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.walks import Check, Facts, Kind, Outcome
from needlewright.demo.card import build

COUNT, FEWER, BATCH = 200_000, 100_000, 1000
FRAMES = 100
PRESSED_AMONG, PRESSES = 2000, 60
TIMES = 5


def fill(folder: Path, count: int = COUNT) -> Path:
    """A job with `count` made-up finds on an image that begins like the demo card."""
    image = folder / "large.img"
    shutil.copyfile(build(), image)
    with image.open("r+b") as out:
        out.truncate(2_000_896 * count + (1 << 30))
    job, source = job_for_image(folder / "job", image)
    rng = random.Random(1)
    check = Check("structure", Outcome.PASS, "structure-ok", {"parts": 3})
    for first in range(0, count, BATCH):
        job.add_finds(source.id, [
            Find("jpeg", Kind.PHOTO, "jpg", Stretches((((1 << 30) + 2_000_896 * i, 1_000_000),)),
                 Grade.WHOLE, 1.0, ("signatures",), (check,),
                 Facts(rng.choice((300, 400, 600)), 300))
            for i in range(first, first + BATCH)])
    job.close()
    return folder / "job"


START = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from needlewright.app.main import application, make_window, warm_kernels
from needlewright.app.settings import Settings
app = application()
window = make_window(Settings(Path(sys.argv[1]) / "settings.json"))
window.show()
window.session.job_changed.connect(lambda: QTimer.singleShot(0, app.quit))
QTimer.singleShot(0, window.session.demo.open_card)
app.exec()
window.close()
"""


def until_the_demo_is_open() -> None:
    """From the start of the process until the window shows the demo job, and its end."""
    build()
    with tempfile.TemporaryDirectory() as scratch:
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", START, scratch], check=True,
                       env={**os.environ, "XDG_DATA_HOME": scratch})
        print(f"the demo job is open after {time.perf_counter() - began:.2f} s "
              "(card already drawn)")


def shown_in(folder: Path) -> MainWindow:
    """A window of the usual size, with settings of its own in `folder`."""
    window = make_window(Settings(folder / "settings.json"))
    window.resize(1280, 800)
    window.show()
    return window


def _until(ready: Callable[[], bool]) -> None:
    while not ready():
        application().processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents, 20)


def answers_while_searching() -> None:
    """How long the window's event loop is away while the demo card is searched."""
    warm_kernels()  # as the program does behind its window
    with tempfile.TemporaryDirectory() as scratch:
        app = application()
        window = shown_in(Path(scratch))
        window.session.open_image(build(), Path(scratch) / "job")
        _until(lambda: window.session.source is not None)
        window.show_station(FINDS)
        app.processEvents()
        figures = away_while(lambda: window.session.begin_search(Plan()),
                             lambda: window.session.searching)
        window.close()
        print("while searching, the window answers within {:.0f} ms (median), {:.0f} ms (99 %), "
              "{:.0f} ms (always)".format(*figures))


def away_while(begin: Callable[[], object], going: Callable[[], bool]) -> list[float]:
    """For how long the event loop is away while what `begin` starts is `going`: the median, 99 %
    and the longest, milliseconds."""
    away: list[float] = []
    last = [time.perf_counter()]

    def tick() -> None:
        away.append(time.perf_counter() - last[0])
        last[0] = time.perf_counter()

    timer = QTimer()
    timer.setTimerType(Qt.TimerType.PreciseTimer)
    timer.timeout.connect(tick)
    timer.start(2)
    begin()
    last[0] = time.perf_counter()
    while going():
        application().processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents, 50)
    away.sort()
    return [away[round((len(away) - 1) * q)] * 1000 for q in (0.5, 0.99, 1.0)]


def first_picture() -> None:
    """From the press of Begin until a picture is on the screen, on a card with and on one without
    records of files; the window has been open for a while."""
    warm_kernels()
    for name, image, target in (("with", build(), 1), ("without", corpus.build()[0], 2)):
        times = []
        for _ in range(TIMES):
            with tempfile.TemporaryDirectory() as scratch:
                window = shown_in(Path(scratch))
                session = window.session
                session.open_image(image, Path(scratch) / "job")
                _until(lambda: session.source is not None)  # noqa: B023
                window.show_station(SEARCH)
                application().processEvents()
                came = QSignalSpy(window.thumbnails.ready)
                began = time.perf_counter()
                session.begin_search(Plan())
                _until(lambda: came.count() > 0)  # noqa: B023
                window.repaint()
                times.append(time.perf_counter() - began)
                window.close()
        print(f"first picture after Begin on a card {name} records: "
              f"{sorted(times)[TIMES // 2]:.2f} s median, {max(times):.2f} s slowest "
              f"(target {target})")


def read_lane() -> None:
    """Drawing the tape of a drive of 2 TB whose map has 100,000 unreadable ranges."""
    size = 2 * 10**12
    states = ReadMap(size)
    states.set(0, size, State.READ)
    for index in range(100_000):
        at = size // 100_000 * index // 512 * 512
        states.set(at, at + 4096, State.UNREADABLE)
    app = application()
    tape = Tape("", "Finds", "", {"read": "Read"})
    tape.resize(1280, 82)
    tape.show_source("drive", size)
    tape.show_read(lane_of(states, []))
    tape.show()
    app.processEvents()
    slowest = 0.0
    for zoom in range(30):
        tape.view = (size // 3, size // 3 + size // 2 ** (zoom + 1))
        step = time.perf_counter()
        tape.repaint()
        slowest = max(slowest, time.perf_counter() - step)
    tape.close()
    print(f"tape of a 2 TB drive with {len(states):,} ranges: slowest of 30 views "
          f"{slowest * 1000:.0f} ms (target 16)")


def scrolls_while_searching() -> None:
    """FEWER finds: the first screen, then frame after frame while the card is searched."""
    warm_kernels()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        job = fill(folder, FEWER)
        app = application()
        window = shown_in(folder)
        app.processEvents()
        window.session.open_job(job)
        _until(lambda: window.session.source is not None)
        window.session.begin_search(Plan())
        began = time.perf_counter()
        window.show_station(FINDS)
        sheet = window.finds.sheet
        while sheet.sheet.ids.size < FEWER:
            app.processEvents()
            time.sleep(0.001)
        sheet.viewport().repaint()
        print(f"{FEWER:,} finds while searching: first screen after "
              f"{time.perf_counter() - began:.2f} s (target 1)")
        bar, frames = sheet.verticalScrollBar(), []
        while window.session.searching and len(frames) < 20 * FRAMES:
            step = time.perf_counter()
            bar.setValue(bar.maximum() * (len(frames) * 37 % FRAMES) // FRAMES)
            app.processEvents()
            sheet.viewport().repaint()
            frames.append(time.perf_counter() - step)
        frames.sort()
        print(f"scrolling while searching, {len(frames)} frames: "
              f"{frames[len(frames) // 2] * 1000:.0f} ms median, "
              f"{frames[round(len(frames) * 0.99) - 1] * 1000:.0f} ms 99 %, "
              f"{frames[-1] * 1000:.0f} ms slowest (target 50)")
        window.close()


def tray_while_writing() -> None:
    """T pressed while batches of finds are written without a pause: until it is shown, and until
    it is written."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        job = fill(folder, PRESSED_AMONG)
        app = application()
        window = shown_in(folder)
        window.session.open_job(job)
        _until(lambda: window.session.source is not None)
        window.show_station(FINDS)
        sheet, choice, desk = window.finds.sheet, window.session.choice, window.session.desk
        _until(lambda: sheet.sheet.ids.size == PRESSED_AMONG and desk.idle)
        stop = threading.Event()
        writer = threading.Thread(target=_write_on, args=(job, stop))
        writer.start()
        shown, written = [], []
        for press in range(PRESSES):
            choice.select(int(sheet.sheet.ids[press]))
            _until(lambda: desk.idle)
            told = QSignalSpy(choice.tray_changed)
            step = time.perf_counter()
            QTest.keyClick(sheet, Qt.Key.Key_T)
            sheet.viewport().repaint()
            shown.append(time.perf_counter() - step)
            _until(lambda told=told: told.count() > 0)  # type: ignore[misc]
            written.append(time.perf_counter() - step)
        stop.set()
        writer.join()
        window.close()
        app.processEvents()
    for name, times in (("shown", sorted(shown)), ("written", sorted(written))):
        print(f"T while batches are written, {PRESSES} times: {name} after "
              f"{times[len(times) // 2] * 1000:.0f} ms median, {times[-1] * 1000:.0f} ms slowest")


def _write_on(folder: Path, stop: threading.Event) -> None:
    """Write batches as large as a search's, one after another."""
    check = Check("structure", Outcome.PASS, "structure-ok", {"parts": 3})
    with Job(folder) as job:
        source, first = job.sources()[0].id, 0
        while not stop.is_set():
            job.add_finds(source, [
                Find("png", Kind.PHOTO, "png", Stretches(((512 * (first + i), 512),)), Grade.WHOLE,
                     1.0, ("signatures",), (check,), Facts(300, 300), thumbnail=bytes(9000))
                for i in range(runner.BATCH)])
            first += runner.BATCH


def main() -> None:
    first_picture()
    tray_while_writing()
    read_lane()
    until_the_demo_is_open()
    answers_while_searching()
    scrolls_while_searching()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        job = fill(folder)
        app = application()
        window = shown_in(folder)
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
