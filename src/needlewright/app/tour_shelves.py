"""The demo's tour of what the field phone has elsewhere: its backups, its album, its synchronised
folder, from the first look to a bag with only what is missing.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from needlewright.app.session import Session
from needlewright.app.tour_phone import Wait, deliver_tray
from needlewright.app.widgets.secret_dialog import SecretDialog
from needlewright.app.window import FINDS, INTAKE, SEARCH, MainWindow
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.loss import Loss
from needlewright.core.search.plan import Plan
from needlewright.standins import survey_backups
from needlewright.standins.album.content import PASSWORD as ALBUM_PASSWORD
from needlewright.standins.album.faults import AlbumFaults
from needlewright.standins.album.start import NAME as ALBUM
from needlewright.standins.album.start import running as album_running
from needlewright.standins.sync.faults import PASSWORD as SYNC_PASSWORD
from needlewright.standins.sync.faults import SyncFaults
from needlewright.standins.sync.start import running as sync_running
from needlewright.wording import shelves as words

REDUCED = ["FP_0303.jpg"]  # of which the album has a small copy alone


def asked(window: MainWindow) -> SecretDialog | None:
    """The question that is open."""
    return next((dialog for dialog in window.findChildren(SecretDialog) if dialog.isVisible()),
                None)


def answer(window: MainWindow, wait: Wait, *secrets: str | Callable[[], str]) -> None:
    """Answer the questions that come, one after another."""
    before: SecretDialog | None = None
    for secret in secrets:
        wait(lambda b=before: asked(window) not in (None, b),  # type: ignore[misc]
             "a question for a secret")
        dialog = asked(window)
        assert dialog is not None
        dialog.text.setText(secret if isinstance(secret, str) else secret())
        dialog.open_it.click()
        before = dialog


def tour_shelves(window: MainWindow, folder: Path, wait: Wait,
                 shoot: Callable[[str], None]) -> None:
    """Take them into the job that is open, and deliver what only they have."""
    os.environ["NEEDLEWRIGHT_ALBUMS"] = str(folder / "albums")
    session = window.session
    _backups(window, wait, shoot)
    with album_running(AlbumFaults(reduced=REDUCED)) as album, sync_running(
            SyncFaults()) as sync:
        session.shelves.albums.look()
        window.intake.take_in(f"album:{ALBUM}")
        answer(window, wait, ALBUM_PASSWORD, album.code)
        _bring(session, wait, "album")
        window.intake.take_in(sync.address)
        answer(window, wait, SYNC_PASSWORD)
        _bring(session, wait, "sync")
    window.show_station(FINDS)
    window.finds.missing.click()
    wait(lambda: not session.shelves.comparisons.busy, "comparing")
    assert session.board.folder is not None
    with Job(session.board.folder, read_only=True) as job:
        missing = job.matching(Filter(missing_only=True))
        chosen = job.matching(Filter(tray_only=True))
        names = {row.id: row.name for row in job.sources()}
        versions = [row for row in job.matching() if names[row.source] == ALBUM
                    and row.name in REDUCED]
    print(words.missing_line(missing, names))
    session.choice.set_tray([row.id for row in chosen], False)
    session.choice.set_tray([row.id for row in missing if row.grade == "whole"], True)
    session.choice.select(versions[0].id)
    wait(lambda: session.desk.idle, "what is missing")
    shoot("9-only-missing")
    window.finds.missing.click()
    deliver_tray(window, folder / "only missing", wait, "the delivery of what was missing")


def _backups(window: MainWindow, wait: Wait, shoot: Callable[[str], None]) -> None:
    session = window.session
    window.show_station(INTAKE)
    session.shelves.find_backups(survey_backups.build())
    wait(lambda: not session.shelves.backups.busy, "the backups")
    session.shelves.backups.judge_by(Loss(survey_backups.LOSS_DAY))
    session.shelves.keep_loss(Loss(survey_backups.LOSS_DAY))
    for number, (found, use) in enumerate(session.shelves.backups.ranked, 1):
        print("\n".join(words.lines(number, found, use, session.shelves.backups.loss)[:1]))
    shoot("8-backups")
    sealed = next(found for found, _ in session.shelves.backups.ranked
                  if found.path.name == survey_backups.NAMES[1])
    damaged = next(found for found, _ in session.shelves.backups.ranked
                   if found.path.name == survey_backups.NAMES[4])
    window.intake.take_in(sealed.spec)
    answer(window, wait, "a wrong one", survey_backups.PASSWORD)
    _bring(session, wait, "backup")
    number = session.source.id if session.source else 0
    window.intake.take_in(damaged.spec)
    wait(lambda: session.source is not None and session.source.id != number, "the damaged backup")
    _bring(session, wait, "backup")
    session.shelves.backups.leave()
    window.show_station(SEARCH)


def _bring(session: Session, wait: Wait, kind: str) -> None:
    wait(lambda: session.source is not None and session.source.kind == kind
         and not session.listings.busy, f"what the {kind} holds")
    session.begin_search(Plan(("kept-copies",)))
    wait(lambda: not session.searching, f"the files of the {kind}")
