"""Backups in file systems of images of drives, made by mkfs and read as they are."""

from __future__ import annotations

import json
import os
import shutil
import struct
import subprocess
import threading
import unittest
from datetime import UTC, datetime
from pathlib import Path

from needlewright.core.imaging import map_saving
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.usefulness import places_of
from needlewright.core.shelves.backups import trees
from needlewright.core.shelves.backups.base import open_backup
from needlewright.core.shelves.backups.finding import find_backups
from needlewright.core.shelves.backups.spots import image_of, spot_at
from needlewright.core.shelves.open_backup import on_disk
from needlewright.core.sources import map_file
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.registry import lies_at
from needlewright.core.stopping import Interrupted
from needlewright.standins.backups import Backed, write_backup
from tests.shelves.support import ShelfTest, contents, files, photo, write_tree

WHEN = datetime(2031, 5, 19, 21, 30, tzinfo=UTC)


class InImagesTest(ShelfTest):
    def laid(self) -> Path:
        """Backups of every layout in a folder, and what is none."""
        top = self.folder / "drive"
        held = [Backed(path, data, WHEN) for path, data in files().items()]
        write_backup(top / "Backups/phone", "Reedbank F2", WHEN, held)
        write_backup(top / "Backups/sealed", "Reedbank F2", WHEN, held, "reed")
        tree = write_tree(self.folder / "tree", files())
        shutil.make_archive(str(top / "Old/field"), "zip", tree)
        shutil.make_archive(str(top / "Old/field"), "gztar", tree)
        for day in ("2031-05-18", "2031-05-19"):
            write_tree(top / f"daily/{day}", files(2))
        os.link(top / "daily/2031-05-19/Notes/holts.txt", top / "daily/2031-05-19/again.txt")
        write_tree(top, {"DCIM/100/FP_0001.jpg": photo(1)})
        return top

    def ext(self, top: Path, name: str = "drive.img", size: int = 16) -> Path:
        image = self.folder / name
        image.write_bytes(b"")
        os.truncate(image, size << 20)
        subprocess.run(["mkfs.ext4", "-q", "-d", top, image], check=True)
        return image

    def test_every_layout_as_it_is_on_a_disk(self):
        top = self.laid()
        image = self.ext(top)
        inner = ["Backups/phone", "Backups/sealed", "Old/field.tar.gz", "Old/field.zip",
                 "daily/2031-05-18", "daily/2031-05-19"]
        before = image.read_bytes()
        found = list(find_backups([image], threading.Event()))
        self.assertEqual([str(one.path.relative_to(image)) for one in found],
                         [".", *inner])  # the image itself, then what lies within
        self.asked(*["reed"] * 4)
        for name in inner:
            self.assertEqual(contents(image / name), contents(top / name), name)
            here, there = (open_backup(path).facts for path in (image / name, top / name))
            self.assertEqual((here.layout, here.device, here.encrypted),
                             (there.layout, there.device, there.encrypted))
        self.assertEqual(image.read_bytes(), before)
        self.assertEqual(on_disk(image / "Old/field.zip"), image)
        self.assertEqual(lies_at(f"backup:{image}/Old/field.zip"), str(image))

    def test_an_image_of_the_job_is_looked_into_and_none_itself(self):
        image = self.ext(self.laid())
        job, _ = job_for_image(self.folder / "job", image)
        with job:
            places = places_of(job)
        self.assertEqual(places, [image])
        status, out, errors = self.command("backups", "--job", self.folder / "job", "--json")
        self.assertEqual(status, 0, errors)
        listed = {Path(one["source"]).name for one in json.loads(out)}
        self.assertEqual(listed, {"phone", "sealed", "field.tar.gz", "field.zip", "2031-05-18",
                                  "2031-05-19"})
        spec = f"backup:{image}/Backups/phone"
        status, _, errors = self.command("run", spec, "--job", self.folder / "job", "--to",
                                         self.folder / "bag")
        self.assertEqual(status, 0, errors)
        with Job(self.folder / "job", read_only=True) as job:
            self.assertEqual({row.name: row.grade for row in job.matching()
                              if row.name and row.name.startswith("FP_")},
                             {f"FP_{n:04}.jpg": "whole" for n in range(4)})

    def test_several_volumes_have_names(self):
        parts = []
        for label in ("FIELD", "FIELD", "CARD"):
            part = self.folder / f"{len(parts)}.fat"
            part.write_bytes(b"")
            os.truncate(part, 2 << 20)
            subprocess.run(["mkfs.vfat", "-n", label, part], check=True,
                           stdout=subprocess.DEVNULL)
            tree = self.folder / f"tree {len(parts)}"
            shutil.make_archive(str(tree / f"kept {len(parts)}"), "tar",
                                write_tree(self.folder / "t", files(1)))
            subprocess.run(["mcopy", "-s", "-i", part, *tree.iterdir(), "::"], check=True)
            parts.append(part.read_bytes())
        table = b"".join(struct.pack("<B3sB3sII", 0, b"", 6, b"", 2048 + 4096 * n, 4096)
                         for n in range(3))
        image = self.folder / "several.img"
        image.write_bytes((bytes(446) + table).ljust(510, b"\0") + b"\x55\xaa" + bytes(
            (1 << 20) - 512) + b"".join(parts))
        found = list(find_backups([image], threading.Event()))
        self.assertEqual([str(one.path.relative_to(image)) for one in found[1:]],
                         ["CARD/kept 2.tar", "FIELD/kept 0.tar", "volume 2/kept 1.tar"])
        self.assertEqual(contents(found[1].path), contents(self.folder / "tree 2/kept 2.tar"))

    def test_what_is_not_there_or_damaged(self):
        image = self.ext(self.laid())
        with self.shelf(f"backup:{image}/Old/none.zip") as shelf, self.assertRaisesRegex(
                Exception, "source-missing"):
            shelf.offered()
        status, _, errors = self.command("backups", image / "Old/none")
        self.assertEqual((status, len(errors.splitlines())), (1, 1))
        status, _, errors = self.command("run", f"backup:{image}/Old/none", "--job",
                                         self.folder / "no job", "--to", self.folder / "no bag")
        self.assertEqual((status, len(errors.splitlines())), (1, 1))
        self.assertFalse((self.folder / "no job").exists())
        plain = self.folder / "letter.txt"
        plain.write_text("no image")
        for path in (plain / "within", self.folder / "none/within"):
            status, _, errors = self.command("inside", f"backup:{path}")
            self.assertEqual((status, len(errors.splitlines())), (1, 1), errors)
        data = bytearray(image.read_bytes())
        whole = contents(image / "Old/field.zip")
        for seed in range(40):  # somewhere in its tables, or in the files themselves
            at = (seed * 7919 * 4096) % len(data)
            broken = self.folder / f"broken {seed}.img"
            broken.write_bytes(data[:at] + os.urandom(8192) + data[at + 8192 :])
            for one in find_backups([broken], threading.Event()):
                self.assertTrue(one.facts is not None or one.problem is not None)
        self.assertEqual(contents(image / "Old/field.zip"), whole)

    def test_what_a_failing_drive_did_not_give_is_never_sound(self):
        """Zeros stand for it in the image, and the read map tells where."""
        top = self.folder / "kept"
        write_tree(top / "daily/2031-05-18", files(2))
        write_tree(top / "daily/2031-05-19", files(2))
        shutil.make_archive(str(top / "field"), "tar", write_tree(self.folder / "t", files()))
        shutil.make_archive(str(top / "field"), "gztar", self.folder / "t")
        image = self.ext(top)
        data, states = bytearray(image.read_bytes()), ReadMap(16 << 20)
        states.set(0, 16 << 20, State.READ)
        picture, at, hurt = photo(1), 0, 0
        while (at := data.find(picture[:4000], at)) >= 0:  # in both days and in the plain archive
            middle = (at + len(picture) // 2) & ~511
            data[middle : middle + 512] = bytes(512)
            states.set(middle, middle + 512, State.UNREADABLE)
            at, hurt = at + 1, hurt + 1
        self.assertGreaterEqual(hurt, 2)
        packed = (top / "field.tar.gz").read_bytes()
        middle = (data.find(packed[:600]) + len(packed) // 2) & ~511
        states.set(middle, middle + 512, State.UNREADABLE)
        image.write_bytes(data)
        map_saving.save(map_file.MapFile(map_file.Origin("", 16 << 20), states), image)
        for name in ("daily/2031-05-18", "field.tar"):
            found, flaws = contents(image / name)
            (path,) = flaws
            self.assertEqual((path.removeprefix("./"), flaws[path]),
                             ("DCIM/Camera/FP_0001.jpg", "backup-unread"), name)
            for other in set(found) - {path}:
                self.assertEqual(found[other], files()[other.removeprefix("./")])
        self.assertEqual(set(contents(image / "field.tar.gz")[1].values()), {"backup-unread"})
        _, flaws = contents(image)  # all of it as one
        self.assertEqual({path for path, code in flaws.items() if code == "backup-unread"}, {
            f"daily/2031-05-{day}/DCIM/Camera/FP_0001.jpg" for day in (18, 19)} | {
            "field.tar", "field.tar.gz"})

    def test_read_once_and_stopped(self):
        image = self.ext(self.laid())

        def stop() -> None:
            raise Interrupted

        many = write_tree(self.folder / "many", {f"a/{n}.txt": b"x" for n in range(600)})
        with self.assertRaises(Interrupted):
            spot_at(self.ext(many, "many.img") / "a/1.txt", stop)
        first, again = spot_at(image / "Old"), spot_at(image / "Backups")
        self.assertIs(first._tree, again._tree)
        self.assertEqual((first.parent.parent.name, image_of(image), image_of(image / "x")),
                         ("drive.img", None, image))
        self.assertEqual((first / "field.zip").head(4), b"PK\3\4")
        with self.assertRaises(FileNotFoundError):
            (first / "none").scan()
        with self.assertRaises(FileNotFoundError):
            (first / "none").status()
        folders: trees.Folders = {"": {}}
        for path in ("a/b", "a/b/c", "../up", "a//b", "x/", "", "a/b/c/d", "/".join("y" * 90)):
            trees._add(folders, path, None, 0)  # type: ignore[arg-type]
        self.assertEqual(sorted(folders), ["", "a", "x"])


if __name__ == "__main__":
    unittest.main()
