"""Backups, an album and what opens them, in the window: from the first look to what is missing."""

from __future__ import annotations

import json
import os
import threading
import time
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QInputDialog, QLabel, QLineEdit, QPushButton

from needlewright.app.standin_service import ServiceWindow
from needlewright.app.tour_shelves import asked
from needlewright.app.widgets.versions import Versions
from needlewright.app.window import FINDS, INTAKE, SEARCH
from needlewright.core import kept_open, secrets
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.loss import loss_of
from needlewright.core.shelves import wire
from needlewright.core.shelves.albums import client
from needlewright.standins.album.content import PASSWORD, USER
from needlewright.standins.album.faults import AlbumFaults
from needlewright.standins.album.start import SurveyAlbum
from needlewright.standins.backups import Backed, write_backup
from needlewright.standins.sync.start import SurveyFolder
from needlewright.wording import rows as row_words
from needlewright.wording import shelves as words
from tests.app.test_window import LEFT, WindowCase
from tests.shelves.support import photo, sha256, write_tree
from tests.shelves.test_comparing import shot, smaller
from tests.shelves.test_rows_inside import database

BEFORE, AFTER = datetime(2031, 5, 19, tzinfo=UTC), datetime(2031, 6, 19, tzinfo=UTC)


class ShelvesWindowTest(WindowCase):
    def setUp(self):
        super().setUp()
        for name in ("NEEDLEWRIGHT_ALBUMS", "NEEDLEWRIGHT_PHONES"):
            patch = mock.patch.dict(os.environ, {name: str(self.folder / name)})
            patch.start()
            self.addCleanup(patch.stop)
        for clean in (kept_open.let_all_go, secrets._known.clear, client._SESSIONS.clear):
            self.addCleanup(clean)
        self.pictures = {f"DCIM/FP_{n}.jpg": shot(n, f"2031:05:1{n} 05:00:00") for n in range(3)}

    def backups(self) -> Path:
        place = self.folder / "places"
        held = [Backed(path, data, BEFORE) for path, data in self.pictures.items()]
        write_backup(place / "first", "Reedbank F2", BEFORE, held)
        write_backup(place / "sealed", "Reedbank F2", BEFORE, held, "reed")
        write_backup(place / "later", "Reedbank F2", AFTER, held[:1])
        damaged = place / "damaged"
        write_backup(damaged, "Reedbank F2", BEFORE, held)
        victim = sha256(self.pictures["DCIM/FP_2.jpg"])
        (damaged / "content" / victim[:2] / victim).unlink()
        return place

    def answered(self, text: str) -> None:
        self.wait(lambda: asked(self.window) is not None, "the question")
        dialog = asked(self.window)
        QTest.keyClicks(dialog.text, text)
        QTest.keyClick(dialog.text, Qt.Key.Key_Return)
        self.wait(lambda: asked(self.window) is not dialog, "that it was taken")
        self.window.activateWindow()  # as a desktop does by itself

    def test_messages_are_read_and_what_they_name_is_chosen(self):
        base = self.folder / "messages"
        database(base, "CREATE TABLE messages (id INTEGER PRIMARY KEY, sender TEXT, sent TEXT, "
                 "text TEXT, file TEXT)", *(
                     f"INSERT INTO messages VALUES ({n}, 'Hollow Bank', '2031-05-{n:02}', "
                     f"'Otter {n}', 'DCIM/FP_{n % 2}.jpg')" for n in range(1, 28)),
                 "DELETE FROM messages WHERE id = 14")
        held = [Backed(path, data, BEFORE) for path, data in self.pictures.items()]
        later = [Backed("DCIM/later.jpg", photo(9), AFTER)]
        write_backup(self.folder / "one", "Reedbank F2", AFTER, [
            *held, *later, Backed("Documents/messages.db", base.read_bytes(), BEFORE)])
        self.session.open_phone(f"backup:{self.folder / 'one'}")
        self.taken_in("backup")
        told = [made.text() for made in self.window.intake.findChildren(QLabel)]
        for part in ("a phone backup", "Reedbank F2", "19 June 2031"):
            self.assertIn(part, told)
        dialog = self.looked_inside()
        self.wait(lambda: dialog.gauge.isHidden() and len(dialog.model.shown) == 5, "the list")
        self.assertFalse(dialog.read.isEnabled())
        days = dialog.findChild(QLineEdit, "insideDays")
        QTest.keyClicks(days, "2031-06-32")
        self.wait(lambda: "no range of days" in dialog.count.text(), "that it is none")
        days.clear()
        QTest.keyClicks(days, "2031-06-01:")
        self.wait(lambda: len(dialog.model.shown) == 1, "what is of those days")
        QTest.mouseClick(dialog.findChild(QPushButton, "insideKind-message"), LEFT)
        self.assertEqual(dialog.model.shown, [])
        days.clear()
        self.wait(lambda: len(dialog.model.shown) == 1, "the messages")
        dialog.table.selectRow(0)
        QTest.mouseClick(dialog.read, LEFT)
        rows = dialog.rows_view
        self.wait(lambda: rows.table.rows.rowCount() == 27, "the rows")
        self.assertEqual(rows.told.text(), "26 live, 0 older, 1 removed.")
        self.assertIn("1 file of messages", dialog.count.text())
        self.assertIn("Otter 14", row_words.cells(rows.table.rows.shown[0])[3])
        QTest.mouseClick(rows.choose, LEFT)
        self.assertEqual({one.name for one in dialog._chosen()},
                         {"messages.db", "FP_0.jpg", "FP_1.jpg"})
        QTest.mouseClick(dialog.bring, LEFT)
        self.wait(lambda: self.session.searching, "the search")
        self.wait(lambda: not self.session.searching, "its end")
        with Job(self.session.board.folder, read_only=True) as job:
            self.assertEqual({(r.name, r.kind) for r in job.matching()}, {
                ("messages.db", "message"), ("FP_0.jpg", "photo"), ("FP_1.jpg", "photo")})

    def looked_inside(self):
        look = self.window.search.cards["kept-copies"].look
        self.wait(lambda: look.isVisible() and look.isEnabled(), "the button")
        QTest.mouseClick(look, LEFT)
        return self.window.search.inside

    def brought(self, kind: str) -> None:
        self.taken_in(kind)
        QTest.mouseClick(self.window.search.cards["kept-copies"].begin, LEFT)
        self.wait(lambda: self.session.searching, "the search")
        self.wait(lambda: not self.session.searching, "its end")

    def taken_in(self, kind: str) -> None:
        self.wait(lambda: self.session.source is not None and self.session.source.kind == kind
                  and not self.session.listings.busy, f"the {kind}")
        self.station(SEARCH)
        self.idle()

    def test_ranked_by_the_day_of_the_loss_and_taken_in(self):
        place = self.backups()
        self.station(INTAKE)
        card = self.window.intake.backups_card
        self.assertFalse(card.isVisible())
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(place)):
            QTest.mouseClick(self.window.intake.findChild(QPushButton, "findBackups"), LEFT)
        self.wait(lambda: not self.session.shelves.backups.busy, "the list")
        QTest.keyClicks(card.day, "2031-05-99")
        QTest.keyClick(card.day, Qt.Key.Key_Return)
        self.assertTrue(card.day_wrong.isVisible())
        card.day.clear()
        QTest.keyClicks(card.day, "2031-06-01")
        QTest.keyClick(card.day, Qt.Key.Key_Return)
        self.assertFalse(card.day_wrong.isVisible())
        order = [found.path.name for found, _ in self.session.shelves.backups.ranked]
        self.assertEqual((order[0], order[-1]), ("first", "later"))
        said = [text.text() for text in card.findChildren(QLabel)]
        self.assertTrue(any("From before the loss" in text for text in said))
        self.assertIn("The content of one file is missing.", said)
        self.assertIn(words.LOCKED, said)
        self.assertIn(words.BACKUPS_NEVER, said)
        take = card.findChild(QPushButton, f"takeBackup{order.index('damaged')}")
        QTest.mouseClick(take, LEFT)
        self.brought("backup")
        with Job(self.session.board.folder, read_only=True) as job:
            grades = {row.name: row.grade for row in job.matching()}
        self.assertEqual(grades, {"FP_0.jpg": "whole", "FP_1.jpg": "whole", "FP_2.jpg": "gone"})
        self.station(INTAKE)
        self.wait(lambda: not card.findChild(
            QPushButton, f"takeBackup{order.index('damaged')}").isEnabled(), "that it is taken in")
        card.day.setText("2031-05-30")
        card.day.editingFinished.emit()
        self.idle()
        with Job(self.session.board.folder, read_only=True) as job:
            self.assertEqual(loss_of(job).day, "2031-05-30")
        QTest.mouseClick(card.leave, LEFT)
        self.assertFalse(card.isVisible())

    def test_a_sealed_one_asks_and_nothing_is_half_open(self):
        spec = f"backup:{self.backups() / 'sealed'}"
        self.window.intake.take_in(spec)
        self.answered("weir")
        self.wait(lambda: asked(self.window) is not None, "the question again")
        dialog = asked(self.window)
        self.assertTrue(dialog.wrong.isVisible())
        self.assertEqual(dialog.text.echoMode(), dialog.text.EchoMode.Password)
        QTest.mouseClick(dialog.findChild(QPushButton, "secretNotNow"), LEFT)
        self.wait(lambda: not self.session.listings.busy, "that it was given up")
        self.assertIsNone(self.session.source)
        self.assertIn("does not open", self.window.notice_text.text())
        self.window.intake.take_in(spec)
        self.answered("reed")
        self.brought("backup")
        self.assertIsNone(asked(self.window))
        with Job(self.session.board.folder, read_only=True) as job:
            self.assertEqual({row.grade for row in job.matching()}, {"whole"})

    def test_another_job_while_it_asks(self):
        """Whoever waits for an answer gets none, and no thread stays behind."""
        self.window.intake.take_in(f"backup:{self.backups() / 'sealed'}")
        self.wait(lambda: asked(self.window) is not None, "the question")
        self.session.open_files([write_tree(self.folder / "other", {"a.txt": b"reeds\n"})])
        self.wait(lambda: self.session.source is not None, "the other")
        self.wait(lambda: asked(self.window) is None and not self.session.listings.busy, "the end")

    def test_a_second_question_while_it_closes_waits_for_nobody(self):
        """The window's thread waits for the work that asks, and shows no question meanwhile."""
        asker = self.session.shelves.asker
        answers: list[str | None] = []

        def work() -> None:
            for spec in ("backup:one", "backup:other"):
                answers.append(asker.ask(spec, secrets.PASSWORD, False))

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        self.wait(lambda: asked(self.window) is not None, "the question")
        with mock.patch.object(self.session.joining, "end", lambda: thread.join(60)):
            self.session.end_work()
        self.assertFalse(thread.is_alive())
        self.assertEqual(answers, [None, None])

    def test_the_keyring_only_when_asked(self):
        kept: dict[str, str] = {}
        spec = f"backup:{self.backups() / 'sealed'}"
        with mock.patch("needlewright.core.keyrings.keep", kept.__setitem__), \
                mock.patch("needlewright.core.keyrings.known", kept.get):
            self.window.intake.take_in(spec)
            self.wait(lambda: asked(self.window) is not None, "the question")
            dialog = asked(self.window)
            self.assertFalse(dialog.keep.isChecked())
            dialog.keep.setChecked(True)
            self.answered("reed")
            self.wait(lambda: self.session.source is not None, "the source")
            self.assertEqual(kept, {spec: "reed"})
            settings = self.session.settings.path.read_text()
            self.assertNotIn("reed\"", settings.replace(spec, ""))
            kept_open.let_all_go()
            secrets._known.clear()
            answers: list[str | None] = []
            waiting = threading.Thread(target=lambda: answers.append(
                secrets.wanted(spec)), daemon=True)
            waiting.start()
            waiting.join(5)
        self.assertEqual(answers, ["reed"])

    def test_the_album_asks_for_a_code_and_shows_its_first_page_early(self):
        place = self.folder / "album"
        place.mkdir()
        (place / "whole").write_bytes(photo(1))
        told = {"id": "i1", "path": "Reeds/FP_1.jpg", "created": 1936500000, "state": "present",
                "modified": 1936500000, "reduced": None,
                "original": {"size": len(photo(1)), "sha256": sha256(photo(1))}}
        files = {what: str(place / "whole") for what in ("original", "small")}
        album = SurveyAlbum([{"told": told, "files": files}], AlbumFaults(made_up=30_000))
        self.addCleanup(album.close)
        known = self.folder / "NEEDLEWRIGHT_ALBUMS"
        known.mkdir()
        (known / "survey.json").write_text(json.dumps({"address": album.address, "user": USER}))
        owners = ServiceWindow(album, "album", "album:survey", PASSWORD)
        self.addCleanup(owners.close)
        self.station(INTAKE)
        self.session.shelves.albums.look()
        self.wait(lambda: self.window.intake.findChild(QPushButton, "album-survey"), "the album")
        with mock.patch.object(QInputDialog, "getText", return_value=("album:survey", True)):
            self.window.intake.open_address()
        self.answered(PASSWORD)
        self.wait(lambda: asked(self.window) is not None, "the code")
        dialog = asked(self.window)
        self.assertFalse(dialog.keep.isVisible())
        owners.look_anew()
        self.answered(owners.code.text().replace(" ", ""))
        self.wait(lambda: self.session.source is not None, "the source")
        self.station(SEARCH)
        self.idle()
        kept_open.let_all_go()  # it is listed again
        inside = self.looked_inside()
        self.wait(lambda: bool(inside.model.every), "the first page")
        self.assertLess(len(inside.model.every), 2000)
        self.assertFalse(inside.bring.isEnabled())
        self.wait(lambda: len(inside.model.every) == 30_001, "all of it")
        self.assertIn("30,001 files that the job does not have", inside.told.text())
        self.assertTrue(inside.bring.isEnabled())
        QTest.mouseClick(inside.findChild(QPushButton, "insideClose"), LEFT)
        self.wait(lambda: not self.session.listings.busy, "the end")
        owners.act("down")
        self.assertFalse(owners.buttons["down"].isEnabled())

    def test_only_what_is_missing_and_versions_side_by_side(self):
        one, two = self.pictures["DCIM/FP_0.jpg"], self.pictures["DCIM/FP_1.jpg"]
        client_has = write_tree(self.folder / "client", {"FP_0.jpg": one, "FP_1.jpg": smaller(two)})
        self.session.open_files([client_has])
        self.wait(lambda: self.session.source is not None, "the folder")
        self.station(SEARCH)
        self.idle()
        QTest.mouseClick(self.window.search.cards["files"].begin, LEFT)
        self.wait(lambda: self.session.searching, "the search")
        self.wait(lambda: not self.session.searching, "its end")
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=("", "")):
            self.window.intake.choose_backup()  # nothing was chosen
        self.window.intake.take_in(f"backup:{self.backups() / 'first'}")
        self.brought("backup")
        self.station(FINDS)
        QTest.keyClick(self.window, Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier)
        self.wait(lambda: not self.session.shelves.comparisons.busy, "the comparison")
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size == 2, "what is missing")
        with Job(self.session.board.folder, read_only=True) as job:
            names = {row.id: row.name for row in job.matching(Filter(missing_only=True))}
            small = next(row.id for row in job.matching() if row.size == len(smaller(two)))
        self.assertEqual(set(names.values()), {"FP_1.jpg", "FP_2.jpg"})
        QTest.keyClick(self.window, Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier)
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size == 5, "everything")
        self.session.choice.select(small)
        self.wait(lambda: self.session.choice.shown is not None
                  and self.session.choice.shown.record.row.id == small, "the small copy")
        self.idle()
        versions = self.window.finds.dossier.findChildren(Versions)[-1]
        told = versions.findChild(QLabel, "version1").text()
        self.assertIn("first: the same picture, another size", told)
        self.assertIn("640 × 480", told)
        QTest.mouseClick(versions.findChild(QPushButton, "showVersion"), LEFT)
        self.assertEqual(names[self.session.choice.selection], "FP_1.jpg")
        self.idle()
        QTest.mouseClick(self.window.finds.dossier.findChildren(
            QPushButton, "dossierLoss")[-1], LEFT)
        self.idle()
        with Job(self.session.board.folder, read_only=True) as job:
            loss = loss_of(job)
        self.assertEqual((loss.day, loss.after), ("2031-05-11", self.session.choice.selection))
        self.assertIn("not before 11 May 2031", self.window.notice_text.text())
        self.assertEqual(self.window.notice_text.property("role"), "")  # it is no problem

    def test_only_the_missing_is_brought(self):
        client_has = write_tree(self.folder / "client", {
            "FP_0.jpg": self.pictures["DCIM/FP_0.jpg"]})
        self.session.open_files([client_has])
        self.wait(lambda: self.session.source is not None, "the folder")
        self.station(SEARCH)
        self.idle()
        QTest.mouseClick(self.window.search.cards["files"].begin, LEFT)
        self.wait(lambda: not self.session.searching and self.session.board.finds, "its end")
        self.assertFalse(self.window.search.missing.isVisible())
        self.window.intake.take_in(f"backup:{self.backups() / 'first'}")
        self.wait(lambda: self.session.source.kind == "backup", "the backup")
        self.idle()
        QTest.mouseClick(self.window.search.missing, LEFT)
        self.brought("backup")
        with Job(self.session.board.folder, read_only=True) as job:
            number = self.session.source.id
            self.assertEqual({row.name for row in job.matching() if row.source == number},
                             {"FP_1.jpg", "FP_2.jpg"})

    def test_a_synchronised_folder_by_its_address(self):
        top = write_tree(self.folder / "top", {"a/FP_9.jpg": photo(9)})
        (self.folder / "versions").mkdir()
        served = SurveyFolder(top, self.folder / "versions")
        self.addCleanup(served.close)
        with mock.patch.object(QInputDialog, "getText", return_value=(served.address, True)):
            self.window.intake.open_address()
        self.answered("sedge and rush")
        self.wait(lambda: self.session.source is not None, "the folder")
        self.station(SEARCH)
        self.idle()
        pace, begin = self.window.search.pace, self.window.search.cards["kept-copies"].begin
        self.assertTrue(pace.isVisible())
        self.addCleanup(setattr, wire.PACE, "most", None)
        pace.setText("fast")
        QTest.mouseClick(begin, LEFT)
        self.assertIn("no speed", self.window.notice_text.text())
        self.assertFalse(self.session.searching)
        pace.setText("0,2")
        begun = time.monotonic()
        self.brought("sync")
        self.assertEqual(wire.PACE.most, 200_000)
        self.assertGreater(time.monotonic() - begun, len(photo(9)) / 200_000)
        served.wish("down")
        begun = time.monotonic()
        self.window.search.look_inside()
        inside = self.window.search.inside
        self.wait(lambda: bool(inside.model.every), "the list that is still known")
        self.assertLess(time.monotonic() - begun, 60)
        inside.reject()
        self.wait(lambda: not self.session.listings.busy, "the end")
