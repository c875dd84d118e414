"""Another job while work runs: nothing of the old one reaches the new one."""

from __future__ import annotations

import contextlib
import io
import os
import threading
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QSignalSpy, QTest
from PySide6.QtWidgets import QFileDialog

from needlewright.app import worker
from needlewright.app.settings import new_folder
from needlewright.app.window import SEARCH
from needlewright.core.errors import JobError
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.reviews import Reviews
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.demo import card
from needlewright.demo.clips import encode
from tests.app.test_window import WindowCase
from tests.core.test_meetings import zero_page
from tests.support import camera_jpeg, medium, noise


class SwitchingTest(WindowCase):
    def card_of(self, name, *pictures):
        path = self.folder / name
        places = [(4096 + i * 200_704, data) for i, data in enumerate(pictures)]
        path.write_bytes(medium(places, 4096 + 200_704 * (len(pictures) + 1)) + noise(24 << 20))
        return path

    def opened(self, name, *pictures):
        self.opens(self.card_of(name, *pictures))
        return self.session.board.folder

    def test_during_a_search(self):
        first = self.opened("one.img", *(camera_jpeg(i) for i in range(6)))
        self.session.begin_search(Plan(("signatures",), every_byte=True))
        self.wait(lambda: bool(self.session.just_found), "the first find")
        second = self.opened("two.img")
        self.assertFalse(self.session.searching)
        changed = QSignalSpy(self.session.finds_changed)
        for _ in range(40):
            self.qt.processEvents()
        self.assertEqual((self.session.just_found, self.session.progress, self.session.ending),
                         ([], None, None))
        self.assertEqual(changed.count(), 0)
        self.assertEqual(self.job.find_ids(), [])
        self.assertNotEqual(first, second)
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: not self.session.searching, "the second search")
        self.assertEqual(self.session.ending, "done")
        with Job(first) as job:
            self.assertTrue(job.find_ids())

    def test_a_damaged_job_is_copied_and_the_copy_opened(self):
        first = self.folder / "one"
        job, source = job_for_image(first, self.card_of("one.img", *map(camera_jpeg, range(3))))
        list(run_search(job, source, Plan(("signatures",)), threading.Event()))
        count = len(job.find_ids())
        job.close()
        zero_page(first / DATABASE, "log")
        self.session.open_job(first)
        self.wait(self.window._copy_job.isVisible, "what can be done about it")
        self.assertIn("can be copied to a new job", self.window.notice_text.text())
        to = self.folder / "copied"

        def copy(place):
            with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(place)):
                QTest.mouseClick(self.window._copy_job, Qt.MouseButton.LeftButton)

        copy(first)  # no place for it: told, and another can be chosen
        self.wait(lambda: "outside of" in self.window.notice_text.text(), "why not")
        self.assertTrue(self.window._copy_job.isVisible())
        self.window.hide_notice()
        self.session.open_job(first)
        self.wait(self.window._copy_job.isVisible, "that it is told again")
        copy(to)
        self.wait(lambda: self.session.board.folder == to, "the copy")
        self.wait(lambda: "Search again" in self.window.notice_text.text(), "what came of it")
        self.assertFalse(self.window._copy_job.isVisible())
        self.assertEqual(len(self.job.find_ids()), count)
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: self.session.ending == "done", "the search of the copy")
        self.assertEqual(len(self.job.find_ids()), count)
        self.assertEqual(self.problems, [])

    def test_during_the_decoding_of_every_frame(self):
        clip = encode("mp4", frames=90, seed=5)
        self.opened("one.img", clip)
        self.session.begin_search(Plan(("signatures",), every_frame=False))
        self.wait(lambda: not self.session.searching, "the search")
        number = self.job.find_ids()[0][0]
        self.session.decode_all(number)
        self.assertIsNotNone(self.session.frames)
        self.opened("two.img", clip)
        self.assertIsNone(self.session.frames)
        self.session.begin_search(Plan(("signatures",), every_frame=False))
        self.wait(lambda: not self.session.searching, "the second search")
        number = self.job.find_ids()[0][0]
        self.session.decode_all(number)
        self.assertIsNotNone(self.session.frames, "dead for good after a job was changed")
        self.wait(lambda: self.session.frames is None, "all frames")
        self.assertEqual(self.job.record(number).row.grade, "whole")

    def test_during_a_delivery(self):
        self.opened("one.img", *(camera_jpeg(i) for i in range(4)))
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: not self.session.searching, "the search")
        ids = [row[0] for row in self.job.find_ids()]
        self.session.begin_delivery(ids, self.folder / "bag")
        self.opened("two.img")
        for _ in range(40):
            self.qt.processEvents()
        self.assertIsNone(self.session.delivery)
        self.assertIsNone(self.session.delivered)
        self.assertIsNone(self.session.delivering)
        self.assertEqual(self.job.reviews.tray_size(), (0, 0))

    def test_a_queue_does_not_outlive_its_job(self):
        self.opened("one.img", camera_jpeg(1))
        self.session.begin_search(Plan(("signatures",), every_byte=True))
        self.session.begin_search(Plan(("records",)))
        self.assertEqual(len(self.session.queued), 1)
        self.opened("two.img")
        self.assertEqual(self.session.queued, [])
        self.assertEqual(self.session.steps_waiting, set())

    def test_a_job_that_can_be_read_in_part(self):
        folder = self.opened("one.img", *(camera_jpeg(i) for i in range(3)))
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: not self.session.searching, "the search")
        told = QSignalSpy(self.session.damaged)

        def half(database, sql, values=(), plain=Database.rows):
            found = plain(database, sql, values)
            if "ORDER BY" in sql and "finds f" in sql:
                database.damage = "database disk image is malformed"
            return found

        with mock.patch.object(Database, "rows", half):
            self.session.open_job(folder)
            self.wait(lambda: told.count() > 0, "the sentence")
            self.wait(lambda: len(self.window.finds.sheet.sheet.ids) == 3, "what can be read")
        self.assertEqual(told.count(), 1)
        self.assertIn("what can be read is shown", told.at(0)[0])

    def test_a_damaged_job_keeps_the_open_one(self):
        folder = self.opened("one.img", camera_jpeg(1))
        broken = self.folder / "broken"
        broken.mkdir()
        (broken / "job.sqlite").write_bytes(b"no database" * 900)
        self.session.open_job(broken)
        self.idle()
        self.assertEqual(self.session.board.folder, folder)
        self.assertEqual(len(self.problems), 1)
        self.assertTrue(self.problems[0].endswith("."))

    def test_a_tray_that_cannot_be_written_is_one_sentence(self):
        self.opened("one.img", camera_jpeg(1))
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: not self.session.searching, "the search")
        number = self.job.find_ids()[0][0]
        failing = JobError("job-not-written", path="/j", reason="database is locked")
        with mock.patch.object(Reviews, "put_in_tray", side_effect=failing):
            self.session.choice.set_tray([number], True)
            self.idle()
        self.assertIn("database is locked", self.problems[-1])

    def test_a_fault_of_ours_is_told_and_the_work_after_it_done(self):
        self.opened("one.img", camera_jpeg(1))
        broken = mock.Mock(side_effect=ZeroDivisionError("made up"))
        with mock.patch.object(worker, "run_search", broken), contextlib.redirect_stderr(
                io.StringIO()):
            self.session.begin_search(Plan(("signatures",)))
            self.wait(lambda: not self.session.searching, "its end")
            self.session.desk.ask("", broken, lambda _: None)
            self.idle()
        self.assertEqual(["made up" in told for told in self.problems], [True, True])
        self.session.begin_search(Plan(("signatures",)))
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()
        self.assertEqual(self.session.board.finds, 1)

    def test_new_jobs_have_folders_of_their_own(self):
        folder = new_folder(self.folder / "card.img")
        folder.mkdir(parents=True)
        again = new_folder(self.folder / "card.img")
        self.assertNotEqual(folder, again)
        self.assertTrue(str(again).startswith(os.environ["XDG_DATA_HOME"]))


class DemoTest(WindowCase):
    def test_it_opens_on_search_with_its_plan_running(self):
        card.build()
        self.window.show_demo()
        self.wait(lambda: self.session.searching, "the search")
        self.assertEqual(self.window.stack.currentIndex(), SEARCH)
        self.wait(lambda: bool(self.session.just_found), "pictures")
        self.session.stop_search()
        self.wait(lambda: not self.session.searching, "the end")
        # Asked again, it goes on with what is missing and does not begin anew.
        done = {row.step for row in self.job.searched.steps() if row.ending == "done"}
        self.window.show_demo()
        self.wait(lambda: self.session.searching, "the rest")
        self.assertFalse(done & set(self.session.search.plan.steps))
        self.session.stop_search()
        self.wait(lambda: not self.session.searching, "the end")
