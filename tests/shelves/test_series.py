"""Series of folders, raw images, what is found in places, and the day of the loss."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import unittest
from datetime import UTC, datetime
from pathlib import Path

from needlewright.core.codes import When
from needlewright.core.jobs.already import Already
from needlewright.core.jobs.loss import UNKNOWN, Loss
from needlewright.core.jobs.usefulness import ranked, when_made
from needlewright.core.shelves.backups.base import open_backup
from needlewright.core.shelves.backups.finding import find_backups
from needlewright.core.shelves.backups.layout_series import moment_of
from needlewright.core.sources.files import ImageFile
from needlewright.core.volumes.finding import find_volumes
from needlewright.standins.backups import Backed, write_backup
from tests.shelves.support import ShelfTest, contents, files, photo, write_tree

BEFORE = datetime(2031, 5, 19, 21, 30, tzinfo=UTC)
AFTER = datetime(2031, 6, 2, 21, 30, tzinfo=UTC)


def dated(path: Path, day: str) -> Path:
    when = datetime.fromisoformat(day).timestamp()
    for file in path.rglob("*"):
        os.utime(file, (when, when))
    return path


class SeriesTest(ShelfTest):
    def test_days_that_name_folders(self):
        for name, moment in (
                ("2031-05-09", "2031-05-09"), ("20310509", "2031-05-09"),
                ("2031-05-09T0430", "2031-05-09T04:30:00"), ("2031.05.09_04.30.15",
                                                             "2031-05-09T04:30:15"),
                ("@GMT-2031.05.09-04.30.15", "2031-05-09T04:30:15"),
                ("daily-2031-05-09", "2031-05-09"), ("backup 2031-05-09", "2031-05-09"),
                ("2031-13-09", None), ("0009-05-09", None), ("holts", None), ("12345678", None)):
            self.assertEqual(moment_of(name), moment, name)

    def test_full_days_with_hard_links(self):
        first = dated(write_tree(self.folder / "s/2031-05-09", files()), "2031-05-09")
        second = self.folder / "s/2031-05-10"
        shutil.copytree(first, second, copy_function=os.link)
        (second / "DCIM/Camera/FP_0001.jpg").unlink()
        (second / "Notes/holts.txt").unlink()
        (second / "Notes/holts.txt").write_bytes(b"second count\n")
        self.assertEqual(contents(first)[0], files())
        there = {p: d for p, d in files().items() if p != "DCIM/Camera/FP_0001.jpg"}
        self.assertEqual(contents(second)[0], there | {"Notes/holts.txt": b"second count\n"})
        with self.shelf(f"backup:{self.folder / 's'}") as shelf:
            older = {one.entry.path: one.older for one in shelf.offered() if one.older}
        self.assertEqual(older, {"DCIM/Camera/FP_0001.jpg": "2031-05-09",
                                 "Notes/holts.txt": "2031-05-09"})

    def test_only_what_had_changed(self):
        every = files()
        days = ("2031-05-09", "2031-05-10", "2031-05-11")
        dated(write_tree(self.folder / f"s/{days[0]}", every), days[0])
        dated(write_tree(self.folder / f"s/{days[1]}", {"Notes/holts.txt": b"second\n"}), days[1])
        dated(write_tree(self.folder / f"s/{days[2]}", {"new.txt": b"third\n"}), days[2])
        # The state of the second day: what it changed, and all from before.
        backup = open_backup(self.folder / f"s/{days[1]}")
        told = {}
        for item in backup.items(lambda: None):
            told.setdefault(item.path, b"".join(backup.content(item, 0)))
        self.assertEqual(told, every | {"Notes/holts.txt": b"second\n"})
        self.assertEqual(backup.facts.notes, ("backup-changes-only",))

    def test_a_raw_image_of_a_storage(self):
        image = self.folder / "phone.img"
        image.write_bytes(b"")
        os.truncate(image, 8 << 20)
        subprocess.run(["mkfs.vfat", "-n", "FIELD", image], check=True, stdout=subprocess.DEVNULL)
        tree = write_tree(self.folder / "tree", {p: d for p, d in files().items() if d})
        for name in ("DCIM", "Notes"):
            subprocess.run(["mcopy", "-s", "-i", image, tree / name, "::"], check=True)
        subprocess.run(["mdel", "-i", image, "::DCIM/Camera/FP_0003.jpg"], check=True)
        found, flaws = contents(image)
        self.assertEqual(flaws, {})
        self.assertEqual(found, {p: d for p, d in files().items()
                                 if d and "FP_0003" not in p})
        self.assertEqual(open_backup(image).facts.layout, "raw")


class OlderStatesTest(ShelfTest):
    def test_shadow_storage_is_told_and_not_read(self):
        image = self.folder / "drive.img"
        image.write_bytes(b"")
        os.truncate(image, 16 << 20)
        subprocess.run(["mkfs.ntfs", "-F", "-q", "-f", image], check=True,
                       stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for there in (False, True):
            if there:
                with image.open("r+b") as file:
                    file.seek(0x1E00)
                    file.write(bytes.fromhex("6b87083876c1484eb7ae04046e6cc752"))
            with ImageFile(image) as source:
                (volume,) = find_volumes(source).volumes
            self.assertEqual("ntfs-shadow" in volume.facts.limits, there)


class FindingTest(ShelfTest):
    def backups(self) -> Path:
        place = self.folder / "places"
        photos = [Backed(f"DCIM/FP_{n}.jpg", photo(n), BEFORE) for n in range(4)]
        write_backup(place / "deep/er/before", "Reedbank F2", BEFORE, photos)
        write_backup(place / "after", "Reedbank F2", AFTER, photos[:2])
        write_backup(place / "sealed", "Reedbank F2", BEFORE, photos, "reed")
        dated(write_tree(place / "share/.zfs/snapshot/daily-2031-05-18", files(1)), "2031-05-18")
        dated(write_tree(place / "share/.zfs/snapshot/daily-2031-06-18", files(1)), "2031-06-18")
        for day in ("2031-05-01", "2031-05-02"):  # pictures by day are no series of backups
            write_tree(place / f"by day/{day}", {f"FP_{day[-2:]}.jpg": photo(1)})
        dated(write_tree(place / "card copy", {"DCIM/FP_9.jpg": photo(9)}), "2031-05-15")
        (place / "no backup").mkdir()
        (place / "no backup/letter.zip.txt").write_text("no")
        (place / "loop").symlink_to(place)
        return place

    def test_what_lies_below_is_found_once(self):
        found = list(find_backups([self.backups(), self.folder / "places/after"],
                                  threading.Event()))
        self.assertEqual(sorted(one.path.name for one in found), [
            "after", "before", "card copy", "daily-2031-05-18", "daily-2031-06-18", "sealed"])
        locked = next(one for one in found if one.path.name == "sealed")
        assert locked.problem is not None and locked.facts is not None
        self.assertEqual((locked.problem.code, locked.facts.encrypted, locked.offered),
                         ("secret-wanted", True, []))

    def test_a_folder_of_the_job_is_looked_through_and_none_itself(self):
        place = self.backups() / "deep"
        job = self.folder / "job of a folder"
        self.command("search", place, "--job", job)
        status, out, errors = self.command("backups", "--job", job)
        self.assertEqual((status, out.count("backup:")), (0, 2), out)
        self.assertIn("er/before", out)
        plain = write_tree(self.folder / "plain", {"a.txt": b"reeds"})
        self.command("search", plain, "--job", self.folder / "job of none")
        status, _, errors = self.command("backups", "--job", self.folder / "job of none")
        self.assertEqual(status, 1)
        self.assertIn("no backup", errors)

    def test_odd_names_stay_in_their_line(self):
        place = self.folder / "a\x1b[31m\n\udcff"
        place.mkdir()
        shutil.make_archive(str(place / "b\nc"), "zip", write_tree(self.folder / "t", files(1)))
        status, out, errors = self.command("backups", place)
        self.assertEqual(status, 0)
        self.assertEqual([c for c in out + errors if ord(c) < 32 and c != "\n"], [])
        self.assertEqual(len(errors.splitlines()), 1)
        self.assertIn("b<U+000A>c.zip", out)
        self.assertIn("1 photo, 2 documents", out)
        _, _, errors = self.command("inside", f"backup:{place / 'none'}")
        self.assertEqual(len(errors.splitlines()), 1)

    def test_the_most_useful_first(self):
        found = list(find_backups([self.backups()], threading.Event()))
        loss = Loss("2031-05-20")
        there = Already(lost={"fp_3.jpg": set(), "fp_9.jpg": {"2031-05-15"}, "fp_0.jpg": {
            "2020-01-01"}}, whole={("fp_1.jpg", len(photo(1)))})
        order = [(one.path.name, use.covers, str(use.when)) for one, use in ranked(
            found, loss, there)]
        self.assertEqual(set(order[:2]), {("before", 1, "before"), ("card copy", 1, "before")})
        self.assertEqual([o[2] for o in order][-2:], ["after", "after"])
        use = next(use for one, use in ranked(found, loss, there) if one.path.name == "before")
        self.assertEqual((use.adds, use.lost), (3, 3))

    def test_days_around_the_loss(self):
        for made, when in (("2031-05-19T23:59:00Z", When.BEFORE), ("2031-05-20", When.SAME_DAY),
                           ("2031-05-21", When.AFTER), (None, When.UNKNOWN)):
            self.assertEqual(when_made(made, Loss("2031-05-20")), when)
        self.assertEqual(when_made("2031-05-19", UNKNOWN), When.UNKNOWN)

    def test_commands(self):
        place = self.backups()
        job = self.folder / "job"
        self.brought(f"backup:{place / 'after'}")
        number = self.finds()["DCIM/FP_1.jpg"].id
        for arguments, status, part in (
                (("loss", "--job", job), 0, "not known when"),
                (("loss", "--job", job, "--after", number), 0, "not before 1"),
                (("loss", "--job", job, "--day", "2031-05-20"), 0, "on 20 May 2031"),
                (("loss", "--job", job, "--after", 999), 2, "999"),
                (("backups", place, "--job", job), 0, "2 files that the job does not have"),
                (("backups", place, "--job", job), 0, "never restored"),
                (("backups", place / "no backup/letter.zip.txt"), 1, "no backup"),
                (("backups",), 2, "Name a place"),
                (("inside", f"backup:{place / 'deep/er/before'}", "--job", job), 0,
                 "2 files that the job does not have; 4 files dated up to the day of the loss"),
                (("backups", place / "nowhere"), 1, "There is no file")):
            got, out, errors = self.command(*arguments)
            self.assertEqual(got, status, (arguments, errors))
            self.assertIn(part, out + errors, arguments)
        _, out, _ = self.command("backups", place, "--loss", "2031-05-20")
        self.assertLess(out.index("backup:" + str(place / "deep")), out.index("/after\n"))
        (self.folder / "secret").write_text("reed\n")
        _, out, _ = self.command("backups", place, "--json", "--secret-file",
                                 self.folder / "secret")
        self.assertNotIn("is locked", out)


if __name__ == "__main__":
    unittest.main()
