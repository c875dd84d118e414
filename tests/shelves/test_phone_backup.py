"""The documented phone backup: open and sealed, complete and damaged, and one that lies."""

from __future__ import annotations

import plistlib
import random
import shutil
import sqlite3
import threading
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core import kept_open
from needlewright.core.databases.quick import rows_of, table_named
from needlewright.core.databases.reading import Database
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.jobs.about import about_of
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.search.events import Note
from needlewright.core.shelves.backups.base import open_backup
from needlewright.core.shelves.item_shelf import ItemShelf
from needlewright.core.sources.files import ImageFile
from needlewright.standins.backups import Backed, write_backup
from needlewright.wording import shelves as words
from tests.examples import examples
from tests.shelves.support import ShelfTest, contents, files, photo, sha256

MADE = datetime(2031, 5, 19, 21, 30, tzinfo=UTC)
WHEN = datetime(2031, 5, 12, 5, 58, 12, tzinfo=UTC)


class PhoneBackupTest(ShelfTest):
    def made(self, name: str = "backup", password: str | None = None, **more: object) -> Path:
        path = self.folder / name
        write_backup(path, "Reedbank F2", MADE,
                     [Backed(p, d, WHEN) for p, d in files().items()], password, **more)
        return path

    def content_of(self, backup: Path, path: str) -> Path:
        digest = sha256(files()[path])
        return backup / "content" / digest[:2] / digest

    def edited(self, backup: Path, *statements: str) -> None:
        with sqlite3.connect(backup / "manifest.sqlite") as base:
            for statement in statements:
                base.execute(statement)
        base.close()

    def test_open_and_sealed_hold_the_same(self):
        self.assertEqual(contents(self.made()), (files(), {}))
        sealed = self.made("sealed", "reed")
        heard = self.asked("weir", "reed")
        self.assertEqual(contents(sealed, f"backup:{sealed}"), (files(), {}))
        self.assertEqual(heard, [("password", False), ("password", True)])
        every = b"".join(p.read_bytes() for p in sealed.rglob("*") if p.is_file())
        for told in (b"FP_0001", b"Hollow Bank", photo(1)[200:260]):
            self.assertNotIn(told, every)

    def test_facts_without_opening_it(self):
        facts = open_backup(self.made("sealed", "reed")).facts
        self.assertEqual((facts.device, facts.made, facts.complete, facts.encrypted),
                         ("Reedbank F2", "2031-05-19T21:30:00Z", True, True))

    def test_long_content_in_pieces_from_anywhere(self):
        data = random.Random(2).randbytes((2 << 20) + 77)
        write_backup(self.folder / "long", "Reedbank F2", MADE, [Backed("a.bin", data, WHEN)],
                     "reed")
        self.asked("reed")
        backup = open_backup(self.folder / "long")
        (item,) = backup.items(lambda: None)
        for begin in (0, 1, (1 << 20) - 1, 1 << 20, len(data) - 1, len(data)):
            self.assertEqual(b"".join(backup.content(item, begin)), data[begin:])

    def test_pieces_that_were_exchanged_are_refused(self):
        """Each is bound to its file, its number and to being the last."""
        data = random.Random(2).randbytes(3 << 20)
        write_backup(self.folder / "long", "Reedbank F2", MADE, [Backed("a.bin", data, WHEN)],
                     "reed")
        self.asked("reed")
        place = next(p for p in (self.folder / "long/content").rglob("*") if p.is_file())
        whole, piece = place.read_bytes(), (1 << 20) + 28
        first, second = whole[16 : 16 + piece], whole[16 + piece : 16 + 2 * piece]
        for broken in (whole[:16] + second + first + whole[16 + 2 * piece :],
                       whole[: 16 + 2 * piece], whole[:20] + bytes([whole[20] ^ 1]) + whole[21:]):
            place.write_bytes(broken)
            found, flaws = contents(self.folder / "long")
            self.assertEqual(flaws, {"a.bin": "backup-unauthentic"})
            self.assertTrue(data.startswith(found["a.bin"]))

    def test_a_damaged_one_says_what_is_missing(self):
        backup = self.made()
        self.content_of(backup, "DCIM/Camera/FP_0000.jpg").unlink()
        cut = self.content_of(backup, "DCIM/Camera/FP_0001.jpg")
        cut.write_bytes(cut.read_bytes()[:4000])
        other = self.content_of(backup, "DCIM/Camera/FP_0002.jpg")
        other.write_bytes(other.read_bytes()[:-1] + b"\0")
        status, _, _ = self.command("run", f"backup:{backup}", "--job", self.folder / "job",
                                    "--to", self.folder / "bag")
        self.assertEqual(status, 0)
        rows = self.finds()
        told = {path.rpartition("/")[2]: (row.grade, self.checks(row.id)[0])
                for path, row in rows.items()}
        self.assertEqual(told["FP_0000.jpg"], ("gone", "backup-content-missing"))
        self.assertEqual(told["FP_0001.jpg"][1], "shelf-size")
        self.assertEqual(told["FP_0002.jpg"][1], "shelf-hash")
        self.assertNotIn("whole", {told[name][0] for name in ("FP_0001.jpg", "FP_0002.jpg")})
        self.assertEqual(told["FP_0003.jpg"][0], "whole")
        report = (self.folder / "bag/report.txt").read_text()
        for part in ("FP_0000.jpg: the backup lists it, and its content is not there",
                     "FP_0001.jpg: ", "and 4,000 are there",
                     "FP_0002.jpg: ", "not the one whose hash its list tells"):
            self.assertIn(part, report)

    def test_what_it_says_of_itself_is_kept_in_the_job(self):
        backup = self.made()
        self.content_of(backup, "DCIM/Camera/FP_0000.jpg").unlink()
        job, row = job_for_image(self.folder / "job", f"backup:{backup}")
        with job:
            about = about_of(job, row.id)
            self.assertEqual((about["device"], about["complete"], about["troubles"]),
                             ("Reedbank F2", False, {"backup-missing": 1}))
            self.assertEqual(len(words.own_notes(about)), 1)
            self.assertIn(("complete", "no"), words.own_facts(about))
            for broken in ("[]", "{", '{"troubles": 3, "notes": [{}], "made": 5}'):
                job.set_meta(f"about {row.id}", broken)
                self.assertEqual(words.own_notes(about_of(job, row.id)), [])
                self.assertLessEqual(len(words.own_facts(about_of(job, row.id))), 1)

    def test_what_is_flawed_is_not_taken_for_sound_the_next_time(self):
        backup = self.made()
        other = self.content_of(backup, "DCIM/Camera/FP_0002.jpg")
        good = other.read_bytes()
        other.write_bytes(good[:-1] + b"\0")
        for _ in range(2):
            self.brought(f"backup:{backup}")
            self.assertEqual(self.finds()["DCIM/Camera/FP_0002.jpg"].grade, "partial")
        other.write_bytes(good)  # the drive was read again, and better
        self.brought(f"backup:{backup}")
        self.assertEqual(self.finds()["DCIM/Camera/FP_0002.jpg"].grade, "whole")
        # … and what was brought well stays so, though it is damaged or gone there later.
        other.write_bytes(good[:5000])
        self.brought(f"backup:{backup}")
        self.assertEqual(self.finds()["DCIM/Camera/FP_0002.jpg"].grade, "whole")
        other.unlink()
        kept_open.let_all_go()
        self.brought(f"backup:{backup}")
        row = self.finds()["DCIM/Camera/FP_0002.jpg"]
        self.assertEqual((row.grade, row.size), ("whole", len(good)))

    def test_a_manifest_that_lies(self):
        backup = self.made()
        self.edited(backup, "UPDATE files SET path = '../../escaped.jpg' WHERE rowid = 1",
                    "UPDATE files SET size = 1 << 61 WHERE rowid = 2",
                    "UPDATE files SET sha256 = '../../../etc/passwd' WHERE rowid = 3",
                    "UPDATE files SET size = 10 WHERE rowid = 4",
                    "INSERT INTO files (path, size, sha256) VALUES (NULL, 'x', 7)",
                    "INSERT INTO files SELECT * FROM files WHERE rowid = 6")
        self.brought(f"backup:{backup}")
        rows = self.finds()
        self.assertIn("_/_/escaped.jpg", rows)
        codes = {path: self.checks(row.id)[0] for path, row in rows.items()}
        self.assertEqual(codes["DCIM/Camera/FP_0001.jpg"], "shelf-no-room")
        self.assertEqual(codes["DCIM/Camera/FP_0002.jpg"], "backup-entry-wrong")
        self.assertEqual(codes["DCIM/Camera/FP_0003.jpg"], "shelf-too-much")
        self.assertEqual({p.name for p in self.folder.iterdir()}, {"backup", "job"})

    def test_a_list_that_goes_round_or_is_damaged(self):
        backup = self.made()
        self.edited(backup, "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT "
                    "3000) INSERT INTO files (path, size, sha256) SELECT 'made/' || i, 5, 'x' "
                    "FROM n")
        manifest = backup / "manifest.sqlite"
        data = manifest.read_bytes()
        chance = random.Random(5)
        for _ in range(40):
            broken = bytearray(data)
            for _ in range(chance.choice((1, 8, 40))):
                at = chance.randrange(len(broken))
                broken[at] = chance.randrange(256)
            manifest.write_bytes(broken)
            try:
                self.assertLess(len(contents(backup)[0]), 10)
            except NeedlewrightError as error:
                self.assertIn(error.code, ("backup-damaged-list", "format"))

    def test_facts_that_make_no_sense(self):
        backup = self.made("sealed", "reed")
        facts = plistlib.loads((backup / "facts.plist").read_bytes())
        for name, value in (("N", 1 << 40), ("N", 3), ("R", 1 << 20), ("Salt", b""), ("P", -1),
                            ("Proof", "text"), ("Cipher", "none")):
            wrong = {**facts, "Encryption": {**facts["Encryption"], name: value}}
            (backup / "facts.plist").write_bytes(plistlib.dumps(wrong))
            self.asked("reed")
            with self.assertRaises(SourceError) as caught:
                contents(backup)
            self.assertEqual(caught.exception.code, "backup-damaged-list")
        (backup / "facts.plist").write_bytes(b"<plist><dict>" * 5000)
        self.assertEqual(open_backup(backup).facts.layout, "folder")  # nothing else is left of it

    def test_removed_and_still_kept(self):
        now = datetime.now(UTC)
        write_backup(self.folder / "b", "Reedbank F2", MADE, [
            Backed("DCIM/FP_1.jpg", photo(1), WHEN),
            Backed("DCIM/FP_2.jpg", photo(2), WHEN, now, now + timedelta(days=12, hours=1))])
        status, out, _ = self.command("inside", f"backup:{self.folder / 'b'}", "--removed-only")
        self.assertEqual(status, 0)
        self.assertIn("removed, 12 days left", out)
        self.assertNotIn("FP_1", out)

    def test_a_password_is_asked_once_and_not_kept_with_the_job(self):
        backup = self.made("sealed", "an unlikely password")
        heard = self.asked("an unlikely password")
        events = self.brought(f"backup:{backup}")
        self.assertEqual(heard, [("password", False)])
        self.assertTrue(any(isinstance(e, Note) and e.code == "kept-listed" for e in events))
        for path in (self.folder / "job").rglob("*"):
            if path.is_file():
                self.assertNotIn(b"unlikely", path.read_bytes())

    def test_it_goes_away_and_comes_back(self):
        """The drive with the backup is pulled in the middle, and plugged in again."""
        self.quickly()
        backup = self.made()
        pulled = self.folder / "pulled"
        with self.shelf(f"backup:{backup}") as shelf:
            wanted = shelf.offered()[0]
            shutil.move(backup, pulled)
            self.assertEqual(shelf.is_back(), "pulled")
            with self.assertRaises(SourceError) as caught:
                shelf.bring(wanted, self.folder / "part", lambda got: None)
            self.assertEqual(caught.exception.code, "shelf-lost")
            shutil.move(pulled, backup)
            self.assertEqual(shelf.is_back(), "")
        bring = ItemShelf.bring

        def pulling(shelf, offered, path, told):
            if offered.entry.path.endswith("FP_0002.jpg") and backup.exists() and not away:
                away.append(1)
                shutil.move(backup, pulled)
                threading.Timer(0.4, shutil.move, (pulled, backup)).start()
            return bring(shelf, offered, path, told)

        away: list[int] = []
        with mock.patch.object(ItemShelf, "bring", pulling):
            events = self.brought(f"backup:{backup}")
        self.assertEqual([e.code for e in events if isinstance(e, Note)],
                         ["kept-listed", "phone-waiting", "phone-back"])
        self.assertEqual(self.finds()["DCIM/Camera/FP_0002.jpg"].grade, "whole")


class QuickRowsTest(ShelfTest):
    @examples(40)
    @given(st.lists(st.tuples(
        st.one_of(st.none(), st.text(max_size=20), st.text("x", min_size=3000, max_size=9000)),
        st.one_of(st.none(), st.integers(-2**63, 2**63 - 1)),
        st.one_of(st.none(), st.floats(allow_nan=False), st.binary(max_size=30))), max_size=60),
        st.sampled_from((512, 4096)))
    def test_as_sqlite_tells_them(self, rows, page_bytes):
        path = self.folder / "rows.sqlite"
        path.unlink(missing_ok=True)
        base = sqlite3.connect(path)
        base.execute(f"PRAGMA page_size = {page_bytes}")
        base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT, b INTEGER, c)")
        base.executemany("INSERT INTO t (a, b, c) VALUES (?, ?, ?)", [
            (a.encode("utf-8", "replace").decode() if a is not None else None, b, c)
            for a, b, c in rows])
        base.execute("ALTER TABLE t ADD COLUMN later TEXT DEFAULT 'reed'")
        base.commit()
        truth = base.execute("SELECT c, id, a, b, later, NULL FROM t ORDER BY id").fetchall()
        base.close()
        with ImageFile(path) as source:
            database = Database(source)
            table = table_named(database, "t")
            assert table is not None
            found = list(rows_of(database, table, ("c", "id", "a", "b", "later", "nothing")))
        self.assertEqual(found, truth)
        self.assertEqual(database.trouble.pages, [])


if __name__ == "__main__":
    unittest.main()
