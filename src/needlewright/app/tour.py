"""The demo's tour without a display: search, join, choose, deliver, and a picture of each station.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path

TOUR_SECONDS = 180
STITCHING = "stitching"
MAX_PIECES = 8  # that are joined by hand
SIZE = (1280, 800)


def take_tour(folder: Path) -> int:
    """Do the whole tour into `folder` (job, delivery, pictures); returns the exit status."""
    if not os.environ.get("DISPLAY") and not os.environ.get("WAYLAND_DISPLAY"):
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from needlewright.demo.card import build

    print("The stream card is being drawn ...", file=sys.stderr, flush=True)
    image = build(told=_tell)
    return _Tour(folder, image).run()


def _tell(done: int, total: int) -> None:
    if done % 10 == 0:
        print(f"  {done} of {total} pictures", file=sys.stderr, flush=True)


class _Tour:
    """Drives the real window through a whole job, waiting on its signals."""

    def __init__(self, folder: Path, image: Path) -> None:
        from needlewright.app.main import make_window
        from needlewright.app.settings import Settings

        self.folder, self.image = folder, image
        self.pictures = folder / "pictures"
        self.pictures.mkdir(parents=True, exist_ok=True)
        self.window = make_window(Settings(folder / "settings.json"), devices=list)
        self.session = self.window.session
        self.problems: list[str] = []
        self.session.problem.connect(self.problems.append)

    def run(self) -> int:
        self.window.resize(*SIZE)
        self.window.show()
        try:
            self._tour()
        except TimeoutError as error:
            self.problems.append(str(error))
        finally:
            self.window.close()
        for problem in self.problems:
            print(f"needlewright: {problem}", file=sys.stderr)
        return 1 if self.problems else 0

    def _wait(self, ready: Callable[[], bool], what: str) -> None:
        """Run the event loop until `ready`, at the longest TOUR_SECONDS."""
        import time

        from PySide6.QtCore import QEventLoop
        from PySide6.QtWidgets import QApplication

        until = time.monotonic() + TOUR_SECONDS
        while not ready():
            if self.problems or time.monotonic() > until:
                raise TimeoutError(f"the demo did not get past: {what}")
            QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents, 50)

    def _shoot(self, name: str) -> None:
        from PySide6.QtWidgets import QApplication

        for _ in range(12):
            QApplication.processEvents()
        self.window.grab().save(str(self.pictures / f"{name}.png"))

    def _tour(self) -> None:
        from needlewright.app.demo_jobs import DEMO_TITLE
        from needlewright.app.tour_phone import tour_phone
        from needlewright.app.tour_shelves import tour_shelves
        from needlewright.app.window import DELIVERY, FINDS, INTAKE, SEARCH
        from needlewright.core.delivery.bag import Delivered
        from needlewright.core.jobfile.rows import Filter
        from needlewright.core.jobfile.store import Job
        from needlewright.core.search.plan import Plan
        from needlewright.core.search.registry import steps
        from needlewright.wording import cli as words
        from needlewright.wording.activity import delivered_line

        session, window = self.session, self.window
        session.open_image(self.image, self.folder / "job", DEMO_TITLE)
        self._wait(lambda: session.source is not None, "opening the card")
        window.show_station(INTAKE)
        self._shoot("1-intake")
        window.show_station(SEARCH)
        session.begin_search(Plan(tuple(name for name in steps() if name != STITCHING)))
        self._wait(lambda: len(session.just_found) >= 4 or not session.searching, "first finds")
        self._shoot("2-search")
        self._wait(lambda: not session.searching, "the search")
        self._join_by_hand()
        session.begin_search(Plan((STITCHING,)))
        self._wait(lambda: not session.searching, "the stitching")
        self._mend()
        with Job(self.folder / "job", read_only=True) as job:
            print("\n".join(words.counts(job.tally())))
            whole = job.matching(Filter(grades=frozenset({"whole"})))
            for row in job.matching():
                if row.found_by == (STITCHING,):
                    print(words.joined_line(job.record(row.id)))
        window.show_station(FINDS)
        self._wait(lambda: window.finds.sheet.sheet.ids.size >= len(whole), "the sheet")
        session.choice.set_tray([row.id for row in whole], True)
        session.choice.select(whole[3].id)
        self._settle()
        self._shoot("4-finds")
        window.show_station(DELIVERY)
        window.delivery.choose_folder(self.folder / "delivery")
        self._settle()
        window.delivery.begin()
        self._wait(lambda: session.delivered is not None and session.delivery is None,
                   "the delivery")
        self._shoot("5-delivery")
        done = session.delivered
        assert isinstance(done, Delivered)
        print(delivered_line(done))
        print(done.path)
        tour_phone(window, self.folder, self._wait, self._shoot)
        tour_shelves(window, self.folder, self._wait, self._shoot)

    def _join_by_hand(self) -> None:
        """One photo, piece after piece; the step is left the others."""
        from needlewright.app.window import MENDING
        from needlewright.core.jobfile.store import Job
        from needlewright.demo.in_pieces import BY_HAND

        with Job(self.folder / "job", read_only=True) as job:
            number = next(row.id for row in job.matching() if row.name == BY_HAND)
        window, bench = self.window, self.session.joining
        window.show_station(MENDING)
        self._wait(lambda: number in window.mending.list.waiting.ids, "what waits")
        window.mending.work_on(number)
        for index in range(MAX_PIECES):
            self._wait(lambda: bench.offers is not None and window.mending.pictured,
                       "the next piece")
            if index == 0:
                self._shoot("3-mending")
            if bench.standing is not None and bench.standing.ended:
                break
            window.mending.join()
        bench.keep()
        self._wait(lambda: bench.kept_id is not None, "the joined photo")

    def _mend(self) -> None:
        """What somebody rescued onto the card, and what does not open."""
        from needlewright.app.window import MENDING
        from needlewright.core.jobfile.store import Job
        from needlewright.core.jobs.mending import MendedFind
        from needlewright.demo.rescued import FOLDER, SHIFTED
        from needlewright.wording import mending as words

        with Job(self.folder / "job", read_only=True) as job:
            wanted = {row.id: row for row in job.matching()
                      if (row.path or "").startswith(FOLDER + "/") and row.grade != "whole"}
        done: list[MendedFind] = []
        mends, mending = self.session.mends, self.window.mending
        mends.came.connect(done.append)
        mends.begin(self.folder / "job", list(wanted))
        self._wait(lambda: mends.work is None, "the mending")
        for one in done:
            print(words.told_line(one.name, one.treated, one.kept))
        shifted = next(number for number, row in wanted.items() if row.name == SHIFTED)
        self.window.show_station(MENDING)
        self._wait(lambda: shifted in mending.list.waiting.ids, "what waits")
        mending.work_on(shifted)
        self._wait(lambda: mends.pair is not None and len(mends.pair.pictures) == 2,
                   "the pictures before and after")
        self._shoot("3b-mended")

    def _settle(self) -> None:
        """Wait until all that was asked of the job, and all thumbnails in view, have come."""
        self._wait(lambda: self.session.desk.idle, "the job's answers")
        sheet = self.window.finds.sheet
        wanted = [int(sheet.sheet.ids[i]) for i in sheet.sheet.visible(0, sheet.height())]
        self._wait(lambda: all(self.window.thumbnails.get(i) is not None for i in wanted),
                   "the thumbnails")
