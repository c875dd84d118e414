"""The demo's tour of the field phone: from locked to delivered."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from needlewright.app.window import DELIVERY, FINDS, INTAKE, SEARCH, MainWindow
from needlewright.core.delivery.bag import Delivered
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.search.plan import Plan
from needlewright.standins.phone.service import NAME, running
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import phones as words
from needlewright.wording.activity import delivered_line

Wait = Callable[[Callable[[], bool], str], None]
UNTELLING = "FP_0307.jpg"  # of which it tells nothing


def tour_phone(window: MainWindow, folder: Path, wait: Wait, shoot: Callable[[str], None]) -> None:
    """Take the phone into the job that is open, and deliver what it holds into `folder`."""
    os.environ["NEEDLEWRIGHT_PHONES"] = str(folder / "phones")
    session, spec = window.session, f"phone:{NAME}"
    with running(PhoneFaults(unlisted=[UNTELLING])) as phone:
        window.show_station(INTAKE)
        session.phones.watch(spec)
        for wish, state in (("", "untrusted"), ("trust", "closed"), ("unlock", ""),
                            ("allow", "ready")):
            if wish:
                phone.wish(wish)
            if state:
                wait(lambda s=state: _state(window) == s,  # type: ignore[misc]
                     f"the phone, {state}")
                print(words.state_line(spec, state))
            if state == "untrusted":
                shoot("6-phone")
        window.intake.phone_card.take.click()
        wait(lambda: session.source is not None and session.source.kind == "phone",
             "what the phone holds")
        window.show_station(SEARCH)
        session.begin_search(Plan(("kept-copies",)))
        wait(lambda: not session.searching, "the phone's files")
        assert session.source is not None and session.board.folder is not None
        number = session.source.id
        with Job(session.board.folder, read_only=True) as job:
            rows = [row for row in job.matching() if row.source == number]
            chosen = job.matching(Filter(tray_only=True))
    print(words.brought_line(rows))
    window.show_station(FINDS)
    kept = [row for row in rows if row.kept == "phone-trash"]
    session.choice.set_tray([row.id for row in chosen], False)  # it was delivered
    session.choice.set_tray([row.id for row in rows if row.grade == "whole"], True)
    session.choice.select(kept[0].id)
    wait(lambda: session.desk.idle, "the phone's finds")
    shoot("7-phone-finds")
    deliver_tray(window, folder / "phone delivery", wait, "the phone's delivery")


def deliver_tray(window: MainWindow, folder: Path, wait: Wait, what: str) -> None:
    """Deliver the tray into `folder`, and print what became of it; `what`: said where it does not
    get past that."""
    session = window.session
    session.delivered = None
    window.show_station(DELIVERY)
    window.delivery.choose_folder(folder)
    wait(lambda: session.desk.idle, "the tray")
    window.delivery.begin()
    wait(lambda: session.delivered is not None and session.delivery is None, what)
    if isinstance(session.delivered, Delivered):
        print(delivered_line(session.delivered))
        print(session.delivered.path)


def _state(window: MainWindow) -> str:
    ready = window.session.phones.ready
    return "" if ready is None else str(ready.state)

