"""Messages and calls as a page that anything opens, with what their rows hold and name as files."""

from __future__ import annotations

import contextlib
import csv
import io
import sqlite3
import threading
import unittest
from datetime import UTC, datetime
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote

import bagit
from hypothesis import given
from hypothesis import strategies as st

from needlewright.cli.program import main
from needlewright.core.databases.talk import moment
from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.delivery.rows_folder import csv_value
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.wording.bag import words_for
from tests.support import FolderTest, camera_jpeg

EVIL = '<script>alert("otter")</script> & \u202e'


class Reader(HTMLParser):
    """What a page says, and where it leads."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.tags, self.links, self.text = set(), [], ""
        self.feed(path.read_text(encoding="utf-8"))

    def handle_starttag(self, tag, attrs):
        self.tags.add(tag)
        self.links += [value for name, value in attrs if name in ("href", "src")]

    def handle_data(self, data):
        self.text += data


class PagesTest(FolderTest):
    def database(self, folder: Path) -> Path:
        """Messages, some removed, one with a picture in it and one that names a file; calls; and
        a table whose name is a path."""
        folder.mkdir(exist_ok=True)
        path = folder / "messages.db"
        base = sqlite3.connect(path)
        base.execute("PRAGMA secure_delete = off")
        base.execute("CREATE TABLE messages (id INTEGER PRIMARY KEY, sender TEXT, sent INTEGER,"
                     " body TEXT, media TEXT, picture BLOB)")
        base.execute("CREATE TABLE calls (id INTEGER PRIMARY KEY, number TEXT, date INTEGER,"
                     " duration INTEGER)")
        base.execute("CREATE TABLE memos (id INTEGER PRIMARY KEY, title TEXT, body TEXT,"
                     " written INTEGER)")
        base.executemany("INSERT INTO memos (title, body, written) VALUES (?, ?, ?)", [
            ("Hides to mend", "Reed Island\nBoathouse", 1_936_000_000_000),
            ("Batteries", "eleven, of them two flat", None)])
        base.execute('CREATE TABLE "../index" (id INTEGER PRIMARY KEY, kind TEXT)')
        for n in range(40):
            base.execute("INSERT INTO messages (sender, sent, body, media, picture)"
                         " VALUES (?, ?, ?, ?, ?)", (
                             "=cmd()" if n == 3 else "Reed Island",
                             1_936_000_000_000 + (40 - n) * 60_000,
                             f"Otter {n} {EVIL if n == 5 else 'by the weir'}",
                             "/storage/DCIM/FP_0301.jpg" if n == 7 else None,
                             camera_jpeg(2, 320, 240) if n == 9 else None))
        base.execute("INSERT INTO calls (number, date, duration) VALUES ('0123', 1936000000, 75)")
        base.execute('INSERT INTO "../index" (kind) VALUES (?)', (EVIL,))
        base.execute("DELETE FROM messages WHERE id > 30")
        base.commit()
        base.close()
        return path

    def check(self, out: Path, top: Path, named: str) -> None:
        page = Reader(out / "index.html")
        self.assertFalse(page.tags & {"script", "iframe", "form", "link"})
        self.assertIn(EVIL[:40], page.text)  # told, not run
        for link in page.links:
            target = (out / unquote(link)).resolve()
            self.assertTrue(target.is_relative_to(top.resolve()) and target.is_file(), link)
        for name, told in (("Otter 29", "2031-05-08T09:57:40Z"), ("0123", "1 min 15 s")):
            self.assertIn(name, page.text)
            self.assertIn(told, page.text)
        self.assertLess(page.text.index("Otter 29"), page.text.index("Otter 0 "))  # by time
        self.assertIn("removed: page", page.text)
        self.assertIn("Hides to mend 2031-05-08T09:46:40ZReed IslandBoathouse", page.text)
        self.assertIn("Batteries no dateeleven", page.text)  # a note without a date
        pictures = sorted(p.name for p in (out / "attachments").iterdir())
        self.assertEqual(len(pictures), 1 + named.startswith("attachments"), pictures)
        for picture in (out / "attachments").iterdir():
            self.assertEqual(picture.read_bytes()[:2], b"\xff\xd8")
        with open(out / "messages.csv", encoding="utf-8", newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertIn(named, {row["media"] for row in rows})
        self.assertGreater(sum(row["state"] == "removed" for row in rows), 0)
        self.assertEqual({row["sender"][:1] for row in rows}, {"R", "'"})  # nothing runs in a table
        self.assertEqual([csv_value(v) for v in ("+44 0123", "-5", "+44,x", "@x", b"=1", 7)],
                         ["+44 0123", "-5", "'+44,x", "'@x", "3d31", 7])

    def test_the_command_writes_a_page(self):
        path = self.database(self.folder / "phone")
        (self.folder / "files" / "deep").mkdir(parents=True)
        (self.folder / "files" / "deep" / "fp_0301.JPG").write_bytes(camera_jpeg(1, 320, 240))
        wanted = ["rows", str(path), "--html", str(self.folder / "out"),
                  "--files", str(self.folder / "files")]
        with contextlib.redirect_stdout(io.StringIO()):
            self.assertEqual(main(wanted), 0)
        self.check(self.folder / "out", self.folder / "out", "attachments/FP_0301.jpg")
        told = io.StringIO()
        with contextlib.redirect_stderr(told), contextlib.redirect_stdout(told):
            self.assertEqual(main(wanted), 1)  # there is such a folder now
        self.assertIn("out", told.getvalue())

    def test_a_delivery_lays_rows_and_what_they_name_beside_a_database(self):
        folder = self.folder / "held"
        self.database(folder)
        (folder / "FP_0301.jpg").write_bytes(camera_jpeg(1, 320, 240))
        (folder / "broken.db").write_bytes(b"SQLite format 3\0" + bytes(5000))
        job, row = job_for_image(self.folder / "job", str(folder))
        with job:
            list(run_search(job, row, Plan(("files",)), threading.Event()))
            rows = [row for row in job.matching() if row.grade != "gone"]
            bag = self.folder / "bag"
            (done,) = [e for e in deliver(job, rows, bag, words_for(job), threading.Event())
                       if isinstance(e, Delivered)]
        self.assertEqual((done.finished, done.failed), (True, 0))
        bagit.Bag(str(bag)).validate()
        (out,) = bag.glob("data/**/messages.db rows")
        self.check(out, bag, "../FP_0301.jpg")

    def test_thousands_of_tables(self):
        """No more files are open at a time than a process may have."""
        base = sqlite3.connect(self.folder / "many.db")
        for n in range(700):
            base.execute(f"CREATE TABLE t{n} (a INTEGER, b TEXT)")
        for turn in range(2):
            for n in range(700):
                base.execute(f"INSERT INTO t{n} VALUES (?, 'otter')", (turn,))
        base.commit()
        base.close()
        with contextlib.redirect_stdout(io.StringIO()):
            self.assertEqual(main(["rows", str(self.folder / "many.db"), "--csv",
                                   str(self.folder / "out")]), 0)
        tables = list((self.folder / "out").iterdir())
        self.assertEqual(len(tables), 700)
        self.assertTrue(all(len(t.read_text().splitlines()) == 3 for t in tables))

    @given(st.datetimes(datetime(2008, 1, 1), datetime(2090, 1, 1)))
    def test_dates_that_are_kept_as_numbers(self, when):
        when = when.replace(tzinfo=UTC, microsecond=0)
        since = int(when.timestamp())
        later = since - int(datetime(2001, 1, 1, tzinfo=UTC).timestamp())
        for number in (since, since * 1000, since * 10**6, since * 10**9, float(since),
                       *([later * 10**9] if when.year < 2032 else ())):
            self.assertEqual(datetime.fromisoformat(moment(number)), when, number)
        self.assertEqual([moment(v) for v in (None, b"1", -5, 17, "yesterday")],
                         ["", "", "", "", "yesterday"])


if __name__ == "__main__":
    unittest.main()
