"""Every older job file opens, with all that it held, in every table."""

from __future__ import annotations

import json
import os
import sqlite3
import unittest

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Inline, Packed, ShelfObject, Stretches
from needlewright.core.errors import JobError
from needlewright.core.finds import INSIDE, Find, Record
from needlewright.core.jobfile.coverage import CoverageRow
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.labels import MISSING
from needlewright.core.jobfile.migrations import APPLICATION_ID, MIGRATIONS
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.walks import Facts, Kind
from tests.support import FolderTest

SOURCE = (1, "stream card.img", "/cards/stream card.img", 1 << 30, 512, "ab" * 32, 1.5)
CHECK = (1, 0, "structure", "pass", "structure-ok", '{"parts": 3}', 0)
V1_FIND = ("INSERT INTO finds (id, source, kind, format, extension, start, size, grade, share,"
           " name, path, removed, width, height, taken, camera, orientation, damage_row, found_by,"
           " extra, parts, preview_start, preview_stop, has_thumbnail)"
           " VALUES (?, 1, 'photo', 'jpeg', 'jpg', ?, ?, ?, ?, ?, ?, ?, 640, 480,"
           " '2031-05-12T05:58:12', 'Brackenfield TC-4', 6, 12, 'signatures', '{\"a\": 1}',"
           " '[[\"EXIF\", 4096, 5000]]', 4100, 4200, 1)")


def begun(folder, version):
    """An empty job file of version `version`, open."""
    folder.mkdir(parents=True)
    store = sqlite3.connect(folder / DATABASE)
    for number in range(version):
        store.executescript(MIGRATIONS[number])
    store.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    store.execute(f"PRAGMA user_version = {version}")
    return store


def written(folder, version):
    """A job file as version `version` wrote it, every table of that version filled."""
    store = begun(folder, version)
    store.execute("INSERT INTO meta VALUES ('title', 'otter survey')")
    store.execute("INSERT INTO sources (id, name, path, size, sector_size, sha256, added)"
                  " VALUES (?, ?, ?, ?, ?, ?, ?)", SOURCE)
    if version < 4:
        store.execute(V1_FIND, (1, 4096, 90_000, "partial", 0.4, None, None, None))
        store.execute(V1_FIND, (7, 819_200, 5000, "whole", 1.0, "a.jpg", "DCIM/a.jpg", 1))
        store.execute("INSERT INTO tray VALUES (7, 99.5)")
    store.execute("INSERT INTO extents VALUES (1, 0, 4096, 50000), (1, 1, NULL, 10000),"
                  " (1, 2, 90112, 30000), (7, 0, 819200, 5000)")
    store.execute("INSERT INTO checks VALUES (?, ?, ?, ?, ?, ?, ?)", CHECK)
    store.execute("INSERT INTO steps (source, step, kinds, area_start, area_stop, checkpoint,"
                  " ending, changed) VALUES (1, 'signatures', 'photo', 0, 1000, 500,"
                  " 'stopped', 3.5)")
    store.execute("INSERT INTO tally VALUES (1, 'signatures', 'photo', 'whole', 1, 5000),"
                  " (1, 'signatures', 'photo', 'partial', 1, 90000)")
    store.execute("INSERT INTO log (at, code, detail) VALUES (2.5, 'job-made', '{}')")
    if version >= 2:
        store.execute("INSERT INTO coverage VALUES (1, 'signatures', 'jpeg:photo', 0, 1, 0, 500)")
        store.execute("UPDATE finds SET duration = 2.5, has_strip = 1 WHERE id = 1")
        store.execute(V1_FIND, (9, 4608, 700, "remnant", 1.0, None, None, None))
        store.execute("UPDATE finds SET parent_start = 4096, parent_format = 'jpeg' WHERE id = 9")
    if version >= 3:
        store.execute("INSERT INTO volumes VALUES (1, 0, 1000, 'fat32', 'FERN', 4096, 'sound',"
                      " 'mbr', x'00ff', 512, 'ntfs-names')")
        store.execute("UPDATE finds SET folder = 'DCIM', record_at = 512, created = 'c',"
                      " modified = 'm', accessed = 'a', removed_at = 'r', kept = 'trash',"
                      " original = 'o', purge_at = 'p', unproven = 1, claim = '512:DCIM/a.jpg'"
                      " WHERE id = 7")
        store.execute(V1_FIND, (11, 600, 5, "whole", 1.0, "t.txt", "t.txt", 0))
        store.execute("UPDATE finds SET record_at = 512, encoding = 'resident',"
                      " content = x'6f74746572', stated = 5 WHERE id = 11")
        store.execute(V1_FIND, (12, 700, 8192, "whole", 1.0, "c.jpg", "c.jpg", 0))
        store.execute("UPDATE finds SET record_at = 513, encoding = 'compressed', coded = ?,"
                      " stated = 8192 WHERE id = 12", (json.dumps([
                          {"extents": [[4096, 512]], "length": 4096, "coding": "zlib",
                           "made": 4096, "skip": 0}, [None, 4096]]),))
        store.execute(V1_FIND, (13, 800, 777, "gone", 0.0, "lost.jpg", "lost.jpg", 1))
        store.execute("UPDATE finds SET record_at = 800, stated = 777, claim = '800:lost.jpg'"
                      " WHERE id = 13")
    store.commit()
    store.close()


class MigrationTest(FolderTest):
    def opened(self, version, **options):
        folder = self.folder / f"v{version}{options}"
        written(folder, version)
        job = Job(folder, **options)
        self.addCleanup(job.close)
        return job

    def test_all_that_every_version_held_is_there(self):
        for version in (1, 2, 3):
            for options in ({}, {"read_only": True}):
                with self.subTest(version, **options):
                    self.check(self.opened(version, **options), version)

    def test_what_was_on_a_shelf_alone_is_a_label_and_shelves_have_their_keys(self):
        keys = ("DCIM/otter.jpg", "Re\u00e9d \"9\".jpg", os.fsdecode(b"w\xffir.jpg"))
        folder = self.folder / "ten"
        store = begun(folder, 10)
        store.execute("INSERT INTO sources (id, kind, name, path, size, sector_size, added)"
                      " VALUES (1, 'folder', 'a', '/a', 1000000, 512, 1.0)")
        told = [json.dumps({"kind": "object", "key": key, "size": 5}) for key in keys]
        for number, content in enumerate([None, *told, "{", "[]", '{"kind": null}']):
            store.execute("INSERT INTO finds (id, source, key, kind, format, extension, start,"
                          " size, grade, share, found_by, path, record_at, content) VALUES (?, 1,"
                          " ?, 'photo', 'jpeg', 'jpg', ?, 5, 'whole', 1.0, 'files', 'p', 0, ?)",
                          (number + 1, f"jpeg:0:{number}:p", 0, content))
        store.execute("INSERT INTO missing VALUES (2), (99)")
        store.commit()
        store.close()
        with Job(folder) as job:
            self.assertEqual(job.labels.all(MISSING), {2: ""})
            self.assertEqual(job.labels.of(2), {MISSING: ""})
            self.assertEqual([r.id for r in job.matching(Filter(missing_only=True))], [2])
            self.assertEqual([n for n, _, _ in job.places.spans(1)], [2, 3, 4])
            self.assertEqual(job.record(4).content, ShelfObject(keys[2], 5))
            # The same object again, whatever its name is made of, is the same find.
            for number, key in enumerate(keys):
                found = Find("jpeg", Kind.PHOTO, "jpg", ShelfObject(key, 5), Grade.WHOLE, 1.0,
                             ("files",), (), Facts(), name="p", path="p", removed=False,
                             record=Record(0))
                job.add_finds(1, [found])
                self.assertEqual(len(job.matching()), 7, number)

    def test_what_was_partial_and_complete_is_unproven_now(self):
        folder = self.folder / "eight"
        store = begun(folder, 8)
        store.execute("INSERT INTO sources (id, name, path, size, sector_size, added)"
                      " VALUES (1, 'a', '/a', 1000000, 512, 1.0)")
        cases = ((1, "partial", 1.0, "doubt"), (2, "partial", 1.0, "fail"),
                 (3, "partial", 0.4, "fail"), (4, "whole", 1.0, "pass"))
        for number, grade, share, outcome in cases:
            store.execute("INSERT INTO finds (id, source, key, kind, format, extension, start,"
                          " size, grade, share, found_by) VALUES (?, 1, ?, 'photo', 'heic', 'heic',"
                          " ?, 500, ?, ?, 'records,signatures')",
                          (number, f"heic:{number}", number * 4096, grade, share))
            store.execute("INSERT INTO checks VALUES (?, 0, 'x', ?, 'y', '{}', 0)",
                          (number, outcome))
            store.execute("INSERT INTO tally VALUES (1, 'records', 'photo', ?, 1, 500)"
                          " ON CONFLICT DO UPDATE SET finds = finds + 1", (grade,))
        store.commit()
        store.close()
        with Job(folder) as job:
            told = {row.id: (row.grade, row.share) for row in job.matching()}
            counted = {row.grade: row.finds for row in job.tally()}
        self.assertEqual(told, {1: ("unproven", 1.0), 2: ("partial", 0.9999),
                                3: ("partial", 0.4), 4: ("whole", 1.0)})
        self.assertEqual(counted, {"unproven": 1, "partial": 2, "whole": 1})

    def check(self, job, version):
        self.assertEqual(job.title, "otter survey")
        self.assertEqual([(s.id, s.name, s.size, s.sha256, s.kind) for s in job.sources()],
                         [(1, "stream card.img", 1 << 30, "ab" * 32, "bytes")])
        record = job.record(1)
        self.assertEqual(record.content, Stretches(((4096, 50_000), (None, 10_000),
                                                    (90_112, 30_000))))
        self.assertEqual((record.row.grade, record.row.share, record.row.damage_row,
                          record.row.orientation, record.preview), ("partial", 0.4, 12, 6,
                                                                    (4100, 4200)))
        self.assertEqual([(p.name, p.start) for p in record.parts], [("EXIF", 4096)])
        self.assertEqual((record.extra, record.checks[0].code), ({"a": 1}, "structure-ok"))
        named = job.record(7)
        self.assertEqual((named.row.path, named.row.removed, named.row.in_tray),
                         ("DCIM/a.jpg", True, True))
        self.assertEqual(job.reviews.tray_size(), (1, 5000))
        self.assertEqual(sum(t.finds for t in job.tally()), len(job.find_ids()))
        self.assertEqual([(s.step, s.checkpoint, s.ending, s.state) for s in job.searched.steps()],
                         [("signatures", 500, "stopped", "")])
        self.assertEqual(job.log_lines()[0][1], "job-made")
        self.assertEqual(len(job.find_ids()), {1: 2, 2: 3, 3: 6}[version])
        if version >= 2:
            self.assertEqual(job.searched.coverage(1, "signatures"), [CoverageRow(
                1, "signatures", ("jpeg:photo",), False, True, 0, 500)])
            self.assertEqual((record.row.duration_s, record.row.has_strip), (2.5, True))
            self.assertEqual(job.record(9).parent, 1)
            self.assertEqual(job.links.of(1, INSIDE, back=True), [9])
        if version >= 3:
            self.assertEqual([v.label for v in job.searched.volumes(1)], ["FERN"])
            told = named.record
            self.assertEqual((told.at, told.created, told.modified, told.accessed, told.removed_at,
                              told.kept, told.original, told.purge_at, told.claim),
                             (512, "c", "m", "a", "r", "trash", "o", "p", True))
            self.assertEqual(job.record(11).content, Inline(b"otter", 600))
            packed = job.record(12).content
            self.assertIsInstance(packed, Packed)
            self.assertEqual((packed.size, packed.spans()), (8192, ((4096, 512), (None, 4096))))
            gone = job.record(13)
            self.assertEqual((gone.row.size, gone.record.stated, gone.content.size), (777, 777, 0))

    def test_reading_alone_changes_no_byte(self):
        for version in (1, 2, 3):
            folder = self.folder / f"kept{version}"
            written(folder, version)
            before = (folder / DATABASE).read_bytes()
            with Job(folder, read_only=True) as job:
                self.assertEqual(job.title, "otter survey")
                with self.assertRaises(JobError) as caught:
                    job.set_meta("title", "another")
                self.assertEqual(caught.exception.code, "job-not-written")
            self.assertEqual((folder / DATABASE).read_bytes(), before)
            self.assertEqual([p.name for p in folder.iterdir()], [DATABASE])

    def test_numbers_are_never_given_out_twice(self):
        job = self.opened(3)
        job._database.run("DELETE FROM finds WHERE id = 13")
        job._database.run("INSERT INTO finds (source, key, kind, format, extension, start, size,"
                          " grade, share, found_by) VALUES (1, 'x', 'photo', 'jpeg', 'jpg', 1, 1,"
                          " 'whole', 1.0, 'signatures')")
        self.assertEqual(job._database.rows("SELECT max(id) FROM finds"), [(14,)])

    def test_what_belongs_to_a_find_goes_with_it(self):
        job = self.opened(3)
        job._database.run("DELETE FROM finds WHERE id IN (1, 7)")
        for table in ("extents", "checks", "reviews", "links"):
            column = "find"
            self.assertEqual(job._database.rows(
                f"SELECT count(*) FROM {table} WHERE {column} IN (1, 7)"), [(0,)], table)

    def test_foreign_keys_hold(self):
        job = self.opened(2)
        with self.assertRaises(JobError):
            job._database.run("INSERT INTO extents VALUES (4711, 0, 0, 1)")
        self.assertEqual(job._database.rows("PRAGMA foreign_key_check"), [])
        self.assertEqual(job._database.rows("PRAGMA integrity_check"), [("ok",)])

    def test_an_interrupted_migration_leaves_the_old_file(self):
        folder = self.folder / "half"
        written(folder, 2)
        good = MIGRATIONS[2]
        import needlewright.core.jobfile.migrations as migrations

        broken = (*MIGRATIONS[:2], good + "INSERT INTO nowhere VALUES (1);", *MIGRATIONS[3:])
        self.addCleanup(setattr, migrations, "MIGRATIONS", MIGRATIONS)
        migrations.MIGRATIONS = broken
        with self.assertRaises(JobError):
            Job(folder)
        migrations.MIGRATIONS = MIGRATIONS
        with Job(folder) as job:
            self.assertEqual(len(job.find_ids()), 3)

    def test_newer_and_foreign_files_are_left_alone(self):
        folder = self.folder / "newer"
        written(folder, 3)
        store = sqlite3.connect(folder / DATABASE)
        store.execute("PRAGMA user_version = 99")
        store.commit()
        store.close()
        for options in ({}, {"read_only": True}):
            with self.assertRaises(JobError) as caught:
                Job(folder, **options)
            self.assertEqual(caught.exception.code, "job-newer")
        strange = self.folder / "strange"
        strange.mkdir()
        store = sqlite3.connect(strange / DATABASE)
        store.execute("CREATE TABLE otters (at TEXT)")
        store.commit()
        store.close()
        with self.assertRaises(JobError) as caught:
            Job(strange)
        self.assertEqual(caught.exception.code, "job-not-ours")

    @unittest.skipIf(os.geteuid() == 0, "root may write everywhere")
    def test_a_folder_that_may_not_be_written_opens_to_read(self):
        folder = self.folder / "locked"
        written(folder, 3)
        folder.chmod(0o555)
        self.addCleanup(folder.chmod, 0o755)
        with Job(folder, read_only=True) as job:
            self.assertEqual(job.title, "otter survey")
