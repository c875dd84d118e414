"""Records and old records, stopped again and again: they end, and find the same."""

from __future__ import annotations

import json
import threading
from dataclasses import replace
from itertools import islice

from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.engine import search
from needlewright.core.search.events import Ending, Finished, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.search.resuming import Resuming
from needlewright.core.sources.registry import open_source
from tests.support import FolderTest
from tests.support_volumes import load


class After:
    """A stop signal that is set once it was asked so often."""

    def __init__(self, looks):
        self.looks = looks

    def is_set(self):
        self.looks -= 1
        return self.looks < 0


class ResumingTest(FolderTest):
    def job(self, name, folder):
        source, truth = load(name)
        path = source.save(self.folder / f"{folder}.img")
        job, row = job_for_image(self.folder / folder, path)
        self.addCleanup(job.close)
        return job, row, truth

    @staticmethod
    def told(job):
        return sorted((r.path or "", r.start, r.size, r.grade, r.removed) for r in job.matching())

    def whole(self, name, step):
        job, row, _ = self.job(name, f"{name} {step} whole")
        list(run_search(job, row, Plan((step,)), threading.Event()))
        return self.told(job)

    def interrupted(self, name, step, looks):
        """The finds of a search that was stopped every so many looks at the signal."""
        job, row, _ = self.job(name, f"{name} {step} {looks}")
        for number in range(1, 200):
            last = None
            for event in run_search(job, row, Plan((step,)), After(looks * (1 + number // 8))):
                last = event if isinstance(event, Finished) else last
            if last is not None and last.ending is Ending.DONE:
                return self.told(job), number
        self.fail("it never ended")

    def test_records_end_and_find_the_same(self):
        for name in ("fat32", "ntfs", "ext4"):
            wanted = self.whole(name, "records")
            with self.subTest(name):
                found, times = self.interrupted(name, "records", 40)
                self.assertGreater(times, 1)
                self.assertEqual([f[:3] for f in found if f[3] == "whole"],
                                 [f[:3] for f in wanted if f[3] == "whole"])
                self.assertEqual({f[0] for f in found}, {f[0] for f in wanted})

    def test_old_records_end_and_find_the_same(self):
        for name in ("fat32_formatted", "exfat_formatted"):
            wanted = self.whole(name, "old-records")
            with self.subTest(name):
                found, times = self.interrupted(name, "old-records", 40)
                self.assertGreater(times, 1)
                self.assertEqual([f for f in found if f[3] == "whole"],
                                 [f for f in wanted if f[3] == "whole"])

    def test_it_ends_at_whatever_look_it_is_told_to(self):
        for name, step in (("fat32", "records"), ("fat32_formatted", "old-records"),
                           ("exfat_formatted", "old-records")):
            source, _ = load(name)
            with open_source(str(source.save(self.folder / f"{name}.img"))) as image:
                never = After(1 << 40)
                whole = sum(1 for _ in search(image, Plan((step,)), never))
                asked = (1 << 40) - never.looks
                for looks in range(1, asked, 1 + asked // 40):
                    with self.subTest(name, looks=looks):
                        events = list(islice(search(image, Plan((step,)), After(looks)), 2 * whole))
                        self.assertIs(type(events[-1]), Finished)

    def test_where_it_goes_on_is_kept_and_forgotten_at_the_end(self):
        job, row, _ = self.job("fat32", "states")
        list(run_search(job, row, Plan(("records",)), After(60)))
        state = json.loads(job.searched.steps()[0].state)
        self.assertGreater(state["done"], 0)
        self.assertEqual(job.searched.steps()[0].ending, "stopped")
        list(run_search(job, row, Plan(("records",)), threading.Event()))
        ended = job.searched.steps()[0]
        self.assertEqual((ended.ending, ended.state), ("done", ""))

    def test_another_plan_begins_anew(self):
        plan = Plan(("records",))
        state = Resuming(plan)
        for _ in range(7):
            state.next()
        told = state.state([2, 5])
        again = Resuming(replace(plan, state=told))
        self.assertEqual([again.next()[1] for _ in range(8)],
                         [True, True, False, True, True, False, True, False])
        other = Resuming(replace(plan, folder="DCIM", state=told))
        self.assertFalse(other.resumed)

    def test_a_state_that_makes_no_sense_is_none(self):
        for text in ("", "{", "[]", "7", '{"plan": "x"}', '{"done": "many"}', "null"):
            self.assertFalse(Resuming(replace(Plan(), state=text)).resumed, text)

    def test_an_entry_that_was_not_taken_is_taken_again(self):
        state = Resuming(Plan())
        state.next()
        number, _ = state.next()
        state.again(number)
        self.assertEqual(json.loads(state.state(()))["done"], 1)

    def test_progress_goes_on_from_where_it_was(self):
        job, row, _ = self.job("fat32_formatted", "progress")
        list(run_search(job, row, Plan(("old-records",)), After(60)))
        events = [e for e in run_search(job, row, Plan(("old-records",)), threading.Event())
                  if isinstance(e, Progress)]
        self.assertTrue(events)
        self.assertTrue(all(0 <= e.done <= e.total for e in events))
