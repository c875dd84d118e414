"""One thread writes to a job: in turn, people first, all of a change or nothing of it."""

from __future__ import annotations

import threading
import unittest

from needlewright.core.errors import JobError
from needlewright.core.jobfile.reviews import TRAY
from needlewright.core.jobfile.scribe import scribe_of
from needlewright.core.jobfile.store import SLICE, Job
from tests.core.test_database import JobCase, find


class ScribeTest(JobCase):
    def setUp(self):
        super().setUp()
        self.scribe = scribe_of(self.folder / "job")
        self.addCleanup(self.scribe.leave)
        self.order: list[str] = []

    def busy(self):
        """Keep the thread at work until what is returned is set."""
        go_on, begun = threading.Event(), threading.Event()

        def act():
            begun.set()
            go_on.wait(60)

        threading.Thread(target=self.scribe.write, args=(act,)).start()
        self.assertTrue(begun.wait(60))
        return go_on

    def later(self, name, soon=False):
        writer = threading.Thread(
            target=self.scribe.write, args=(lambda: self.order.append(name), soon))
        waiting = self.scribe._waiting.qsize()
        writer.start()
        while self.scribe._waiting.qsize() == waiting:
            pass
        return writer

    def test_what_a_person_waits_for_goes_first_and_the_rest_in_its_order(self):
        go_on = self.busy()
        writers = [self.later("batch 1"), self.later("batch 2"), self.later("tray 1", True),
                   self.later("batch 3"), self.later("tray 2", True)]
        go_on.set()
        for writer in writers:
            writer.join()
        self.assertEqual(self.order, ["tray 1", "tray 2", "batch 1", "batch 2", "batch 3"])

    def test_a_tray_does_not_wait_for_the_rest_of_a_batch(self):
        self.fill(3)
        count = 8 * SLICE
        writes = []

        def noted(act, soon=False, plain=self.job._database.write):
            done = plain(act, soon)
            writes.append("tray" if soon else "slice")
            if len(writes) == 2:  # in the middle of the batch
                other.reviews.mark(TRAY, [1], True)
                writes.append("tray")
            return done

        with Job(self.folder / "job") as other:
            self.job._database.write = noted
            kept = self.job.add_finds(self.source.id, [
                find(512 * i, form="png") for i in range(count)])
        self.assertEqual(len(kept), count)
        self.assertEqual(writes, ["slice"] * 2 + ["tray"] + ["slice"] * 6)
        self.assertEqual(self.job.reviews.tray_size()[0], 1)

    def test_an_error_belongs_to_whoever_asked_and_the_next_is_written(self):
        with self.assertRaises(ZeroDivisionError):
            self.scribe.write(lambda: 1 // 0)
        self.assertEqual(self.scribe.write(lambda: 7), 7)

    def test_a_change_within_a_change_is_part_of_it(self):
        database = self.job._database

        def half():
            self.job.set_meta("title", "half")
            raise JobError("job-damaged", path="", reason="made up")

        with self.assertRaises(JobError):
            database.write(half)
        self.assertIsNone(self.job.meta("title"))
        database.write(lambda: self.job.set_meta("title", "whole"))
        self.assertEqual(self.job.meta("title"), "whole")

    def test_many_who_write_at_once_all_do(self):
        def write(number):
            with Job(self.folder / "job") as job:
                for index in range(20):
                    job.set_meta(f"{number}.{index}", "1")

        writers = [threading.Thread(target=write, args=(n,)) for n in range(8)]
        for writer in writers:
            writer.start()
        for writer in writers:
            writer.join()
        found = self.job._database.rows("SELECT count(*) FROM meta WHERE value = '1'")
        self.assertEqual(found[0][0], 160)

    def test_the_thread_ends_with_the_last_who_needs_it(self):
        with Job(self.folder / "job") as other:
            other.set_meta("title", "otters")
            thread = self.scribe._thread
            self.assertTrue(thread.is_alive())
        self.job.close()
        self.assertTrue(thread.is_alive())
        last = scribe_of(self.folder / "job")
        self.assertIs(last, self.scribe)
        last.leave()
        self.scribe.leave()
        self.assertFalse(thread.is_alive())
        self.scribe = scribe_of(self.folder / "job")  # for the clean-up
        self.assertIsNot(self.scribe, last)


if __name__ == "__main__":
    unittest.main()
