"""Takes the pictures in docs/screenshots from the demo data: every station, light and dark.

`python tools/screenshots.py FOLDER` runs the tour there and adds the states that it does not pass.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, QItemSelectionModel
from PySide6.QtWidgets import QApplication, QPushButton

from needlewright.app.demo_jobs import DEMO_TITLE
from needlewright.app.main import make_window
from needlewright.app.settings import Settings
from needlewright.app.widgets.inside_dialog import InsideDialog
from needlewright.app.widgets.put_back_card import PutBackCard
from needlewright.app.window import DELIVERY, FINDS, INTAKE, MENDING, SEARCH, MainWindow
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.loss import Loss
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.demo.card import build
from needlewright.standins import survey_backups
from needlewright.standins.phone.service import NAME, running
from needlewright.standins.phone.state import PhoneFaults

LIMIT_SECONDS = 120
ROWS = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows


def wait(ready: Callable[[], bool]) -> None:
    until = time.monotonic() + LIMIT_SECONDS
    while not ready():
        if time.monotonic() > until:
            raise TimeoutError("a state for a picture never came")
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents, 50)


def shoot(window: MainWindow, folder: Path, name: str) -> None:
    wait(lambda: window.session.desk.idle)
    for _ in range(20):
        QApplication.processEvents()
    window.grab().save(str(folder / f"{name}.png"))


def settle(window: MainWindow) -> None:
    """Wait for the thumbnails in view."""
    sheet = window.finds.sheet
    top = sheet.verticalScrollBar().value()
    wanted = [int(sheet.sheet.ids[i]) for i in sheet.sheet.visible(top, top + sheet.height())]
    wait(lambda: all(window.thumbnails.get(i) is not None for i in wanted))


def _joining(window: MainWindow, folder: Path, place: Path) -> None:
    """The bench: a photo's seam in light, a clip's thread in dark."""
    with Job(place, read_only=True) as job:
        numbers = {row.name: row.id for row in job.matching()}
    window.show_station(MENDING)
    bench = window.session.joining
    wait(lambda: window.mending.pictured)
    window.mending.work_on(numbers["BF_0251.JPG"])
    wait(lambda: bench.standing is not None and window.mending.pictured)
    shoot(window, folder, "mending-light")
    window.toggle_dark()
    window.mending.work_on(numbers["BF_0260.MP4"])
    wait(lambda: bench.standing is not None and window.mending.pictured)
    window.mending.join()
    wait(lambda: bench.standing is not None and len(bench.standing.pieces) > 1
         and window.mending.pictured)
    shoot(window, folder, "mending-dark")
    bench.undo()
    wait(lambda: not bench.busy and window.mending.pictured)
    window.toggle_dark()


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    image = build()
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        os.environ["XDG_DATA_HOME"] = scratch
        window = make_window(Settings(place / "settings.json"), devices=list)
        window.resize(1280, 800)
        window.show()
        shoot(window, folder, "intake-empty")
        session = window.session
        session.open_image(image, place / "otter survey", DEMO_TITLE)
        wait(lambda: window.tape.volumes_lane is not None and session.desk.idle)
        shoot(window, folder, "intake-light")
        window.show_station(FINDS)
        shoot(window, folder, "finds-empty")
        window.show_station(SEARCH)
        session.begin_search(Plan(tuple(name for name in steps() if name != "stitching")))
        wait(lambda: len(session.just_found) >= 5 or not session.searching)
        wait(lambda: all(window.thumbnails.get(i) is not None for i in session.just_found)
             or not session.searching)
        shoot(window, folder, "search-busy")
        wait(lambda: not session.searching)
        _joining(window, folder, place / "otter survey")
        window.show_station(SEARCH)
        session.begin_search(Plan(("stitching",)))
        wait(lambda: not session.searching)
        window.show_station(FINDS)
        with Job(place / "otter survey", read_only=True) as job:
            count = len(job.find_ids())
            whole = job.matching(Filter(grades=frozenset({"whole"})))
            partial = job.matching(Filter(grades=frozenset({"partial"})))
        wait(lambda: window.finds.sheet.sheet.ids.size == count)
        session.choice.set_tray([row.id for row in whole[:37]], True)
        session.choice.set_tray([partial[0].id], True)
        session.choice.select(whole[5].id)
        settle(window)
        shoot(window, folder, "finds-light")
        window.finds.open_full(partial[0].id)
        wait(lambda: window.finds.full.sharp)
        shoot(window, folder, "full-view")
        window.finds.close_full()
        _clip(window, folder)
        window.show_station(DELIVERY)
        window.delivery.choose_folder(place / "for the client")
        shoot(window, folder, "delivery-light")
        window.toggle_dark()
        for number, name in ((INTAKE, "intake"), (SEARCH, "search"), (FINDS, "finds"),
                             (DELIVERY, "delivery")):
            window.show_station(number)
            shoot(window, folder, f"{name}-dark")
        window.toggle_dark()
        window.show_station(DELIVERY)
        wait(lambda: session.desk.idle)
        window.delivery.begin()
        wait(lambda: session.delivered is not None and session.delivery is None)
        _backups(window, folder)
        _phone(window, folder, place)
        _copying(window, folder)
        window.close()


def _clip(window: MainWindow, folder: Path) -> None:
    """A clip that was overwritten in its middle, in the dossier and large, at its damage."""
    session = window.session
    assert session.board.folder is not None
    with Job(session.board.folder, read_only=True) as job:
        clips = job.matching(Filter(kinds=frozenset({"video"})))
    broken = next(row for row in clips if row.grade == "partial")
    session.choice.select(broken.id)
    settle(window)
    full = window.finds.full
    window.finds.open_full(broken.id)
    wait(lambda: full.sharp)
    full.sharp = False
    full._want(full.damaged[0][0] + 0.5 if full.damaged else 3.0)
    wait(lambda: full.sharp)
    shoot(window, folder, "clip-view")
    window.finds.close_full()


def _phone(window: MainWindow, folder: Path, place: Path) -> None:
    """The field phone, which knows the computer and is locked still; the tray put back onto it."""
    os.environ["NEEDLEWRIGHT_PHONES"] = str(place / "phones")
    with running(PhoneFaults()) as phone:
        phone.wish("trust")
        window.session.phones.look()
        window.show_station(INTAKE)
        window.session.phones.watch(f"phone:{NAME}")
        ready = window.session.phones
        wait(lambda: ready.ready is not None and str(ready.ready.state) == "closed")
        shoot(window, folder, "phone-light")
        window.session.phones.leave()
        window.show_station(DELIVERY)
        put_back = window.delivery.findChild(PutBackCard)
        button = window.delivery.findChild(QPushButton, f"putBack-{NAME}")
        assert put_back is not None and button is not None
        button.click()
        wait(lambda: put_back.yes.isVisible())
        shoot(window, folder, "delivery-phone")
        phone.wish("unlock", "allow")
        listings = window.session.listings
        dialog = InsideDialog(listings, f"phone:{NAME}", window)
        dialog.show()
        wait(lambda: len([p for p in dialog.model._pictures.values() if p]) >= 5)
        for row in range(3):
            dialog.table.selectionModel().select(dialog.model.index(row, 1), ROWS)
        for _ in range(20):
            QApplication.processEvents()
        dialog.grab().save(str(folder / "phone-inside.png"))
        dialog.reject()
        wait(lambda: not listings.busy)


def _backups(window: MainWindow, folder: Path) -> None:
    """The survey's backups, ranked by the day of its loss."""
    shelves = window.session.shelves
    window.show_station(INTAKE)
    shelves.find_backups(survey_backups.build())
    wait(lambda: not shelves.backups.busy)
    shelves.backups.judge_by(Loss(survey_backups.LOSS_DAY))
    shoot(window, folder, "backups")
    shelves.backups.leave()


def _copying(window: MainWindow, folder: Path) -> None:
    """The drowned card: closing in on what does not read, and the finished copy."""
    copies = window.session.copies
    window.show_station(INTAKE)
    window.session.demo.open_drowned()
    wait(lambda: copies.work is not None)
    wait(lambda: copies.work is None or (
        copies.told is not None and bool(copies.troubles)
        and copies.told.troubled >= copies.told.pending > 0))
    shoot(window, folder, "copy-busy")
    wait(lambda: copies.work is None)
    wait(lambda: window.tape.read_lane is not None)
    shoot(window, folder, "copy-done")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
