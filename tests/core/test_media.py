"""What finds lie on: opened in one place, closed again, and read by one loop."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import unittest
from unittest import mock

from needlewright.core.contents import ShelfObject, Stored, Stretches
from needlewright.core.delivery.bag import deliver
from needlewright.core.errors import SourceError
from needlewright.core.imaging.map_saving import save
from needlewright.core.imaging.verify import verify
from needlewright.core.jobs import media as media_module
from needlewright.core.jobs.media import Media
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources import files
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.map_file import MapFile, Origin
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.source import Span
from needlewright.core.stopping import Interrupted
from needlewright.wording.bag import words_for
from tests.support import FolderTest, camera_jpeg, medium, noise

FEW_FILES = """
import resource, sys
resource.setrlimit(resource.RLIMIT_NOFILE, (64, 64))
from needlewright.cli.program import main
sys.exit(main(sys.argv[1:]))
"""


class BlocksTest(unittest.TestCase):
    def test_a_stretch_comes_whole_and_in_order(self):
        data = noise(10_000)
        source = MemorySource(data)
        for start, stop, size in ((0, 10_000, 4096), (17, 9_001, 1), (5, 5, 64),
                                  (0, 10_000, 1 << 20)):
            parts = list(blocks(source, Span(start, stop), size=size))
            self.assertEqual(b"".join(parts), data[start:stop])
            self.assertLessEqual(max(map(len, parts), default=0), size)
        self.assertEqual(b"".join(blocks(source)), data)

    def test_a_source_that_became_shorter_is_told_and_a_stop_is_heard(self):
        source = MemorySource(bytes(1000))
        with self.assertRaises(SourceError) as caught:
            list(blocks(source, Span(0, 2000), size=300))
        self.assertEqual((caught.exception.code, caught.exception.values["start"]),
                         ("source-shrank", 1000))
        stop = threading.Event()
        stop.set()
        with self.assertRaises(Interrupted):
            list(blocks(source, stop=stop))


class MediaTest(FolderTest):
    def job_of(self, count: int):
        for number in range(count):
            job, _ = job_for_image(self.folder / "job", self.image(bytes([number + 1]) * 4096,
                                                                   f"card{number}.img"))
            job.close()
        job, _ = job_for_image(self.folder / "job", self.folder / "card0.img")
        self.addCleanup(job.close)
        return job

    def test_each_is_opened_when_it_is_needed_and_few_stay_open(self):
        job = self.job_of(5)
        self.addCleanup(setattr, media_module, "MOST_OPEN", media_module.MOST_OPEN)
        media_module.MOST_OPEN = 2
        with Media.of(job) as media:
            self.assertEqual(media.open_ones, 0)
            numbers = [source.id for source in job.sources()]
            with media.lent(numbers[0]) as first:
                for number in numbers[1:]:
                    self.assertEqual(media.source(number).read_at(0, 1), bytes([number]))
                self.assertEqual(first.read_at(0, 2), b"\1\1", "what is lent stays open")
            self.assertLessEqual(media.open_ones, 2)
        self.assertEqual(media.open_ones, 0)
        with self.assertRaises(SourceError):
            first.read_at(0, 1)

    def test_what_is_away_is_asked_for_once_and_what_lies_in_the_job_needs_no_medium(self):
        (self.folder / "kept").write_bytes(b"kept")
        opened = []
        real = media_module.open_source
        self.addCleanup(setattr, media_module, "open_source", real)
        media_module.open_source = lambda spec: opened.append(spec) or real(spec)
        with Media(self.folder, {1: str(self.folder / "away.img")}) as media:
            row = mock.Mock(source=1)
            with media.opened(row, Stored("kept", "", 4)) as file:
                self.assertEqual(file.read_at(0, 4), b"kept")
            self.assertEqual(opened, [])
            for content in (Stretches(((0, 4),)), ShelfObject("key", 4)):
                with self.assertRaises(SourceError), media.opened(row, content):
                    pass
            self.assertEqual(len(opened), 1)
            self.assertFalse(media.opens(1))

    def test_a_source_that_nobody_closed_is_closed_all_the_same(self):
        before = len(os.listdir("/proc/self/fd"))
        for _ in range(20):
            self.open_image(bytes(512)).read_at(0, 1)
        self.doCleanups()
        self.setUp()
        self.assertLessEqual(len(os.listdir("/proc/self/fd")), before)

    def test_three_thousand_files_are_delivered_with_few_descriptors(self):
        folder = self.folder / "CALLS"
        folder.mkdir()
        for number in range(3000):
            (folder / f"{number:04}.txt").write_text(f"Otter {number} at Reedmouth weir\n")
        done = subprocess.run(
            [sys.executable, "-I", "-c", FEW_FILES, "run", str(folder), "--job",
             str(self.folder / "job"), "--to", str(self.folder / "bag")],
            capture_output=True, text=True, timeout=300)
        self.assertEqual(done.returncode, 0, done.stdout[-500:] + done.stderr)
        self.assertEqual(sum(1 for p in (self.folder / "bag" / "data").rglob("*.txt")), 3000)

    def test_a_delivery_reads_past_what_the_medium_does_not_give(self):
        photo = camera_jpeg()
        card = self.image(medium([(4096, photo)], 200_000))
        bad = (4096 + len(photo) * 2 // 3) // 4096 * 4096
        real = files.os.preadv

        def failing(fd, targets, offset):
            if offset < bad + 4096 and offset + sum(map(len, targets)) > bad:
                raise OSError(5, "Input/output error")
            return real(fd, targets, offset)

        self.addCleanup(setattr, files.os, "preadv", real)
        for when in ("before", "after"):
            with self.subTest(when):
                files.os.preadv = failing if when == "before" else real
                job, source = job_for_image(self.folder / when, card)
                self.addCleanup(job.close)
                list(run_search(job, source, Plan(), threading.Event()))
                row = next(r for r in job.matching() if r.start == 4096)
                self.assertEqual(row.grade == "whole", when == "after")
                files.os.preadv = failing
                bag = self.folder / f"bag {when}"
                done = list(deliver(job, [row], bag, words_for(job), threading.Event()))[-1]
                files.os.preadv = real
                self.assertEqual((done.files, done.failed), (1, 0))
                self.assertEqual(done.changed, int(when == "after"))
                self.assertEqual(job.rows([row.id])[0].grade, "partial")
                out = next((bag / "data").rglob("*.jpg")).read_bytes()
                at = bad - 4096
                self.assertEqual(out, photo[:at] + bytes(4096) + photo[at + 4096 :])


class VerifyTest(FolderTest):
    def test_a_truncated_image_is_told_and_not_waited_for(self):
        path = self.image(bytes(3 << 20))
        states = ReadMap(3 << 20)
        states.set(0, 3 << 20, State.READ)
        kept = MapFile(Origin(str(path), 3 << 20), states)
        save(kept, path)
        with path.open("r+b") as out:
            out.truncate(1 << 20)
        with self.assertRaises(SourceError) as caught:
            list(verify(path, threading.Event()))
        self.assertEqual(caught.exception.code, "source-shrank")
