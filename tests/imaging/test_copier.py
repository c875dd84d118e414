"""Copies through the real reader process and real sockets, compared with the medium itself."""

import hashlib
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from unittest import mock

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError, SourceError
from needlewright.core.imaging.copier import CopyPlan, Effort, copy
from needlewright.core.imaging.events import (
    Copied,
    CopyEnding,
    Copying,
    Pause,
    Trouble,
    Waiting,
    WentOn,
)
from needlewright.core.imaging.image_writer import ImageWriter
from needlewright.core.imaging.planner import Wish
from needlewright.core.imaging.reader import ReaderProcess
from needlewright.core.imaging.verify import verify
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.copying import run_copy
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources import map_file
from needlewright.core.sources.nbd import exports
from needlewright.core.sources.open_nbd import address_of
from needlewright.core.sources.read_map import State
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Span
from needlewright.standins.faults import Faults, drowned
from needlewright.standins.start import CardReader
from tests.support import CLUSTER, FolderTest, camera_jpeg, finds_on, medium, noise

SIZE = 8 << 20
CONTENT = medium([(0, noise(3 << 20)), (5 << 20, noise(2 << 20, 9))], SIZE - 1000)


def ended(events) -> Copied:
    return [e for e in events if isinstance(e, Copied)][-1]


class CopyCase(FolderTest):
    def setUp(self):
        super().setUp()
        self.source = self.image(CONTENT, "medium.img")
        self.copied = self.folder / "images" / "copy.img"

    def copy(self, spec=None, plan=None, stop=None):
        return list(copy(str(spec or self.source), self.copied, plan or CopyPlan(),
                         stop or threading.Event()))

    def stopped_at_once(self, spec=None) -> Copied:
        """A copy that is stopped at its first event."""
        stop, events = threading.Event(), []
        for event in copy(str(spec or self.source), self.copied, CopyPlan(), stop):
            events.append(event)
            stop.set()
        return ended(events)

    def reader(self, faults, image=None):
        made = CardReader(image or self.source, faults)
        self.addCleanup(made.close)
        return made

    def check_against_truth(self, faults: Faults, content: bytes = CONTENT) -> None:
        """Exactly the bad sectors are unreadable and zero; all else is the medium's."""
        states = map_file.load(self.copied).states
        data = self.copied.read_bytes()
        self.assertEqual(len(data), len(content))
        lost = bytearray(len(content))
        for start, length in faults.bad:
            lost[start : min(start + length, len(lost))] = b"\1" * (
                min(start + length, len(lost)) - start)
        want = bytes(0 if gone else byte for byte, gone in zip(content, lost))
        self.assertEqual(data, want)
        self.assertEqual(states.total(State.UNREADABLE), sum(lost))
        self.assertEqual(states.total(State.PENDING), 0)


class HealthyTest(CopyCase):
    def test_the_image_its_hashes_and_its_holes(self):
        last = ended(self.copy())
        self.assertEqual((last.ending, last.unreadable), (CopyEnding.DONE, 0))
        self.assertEqual(self.copied.read_bytes(), CONTENT)
        digest = hashlib.sha256(CONTENT).hexdigest()
        self.assertEqual(last.sha256, digest)
        sidecar = self.copied.with_name("copy.img.sha256").read_text(encoding="utf-8")
        self.assertEqual(sidecar, f"{digest}  copy.img\n")
        kept = map_file.load(self.copied)
        self.assertEqual(kept.chunks[0], hashlib.blake2b(
            CONTENT[: kept.chunk_bytes]).hexdigest())
        self.assertLess(os.stat(self.copied).st_blocks * 512, len(CONTENT) - (1 << 20))
        self.assertEqual(self.copy()[-1].sha256, digest, "done again, it stays what it is")

    def test_over_a_socket_and_stopped_at_any_event(self):
        reader = self.reader(Faults(slow=[(0, SIZE, 0.05)]))
        self.assertEqual(exports(address_of(reader.url)), ["card"])
        endings = []
        for _ in range(20):
            endings.append(self.stopped_at_once(reader.url).ending)
            if endings[-1] is CopyEnding.DONE:
                break
        self.assertEqual(endings[0], CopyEnding.STOPPED)
        self.assertEqual(self.copy(reader.url)[-1].sha256, hashlib.sha256(CONTENT).hexdigest())
        self.assertEqual(self.copied.read_bytes(), CONTENT)

    def test_an_area_and_what_goes_first(self):
        reader = self.reader(Faults())
        plan = CopyPlan(Span(1 << 20, 6 << 20), (Wish(5 << 20, 6 << 20, 9.0),),
                        Effort(total_seconds=1e6))
        self.copy(reader.url, plan)
        states = map_file.load(self.copied).states
        self.assertEqual([(s.start, s.stop) for s, _ in states.ranges(State.READ)],
                         [(1 << 20, 6 << 20)])
        self.assertEqual(self.copied.read_bytes()[1 << 20 : 6 << 20], CONTENT[1 << 20 : 6 << 20])

    def test_an_image_that_changed_is_found_out(self):
        self.copy()
        *_, found = verify(self.copied, threading.Event(), str(self.source))
        self.assertTrue(found.agrees and found.unknown == 0)
        data = bytearray(self.copied.read_bytes())
        data[5_500_000] ^= 1
        self.copied.write_bytes(data)
        *_, found = verify(self.copied, threading.Event())
        self.assertEqual((found.differing, found.whole), (((0, len(CONTENT)),), False))
        with self.assertRaises(SourceError):
            list(verify(self.source, threading.Event()))

    def test_a_file_system_with_small_files_gets_pieces(self):
        writer = ImageWriter(self.folder / "pieces.img", 100_000, 30_000)
        for at in range(0, 100_000, 7_000):
            writer.write(at, memoryview(CONTENT)[at : min(at + 7_000, 100_000)], True)
        writer.close()
        self.assertEqual([p.name for p in writer.paths],
                         [f"pieces.img.{n:03d}" for n in range(1, 5)])
        with open_source(str(writer.first)) as whole:
            self.assertEqual(whole.read_at(0, 200_000), CONTENT[:100_000])
        writer.paths[1].unlink()
        with self.assertRaises(SourceError) as caught:
            open_source(str(writer.first))
        self.assertIn("pieces.img.002", caught.exception.values["path"])


class TroubleTest(CopyCase):
    def test_the_drowned_card(self):
        """Weak sectors come back, a disconnect under another name is waited for, few reads fail."""
        content = noise(24 << 20, 4)
        card = self.image(content, "card.img")
        faults = drowned(len(content), time_scale=400)
        faults.leaves_after, faults.away_s = 60, 400.0  # a second, so that a busy machine sees it
        reader = self.reader(faults, card)
        events = self.copy(reader.url)
        self.assertEqual([type(e) for e in events if isinstance(e, Waiting | WentOn)],
                         [Waiting, WentOn])
        self.check_against_truth(faults, content)
        self.assertEqual(ended(events).sha256,
                         hashlib.sha256(self.copied.read_bytes()).hexdigest())
        bad = {s for a, n in faults.bad for s in range(a // 512, (a + n) // 512)}
        runs = sum(1 for s in bad if s - 1 not in bad)
        failing = sum(isinstance(e, Trouble) for e in events)
        self.assertLess(failing, 3 * len(bad) + 12 * runs + 3 * len(faults.weak))

    def test_a_read_that_hangs_is_left_alone(self):
        reader = self.reader(Faults(hangs=[(4 << 20, 512)]))
        plan = CopyPlan(effort=Effort(tries=1, read_seconds=0.3))
        events, stop = [], threading.Event()
        for event in copy(reader.url, self.copied, plan, stop):
            events.append(event)
            if sum(isinstance(e, Trouble) for e in events) >= 2:
                stop.set()
        self.assertGreater(ended(events).read, 3 << 20)
        self.assertEqual({e.reason for e in events if isinstance(e, Trouble)},
                         {"no answer in time"})

    def test_a_hanging_reader_keeps_others_away_until_told_otherwise(self):
        events, never_mind, stop = [], threading.Event(), threading.Event()
        with mock.patch.object(ReaderProcess, "ended", property(lambda self: False)):
            reader = self.reader(Faults(hangs=[(4 << 20, 512)]))
            plan = CopyPlan(effort=Effort(tries=1, read_seconds=0.3))
            for event in copy(reader.url, self.copied, plan, stop, never_mind):
                events.append(event)
                if isinstance(event, Waiting):
                    self.assertEqual(event.reason, Pause.HANGS)
                    never_mind.set()
                if isinstance(event, WentOn):
                    stop.set()
        self.assertIn(WentOn, [type(e) for e in events])

    def test_another_medium_is_never_read_into_an_image(self):
        self.assertNotEqual(self.stopped_at_once().ending, CopyEnding.DONE)
        before = self.copied.read_bytes()
        for other in (noise(len(CONTENT), 77), CONTENT + bytes(512)):
            with self.assertRaises(SourceError) as caught:
                self.copy(self.image(other, "other.img"))
            self.assertEqual(caught.exception.code, "other-medium")
        self.assertEqual(self.copied.read_bytes(), before)

    def test_a_destination_that_fills_pauses_before_it_is_full(self):
        with mock.patch("shutil.disk_usage", return_value=mock.Mock(free=1 << 20)):
            self.assertEqual(self.copy()[-1].ending, CopyEnding.FULL)
        self.assertEqual(self.copy()[-1].ending, CopyEnding.DONE)
        self.assertEqual(self.copied.read_bytes(), CONTENT)

    def test_maps_that_cannot_be_believed(self):
        self.stopped_at_once()
        path = map_file.map_path(self.copied)
        text = path.read_text(encoding="utf-8")
        path.write_text(text.replace('"read"', '"unreadable"'), encoding="utf-8")
        self.assertIsNotNone(map_file.load(self.copied), "the one before serves")
        path.with_name("copy.img.map.before.json").write_text("{}", encoding="utf-8")
        with self.assertRaises(SourceError) as caught:
            map_file.load(self.copied)
        self.assertEqual(caught.exception.code, "map-damaged")
        with open_source(str(self.copied)) as image:  # it can still be looked at
            self.assertEqual(image.size, len(CONTENT))
        self.assertEqual(self.copy()[-1].ending, CopyEnding.DONE, "made anew")
        self.assertEqual(self.copied.read_bytes(), CONTENT)
        for stranger in (path, path.with_name("copy.img.map.before.json")):
            stranger.unlink()
        with self.assertRaises(JobError) as refused:
            self.copy()
        self.assertEqual(refused.exception.code, "image-not-ours")

    def test_what_agrees_with_its_hashes_is_not_read_again(self):
        content = noise(34 << 20, 6)
        card = self.image(content, "card.img")
        self.copy(card)
        data = bytearray(content)
        data[20 << 20] ^= 1  # in the second of three chunks
        self.copied.write_bytes(data)
        for path in (map_file.map_path(self.copied),
                     self.copied.with_name("copy.img.map.before.json")):
            path.write_text("{", encoding="utf-8")
        reader = self.reader(Faults(name="card.img"), card)
        events = self.copy(reader.url)
        self.assertEqual(self.copied.read_bytes(), content)
        first = next(e for e in events if isinstance(e, Copying))
        self.assertGreaterEqual(first.read, 18 << 20)
        self.assertEqual(ended(events).sha256, hashlib.sha256(content).hexdigest())

    def test_only_one_program_writes_an_image(self):
        events = copy(str(self.source), self.copied, CopyPlan(), threading.Event())
        next(events)
        with self.assertRaises(JobError) as caught:
            self.copy()
        self.assertEqual(caught.exception.code, "copy-locked")
        self.assertEqual(list(events)[-1].ending, CopyEnding.DONE)

    def test_killed_at_any_moment_it_goes_on(self):
        faults = Faults(bad=[((1 << 20) + 5120, 1024)], slow=[(0, SIZE, 0.15)], fail_s=0.01)
        reader = self.reader(faults)
        rng = random.Random(5)
        command = [sys.executable, "-m", "needlewright", "image", reader.url, "--job",
                   str(self.folder / "job")]
        for _ in range(4):
            child = subprocess.Popen(command, stdout=subprocess.DEVNULL,
                                     stderr=subprocess.DEVNULL)
            time.sleep(rng.uniform(0.4, 1.4))  # not for waiting: the moment of death
            child.send_signal(signal.SIGKILL)
            child.wait()
        done = subprocess.run(command, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.copied = Path(done.stdout.splitlines()[-1])
        self.check_against_truth(faults)

    def test_finds_know_what_is_missing_from_them(self):
        photo = camera_jpeg(1)
        at = 2 * len(photo) // 3 // 512 * 512
        card = self.image(medium([(CLUSTER, photo)], 1_000_000), "card.img")
        reader = self.reader(Faults(bad=[(CLUSTER + at, 512)], fail_s=0.001), card)
        with Job(self.folder / "job", create=True) as job:
            events = list(run_copy(job, reader.url, CopyPlan(), threading.Event()))
            self.assertEqual(job.sources()[0].path, events[-1].image)
        with open_source(events[-1].image) as image:
            found = finds_on(image)
        self.assertEqual(found[0].grade, Grade.PARTIAL)
        names = json.dumps([c.code for c in found[0].checks])
        self.assertTrue("sectors-lost" in names or found[0].size <= at, names)


class SearchMeanwhileTest(CopyCase):
    def test_a_search_of_half_a_copy_picks_up_the_rest_later(self):
        photo = camera_jpeg(1)
        places = [CLUSTER, 4 << 20, 7 << 20]
        card = self.image(medium([(at, photo) for at in places], 8 << 20), "card.img")
        reader = self.reader(Faults(), card)
        half = places[1] + len(photo) // 2 // CLUSTER * CLUSTER
        with Job(self.folder / "job", create=True) as job:
            list(run_copy(job, reader.url, CopyPlan(Span(0, half)), threading.Event()))
            row = job.sources()[0]
            list(run_search(job, row, Plan(), threading.Event()))
            grades = [r.grade for r in job.matching()]
            self.assertEqual(grades, ["whole", "partial", "remnant"])
            damaged = job.matching()[1].id
            job.reviews.put_in_tray([damaged])
            self.assertEqual((job.searched.steps()[0].ending, job.searched.steps()[0].checkpoint),
                             ("stopped", places[1]), "the damaged one is to be searched again")
            list(run_copy(job, reader.url, CopyPlan(), threading.Event()))
            list(run_search(job, row, Plan(), threading.Event()))
            rows = job.matching()
            self.assertEqual([(r.start, r.size, r.grade) for r in rows],
                             [(at, len(photo), "whole") for at in places])
            self.assertEqual((rows[1].id, rows[1].in_tray), (damaged, True))
            self.assertEqual([(t.grade, t.finds) for t in job.tally()], [("whole", 3)])
            self.assertEqual(job.searched.steps()[0].ending, "done")
            self.assertTrue(all(job.thumbnail(r.id) for r in rows))


class RealServerTest(CopyCase):
    def test_a_server_that_is_not_ours(self):
        """qemu-nbd, where it is installed, serves the same bytes."""
        import shutil

        if shutil.which("qemu-nbd") is None:
            self.skipTest("qemu-nbd is not installed")
        path = self.folder / "qemu.sock"
        server = subprocess.Popen(
            ["qemu-nbd", "--read-only", "--format=raw", "--export-name=card", "--persistent",
             f"--socket={path}", str(self.source)])
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        until = time.monotonic() + 20
        while not path.exists() and time.monotonic() < until:
            os.sched_yield()
        url = f"nbd+unix:///card?socket={path}"
        self.copy(url)
        size = map_file.load(self.copied).states.size
        self.assertEqual(self.copied.read_bytes()[: len(CONTENT)], CONTENT)
        self.assertGreaterEqual(size, len(CONTENT))
        with self.assertRaises(SourceError):
            open_source(f"nbd+unix:///other?socket={path}")
