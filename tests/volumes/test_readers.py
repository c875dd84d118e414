"""Every reader against volumes of real formatters and drivers, and what is known of them."""

import hashlib
import subprocess
import threading
import unittest

from needlewright.core.checks.grading import Grade
from needlewright.core.delivery.bag import deliver
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.rechecking import decode_all
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.volumes.base import VolumeState
from needlewright.core.volumes.codings import UnpackedSource
from needlewright.core.volumes.finding import find_volumes, open_volume
from needlewright.wording.bag import words_for
from tests.support import FolderTest
from tests.support_volumes import FIXTURES, load
from tests.volumes_fuzz import run as fuzz

# What drivers leave nothing of: a recent kernel clears all but the time in ext2; HFS+'s moves other
# records over removed ones.
LEFT_OF = {"ext2": 0, "hfsplus": 2}


def content(source, entry):
    """The bytes of an entry, wherever its file system has them."""
    if entry.data is not None:
        return entry.data[: entry.size]
    found = UnpackedSource(source, 0, entry.coded) if entry.coded else PiecedSource(
        source, entry.extents)
    return found.read_at(0, entry.size)


def digest(data):
    return hashlib.sha256(data).hexdigest()


class ReaderTest(unittest.TestCase):
    def opened(self, name):
        source, truth = load(name)
        volumes = find_volumes(source).volumes
        self.assertEqual(len(volumes), 1)
        self.assertEqual(volumes[0].facts.kind, truth["file_system"])
        self.assertEqual(volumes[0].facts.state, VolumeState.SOUND)
        return source, truth, open_volume(source, volumes[0])

    def test_live_files_are_complete_and_exact(self):
        for name in FIXTURES:
            with self.subTest(name):
                source, truth, reader = self.opened(name)
                wanted = {f["path"]: f for f in truth["files"] if f["state"] == "live"}
                found = {e.path: e for e in reader.live() if not e.version}
                self.assertEqual(set(found), set(wanted))
                for path, entry in found.items():
                    self.assertEqual(digest(content(source, entry)), wanted[path]["sha256"], path)
                    if wanted[path]["extents"] and entry.data is None and not entry.coded:
                        self.assertEqual([list(e) for e in entry.extents], wanted[path]["extents"])
                    self.assertFalse(entry.removed)
                    self.assertRegex(entry.times.modified.text(), r"^20\d\d-\d\d-\d\dT")
                self.assertEqual(reader.problems, [])

    def test_snapshots_keep_what_was_removed_later(self):
        source, truth, reader = self.opened("btrfs_snapshot")
        older = {e.path: digest(content(source, e)) for e in reader.live() if e.version}
        self.assertEqual(older, {f"before/{f['path']}": f["sha256"] for f in truth["files"]})
        self.assertTrue(all(e.version.startswith("before 20") for e in reader.live() if e.version))

    def test_live_extents_are_in_use(self):
        for name in FIXTURES:
            with self.subTest(name):
                _, _, reader = self.opened(name)
                now = reader.allocation()
                for entry in reader.live():
                    held = sum(n for o, n in entry.extents if o is not None)
                    self.assertEqual(now.used_bytes(entry.extents), held, entry.path)

    def test_removed_files_are_named_and_placed(self):
        for name in FIXTURES:
            with self.subTest(name):
                source, truth, reader = self.opened(name)
                gone = [f for f in truth["files"] if f["state"] == "deleted"]
                places: dict[str, list] = {}
                for entry in reader.removed():
                    self.assertTrue(entry.removed)
                    places.setdefault(entry.path, []).append(entry)
                back = 0
                for file in gone:
                    mine = places.get(file["path"], ())
                    held = [content(source, e) for e in mine if e.data is not None or e.coded]
                    plain = [[list(x) for x in p] for e in mine for p in reader.placements(e)]
                    back += file["extents"] in plain or file["sha256"] in map(digest, held)
                self.assertEqual(back, LEFT_OF.get(name, len(gone)))

    def test_damaged_records_hang_and_break_nothing(self):
        for name in FIXTURES:
            if name != "xfs":  # large; `python -m tests.volumes_fuzz` has its turn at it
                with self.subTest(name):
                    failures, _ = fuzz(name, 12, seed=2)
                    self.assertEqual(failures, 0)


class RecordsTest(FolderTest):
    """The steps over whole media: what is promised is kept."""

    def finds(self, name, steps):
        source, truth = load(name)
        path = source.save(self.folder / f"{name}.img")
        with ImageFile(path) as image:
            events = list(search(image, Plan(steps), threading.Event()))
            found = {}
            for event in events:
                if isinstance(event, Found | Rechecked):
                    found[event.find.path, event.find.start] = event.find
            whole = {}
            for find in found.values():
                if find.grade is Grade.WHOLE and find.content.encoding == "plain":
                    data = PiecedSource(image, find.extents).read_at(0, find.size)
                    whole[find.path] = digest(data)
        return truth, list(found.values()), whole

    def test_removed_files_come_back_whole_under_their_names(self):
        for name in ("fat32", "exfat", "ntfs", "ext4"):
            with self.subTest(name):
                truth, _, whole = self.finds(name, ("records",))
                for file in truth["files"]:
                    if file["media"] and file["extents"]:
                        self.assertEqual(whole.get(file["path"]), file["sha256"], file["path"])

    def test_after_a_quick_format_folders_come_back(self):
        for name in ("fat32_formatted", "exfat_formatted", "ntfs_formatted", "ext4_formatted"):
            with self.subTest(name):
                truth, finds, whole = self.finds(name, ("old-records",))
                # The new file lies where the root, DCIM and the first folder began.
                known = {(f["path"].rpartition("/")[2], f["sha256"]) for f in truth["files"]
                         if f["state"] == "formatted_away" and f["media"]
                         and len(f["extents"]) == 1 and "104BRKFD" not in f["path"]}
                back = {(path.rpartition("/")[2], sha) for path, sha in whole.items()}
                self.assertLessEqual(known, back)
                self.assertTrue(all(f.removed for f in finds))
                for file in truth["files"]:
                    if file["state"].startswith("overwritten"):
                        self.assertNotIn(file["path"], whole)

    def test_nothing_whole_is_another_files(self):
        for name in ("fat12", "ext3", "f2fs", "btrfs"):
            with self.subTest(name):
                truth, _, whole = self.finds(name, ("records", "old-records"))
                known = {f["sha256"] for f in truth["files"]}
                self.assertLessEqual(set(whole.values()), known)


class ContentTest(FolderTest):
    def test_packed_and_resident_files_are_delivered(self):
        source, truth = load("ntfs_packed")
        path = source.save(self.folder / "card.img")
        job, row = job_for_image(self.folder / "job", path)
        self.addCleanup(job.close)
        list(run_search(job, row, Plan(("records",)), threading.Event()))
        rows = job.matching()
        self.assertEqual({r.path for r in rows}, {f["path"] for f in truth["files"]})
        events = deliver(job, rows, self.folder / "bag", words_for(job), threading.Event())
        self.assertTrue(list(events)[-1].finished)
        for file in truth["files"]:
            data = (self.folder / "bag" / "data" / file["path"]).read_bytes()
            self.assertEqual(digest(data), file["sha256"])

    def test_every_frame_on_request_keeps_the_record(self):
        source, _ = load("fat32")
        path = source.save(self.folder / "card.img")
        job, row = job_for_image(self.folder / "job", path)
        self.addCleanup(job.close)
        list(run_search(job, row, Plan(("records",)), threading.Event()))
        photo = next(r for r in job.matching() if r.name == "BF_0201.JPG")
        self.assertTrue(decode_all(job, photo.id, threading.Event()))
        self.assertEqual(job.record(photo.id).row.path, photo.path)


class IndependentTest(FolderTest):
    """What other programs say of the same volumes."""

    def saved(self, name):
        source, _ = load(name)
        return source, source.save(self.folder / f"{name}.img")

    def test_ext_agrees_with_debugfs(self):
        for name in ("ext2", "ext3", "ext4"):
            source, path = self.saved(name)
            reader = open_volume(source, find_volumes(source).volumes[0])
            for entry in reader.live():
                with self.subTest(entry.path):
                    target = self.folder / "out"
                    subprocess.run(["debugfs", "-R", f'dump "/{entry.path}" {target}', str(path)],
                                   check=True, capture_output=True)
                    self.assertEqual(target.read_bytes(), content(source, entry))

    def test_fat_agrees_with_mtools(self):
        source, path = self.saved("fat32")
        reader = open_volume(source, find_volumes(source).volumes[0])
        for entry in reader.live():
            with self.subTest(entry.path):
                told = subprocess.run(["mtype", "-i", str(path), f"::{entry.path}"], check=True,
                                      capture_output=True)
                self.assertEqual(told.stdout, content(source, entry))


if __name__ == "__main__":
    unittest.main()
