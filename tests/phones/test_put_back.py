"""Finds put back onto a phone: new files only, and not before its removed ones are safe."""

from __future__ import annotations

import contextlib
import io
import threading
import unittest
from dataclasses import replace
from unittest import mock

from needlewright.cli.program import main
from needlewright.core.delivery.bag import deliver
from needlewright.core.delivery.onto_phone import PutBack, check, put_back
from needlewright.core.errors import DeliveryError, SourceError
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.phones.phone import Phone
from needlewright.core.search.plan import Plan
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import finds as words
from needlewright.wording.bag import words_for
from tests.phones import owner
from tests.support import FolderTest


class PutBackTest(FolderTest):
    def phone(self, **faults: object) -> FieldPhone:
        made = FieldPhone(owner.folders(self.folder), PhoneFaults(**faults))
        self.addCleanup(made.close)
        made.open()
        return made

    def job(self, phone: FieldPhone, search: bool = True, delivered: bool = True) -> Job:
        job, row = job_for_image(self.folder / "job", phone.address)
        self.addCleanup(job.close)
        if search:
            list(run_search(job, row, Plan(("kept-copies",), patience=30.0), threading.Event()))
        if delivered:
            rows = [row for row in job.matching() if row.grade != "gone"]
            list(deliver(job, rows, self.folder / "bag", words_for(job), threading.Event()))
        return job

    def put(self, job: Job, spec: str, stop: threading.Event | None = None) -> PutBack:
        rows = [row for row in job.matching() if row.kind == "photo" and row.grade != "gone"]
        return list(put_back(job, rows, spec, words.file_name, stop or threading.Event()))[-1]

    def test_new_files_only_and_each_under_a_name_of_its_own(self):
        phone = self.phone()
        job = self.job(phone)
        before = phone.truth()
        for _ in range(2):
            done = self.put(job, phone.address)
            self.assertEqual((done.failed, done.finished), ([], True))
        after = phone.truth()
        self.assertEqual({path: after[path] for path in before}, before)
        new = [path for path in after if path not in before]
        names = [path.rpartition("/")[2] for path in new]
        self.assertEqual(len(set(names)), 2 * len(done.put))
        self.assertIn("FP_0091.jpg", names)  # as it was called before it was removed
        self.assertIn("FP_0091 (2).jpg", names)
        self.assertTrue(all("Inner/DCIM/Needlewright/" in path for path in new))
        self.assertLessEqual({after[path] for path in new}, set(before.values()))

    def test_not_while_removed_files_may_be_lost_by_it(self):
        phone = self.phone()
        job = self.job(phone, search=False, delivered=False)
        with mock.patch.object(Phone, "put") as written:
            for search, code in ((False, "nothing-chosen"), (True, "onto-undelivered")):
                if search:
                    job.close()
                    job = self.job(phone, delivered=False)
                with self.assertRaises(DeliveryError) as raised:
                    self.put(job, phone.address)
                self.assertEqual(raised.exception.code, code)
            with self.assertRaises(DeliveryError) as raised:
                self.put(job, str(self.folder))
            self.assertEqual(raised.exception.code, "onto-no-phone")
            written.assert_not_called()

    def test_not_while_another_job_has_not_delivered_what_that_phone_still_keeps(self):
        phone = self.phone()
        job = self.job(phone)
        rows = [row for row in job.matching() if row.grade != "gone"]
        other, source = job_for_image(self.folder / "other", phone.address)
        narrow = Plan(("kept-copies",), removed_only=True)
        for plan, code in ((replace(narrow, folder="Inner/DCIM"), "onto-unsearched"),
                           (narrow, "onto-undelivered"), (None, "")):
            with other:
                if plan is None:
                    found = [row for row in other.matching() if row.grade != "gone"]
                    list(deliver(other, found, self.folder / "second", words_for(other),
                                 threading.Event()))
                else:
                    list(run_search(other, source, plan, threading.Event()))
            others = [self.folder / "job", self.folder / "other", self.folder / "none"]
            if not code:
                check(job, rows, phone.address, others)
            else:
                with self.assertRaises(DeliveryError) as raised:
                    check(job, rows, phone.address, others)
                self.assertEqual(raised.exception.code, code)
                self.assertIn("other", str(raised.exception.values["path"]))
            check(job, rows, "ptpip://127.0.0.1:9", others)  # of that one nothing is known
            other = Job(self.folder / "other")
        other.close()

    def test_what_the_phone_refuses_or_hands_out_otherwise_is_told(self):
        phone = self.phone()
        job = self.job(phone)
        spoilt = self.phone(refuses=["FP_0002.jpg"], short=["FP_0004.jpg"])
        done = self.put(job, spoilt.address)
        codes = {job.rows([n])[0].name: error.code for n, error in done.failed}
        self.assertEqual(codes, {"FP_0002.jpg": "phone-refused", "FP_0004.jpg": "phone-lost"})
        self.assertTrue(done.finished)
        with mock.patch.object(Phone, "put", return_value=("FP_0001.jpg", "0" * 64)):
            done = self.put(job, phone.address)
        self.assertEqual({error.code for _, error in done.failed}, {"onto-differs"})
        phone.wish("lock")
        with self.assertRaises(SourceError) as raised:
            self.put(job, phone.address)
        self.assertEqual(raised.exception.code, "phone-closed")
        stop = threading.Event()
        stop.set()
        phone.wish("unlock")
        done = self.put(job, phone.address, stop)
        self.assertEqual((done.put, done.finished), ([], False))
        self.assertEqual([p for p in (self.folder / "job").iterdir() if "put-back" in p.name], [])

    def test_the_command_wants_a_clear_yes(self):
        phone = self.phone()
        ids = [row.id for row in self.job(phone).matching() if row.kind == "photo"][:2]
        wanted = ["put-back", "--job", str(self.folder / "job"), "--onto", phone.address,
                  "--ids", ",".join(map(str, ids))]
        before = phone.truth()
        for more, status in (([], 1), (["--yes"], 0)):
            out, told = io.StringIO(), io.StringIO()
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(told):
                self.assertEqual(main([*wanted, *more]), status)
            if not more:
                self.assertIn("2 files would be written", told.getvalue())
                self.assertEqual(phone.truth(), before)
        self.assertIn("2 files put onto", out.getvalue())
        self.assertEqual(len(phone.truth()), len(before) + 2)


if __name__ == "__main__":
    unittest.main()
