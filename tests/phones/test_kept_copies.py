"""A phone in a job: what it holds as finds, whatever happens while it is brought."""

from __future__ import annotations

import os
import random
import shutil
import threading
import unittest
from datetime import datetime
from pathlib import Path
from unittest import mock

from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.errors import JobError, SourceError
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search import step_kept_copies
from needlewright.core.search.days import days_of
from needlewright.core.search.events import Finished, Note, Progress
from needlewright.core.search.examining import Examined
from needlewright.core.search.plan import Plan
from needlewright.core.sources.open_phone import PhoneShelf
from needlewright.core.sources.registry import open_source
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording.bag import words_for
from tests.phones import owner
from tests.support import FolderTest

PLAN = Plan(("kept-copies",), patience=30.0)


class KeptCopiesTest(FolderTest):
    def phone(self, **faults: object) -> FieldPhone:
        made = FieldPhone(owner.folders(self.folder), PhoneFaults(**faults))
        self.addCleanup(made.close)
        made.open()
        return made

    def search(self, phone: FieldPhone, plan: Plan = PLAN, stop: threading.Event | None = None):
        """All events of one search into the job."""
        job, row = job_for_image(self.folder / "job", phone.address)
        with job:
            return list(run_search(job, row, plan, stop or threading.Event()))

    def finds(self):
        with Job(self.folder / "job", read_only=True) as job:
            return [job.record(row.id) for row in job.matching()]

    def test_what_is_removed_hidden_and_refused(self):
        phone = self.phone(unlisted=["FP_0002.jpg"], short=["FP_0005.jpg"])
        events = self.search(phone)
        told = next(e for e in events if isinstance(e, Note) and e.code == "kept-listed")
        self.assertEqual((told.values["refused"], told.values["unlisted"]), (1, 0))
        by_name = {r.row.name: r for r in self.finds()}
        trashed = by_name["FP_0091.jpg"]
        self.assertEqual((trashed.row.grade, trashed.row.removed, trashed.row.kept),
                         ("whole", True, "phone-trash"))
        self.assertEqual(trashed.record.purge_at[:4], "2031")
        self.assertEqual(by_name["FP_0092.jpg"].row.kept, "unfinished")
        hidden = by_name["FP_0007.jpg"].row
        self.assertEqual((hidden.kept, hidden.removed), ("hidden", False))
        gone = {r.checks[0].code: r.row.grade for r in self.finds() if r.row.grade == "gone"
                and r.row.name != ".nomedia"}
        self.assertEqual(gone, {"object-refused": "gone", "object-not-brought": "gone"})
        with mock.patch.object(PhoneShelf, "bring", side_effect=KeyError("a fault of ours")), (
                self.assertRaises(KeyError)):
            shutil.rmtree(self.folder / "job" / "brought")
            self.search(phone)
        self.search(phone, Plan(("kept-copies",), removed_only=True))
        self.assertEqual(len(self.finds()), len(by_name))  # searched again, nothing is doubled

    def test_what_came_and_cannot_be_examined_is_told(self):
        def unreadable(paths, stop, pool):
            for path in paths:
                yield Examined(path, error=SourceError("source-denied", path=str(path)))

        with mock.patch.object(step_kept_copies, "examine", unreadable):
            self.search(self.phone())
        codes = {r.row.name: r.checks[0].code for r in self.finds()}
        self.assertEqual(codes["FP_0091.jpg"], "object-not-brought")
        self.assertGreater(len(codes), 3)

    def test_delivered_although_the_phone_is_gone(self):
        phone = self.phone(twins=["FP_0003.jpg"])
        truth = owner.by_path(phone.truth())
        self.search(phone)
        phone.close()
        with Job(self.folder / "job") as job:
            rows = [row for row in job.matching() if row.grade != "gone"]
            bag = self.folder / "bag"
            (last,) = [e for e in deliver(job, rows, bag, words_for(job), threading.Event())
                       if isinstance(e, Delivered)]
        self.assertTrue(last.finished)
        ours = sorted(owner.sha256(p) for p in (bag / "data").rglob("*") if p.is_file())
        wanted = sorted(h for path, hashes in truth.items() for h in hashes
                        if not path.endswith(".nomedia"))
        self.assertEqual(ours, wanted)

    def test_dropped_locked_and_pulled_at_random_moments(self):
        """No object lost or doubled, none with foreign bytes."""
        for seed in range(3):
            phone = self.phone(drops=owner.moments(seed, 5, 2 << 20))
            rng, ended = random.Random(seed), threading.Event()

            def act(phone=phone, rng=rng, ended=ended) -> None:
                while not ended.wait(rng.uniform(0.3, 1.5)):
                    first, then = rng.choice((("lock", "unlock"), ("pull", "plug"),
                                              ("refuse", "trust")))
                    phone.wish(first)
                    ended.wait(rng.uniform(0.1, 0.6))
                    phone.wish(then, "allow")

            thread = threading.Thread(target=act, daemon=True)
            job, row = None, None
            while job is None:
                try:
                    job, row = job_for_image(self.folder / f"job {seed}", phone.address)
                except SourceError:
                    phone.open()
            thread.start()
            with job:
                for _ in range(20):  # as often as somebody asks for it again
                    try:
                        events = list(run_search(job, row, PLAN, threading.Event()))
                        if events and isinstance(events[-1], Finished):
                            break
                    except SourceError:
                        continue
                ended.set()
                thread.join()
                found: dict[str, list[str]] = {}
                for number in (row.id for row in job.matching()):
                    content = job.record(number).content
                    place = Path(job.folder) / content.file if hasattr(content, "file") else None
                    if place is not None:
                        found.setdefault(job.record(number).row.path, []).append(
                            owner.sha256(place))
            truth = owner.by_path(phone.truth())
            self.assertEqual({p: h for p, h in found.items() if not p.endswith(".nomedia")},
                             {p: h for p, h in truth.items() if not p.endswith(".nomedia")})
            phone.close()

    def test_a_device_that_breaks_where_a_part_is_asked_for(self):
        phone = self.phone(ranges="breaks")
        self.search(phone)
        large = next(r for r in self.finds() if r.row.name == "large.bin")
        self.assertEqual(owner.sha256(self.folder / "job" / large.content.file),
                         owner.sha256(self.folder / "inner/large.bin"))

    def test_stopped_and_gone_on_with(self):
        phone = self.phone(slow=4_000_000.0)
        stop = threading.Event()
        job, row = job_for_image(self.folder / "job", phone.address)
        with job:
            for event in run_search(job, row, PLAN, stop):
                if isinstance(event, Progress) and event.done:
                    stop.set()
            first = {p.name for p in (self.folder / "job" / "brought").iterdir()
                     if p.suffix != ".part"}
            list(run_search(job, row, PLAN, threading.Event()))
        kept = {p.name for p in (self.folder / "job" / "brought").iterdir()}
        self.assertTrue(first and first < kept)
        self.assertFalse([name for name in kept if name.endswith(".part")])

    def test_patience_ends_in_one_clear_error(self):
        phone = self.phone(drops=[40_000])
        job, row = job_for_image(self.folder / "job", phone.address)
        phone.wish("lock")
        with job, self.assertRaises(SourceError) as told:
            list(run_search(job, row, Plan(("kept-copies",), patience=1.0), threading.Event()))
        self.assertEqual(told.exception.code, "phone-closed")

    def test_only_some_days(self):
        """What has no date might be of them."""
        stores = owner.folders(self.folder)
        for name, when in (("FP_0001.jpg", "2031-05-09"), ("FP_0002.jpg", "2031-05-10"),
                           ("FP_0003.jpg", "2031-05-12")):
            stamp = datetime.fromisoformat(f"{when}T12:00:00+00:00").timestamp()
            os.utime(self.folder / owner.CAMERA / name, (stamp, stamp))
        phone = FieldPhone(stores, PhoneFaults())
        self.addCleanup(phone.close)
        phone.open()
        self.search(phone, Plan(("kept-copies",), days=days_of("2031-05-10:2031-05-12")))
        self.assertEqual({r.row.name for r in self.finds()}, {"FP_0002.jpg", "FP_0003.jpg"})
        self.search(phone, Plan(("kept-copies",), days=days_of(":2031-05-09")))
        self.assertIn("FP_0001.jpg", {r.row.name for r in self.finds()})
        self.assertTrue(days_of("2031-05-10").holds((None, "")))
        for wrong in ("yesterday", "2031-05-12:2031-05-10", "2031-13-01", "2031-05-10:x"):
            with self.assertRaises(ValueError):
                days_of(wrong)

    def test_a_phone_that_locks_itself_again(self):
        """It is waited for, and what was brought is not brought twice."""
        phone = self.phone(locks_after=1 << 20)
        ended = threading.Event()
        self.addCleanup(ended.set)

        def owner_acts() -> None:
            while not ended.wait(0.2):
                phone.wish("unlock")

        threading.Thread(target=owner_acts, daemon=True).start()
        truth = owner.by_path(phone.truth())
        self.search(phone)
        ended.set()
        self.assertGreater(phone.wish("state")["sent"], 9 << 20)  # it was locked in each large file
        brought = {r.row.path: r.content.sha256 for r in self.finds() if r.row.grade != "gone"}
        self.assertEqual(len(brought), 12)
        self.assertTrue(all(truth[path] == [sha256] for path, sha256 in brought.items()))

    def test_what_was_refused_while_it_was_locked_is_asked_for_again(self):
        """It may be open again when it is asked whether it is locked."""
        bring, refused = PhoneShelf.bring, set[str]()

        def at_first(shelf, offered, part, told):
            if offered.entry.path not in refused:
                refused.add(offered.entry.path)
                raise SourceError("phone-refused", path=shelf.spec, reason="store not available")
            return bring(shelf, offered, part, told)

        with mock.patch.object(PhoneShelf, "bring", at_first):
            self.search(self.phone())
        self.assertEqual(len([r for r in self.finds() if r.row.grade != "gone"]), 12)
        self.assertGreaterEqual(len(refused), 12)

    def test_what_a_phone_is_no_source_for(self):
        phone = self.phone()
        with open_source(phone.address) as shelf, self.assertRaises(SourceError) as told:
            shelf.read_at(0, 512)
        self.assertEqual(told.exception.code, "shelf-no-bytes")
        job, row = job_for_image(self.folder / "job", phone.address)
        with job, self.assertRaises(JobError):
            list(run_search(job, row, Plan(("signatures",)), threading.Event()))
        for spec in ("ptpip://", "ptpip://a b", "ptpip://host:0", "ptpip://h:99999", "phone:",
                     "phone:../x", "usb:x"):
            with self.subTest(spec), self.assertRaises(SourceError):
                open_source(spec)


if __name__ == "__main__":
    unittest.main()
