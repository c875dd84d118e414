"""Databases on a shelf: what they are about, their rows before they are brought, and which files
these name."""

from __future__ import annotations

import errno
import json
import os
import sqlite3
import tempfile
import unittest
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from needlewright.core.databases.rows import HERE, Row
from needlewright.core.databases.subjects import subject_by_name, subject_of
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.formats.registry import formats
from needlewright.core.jobfile.store import Job
from needlewright.core.search.shelf_rows import NamedFiles
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.shelf import Offered, Shelved
from needlewright.standins.backups import Backed, write_backup
from tests.shelves.support import ShelfTest, photo, sha256
from tests.support import medium, noise

WHEN = datetime(2031, 5, 19, tzinfo=UTC)
TABLES = {
    "message": ("sms (_id INTEGER PRIMARY KEY, address TEXT, person INTEGER, date INTEGER, body "
                "TEXT)", "message (ROWID INTEGER PRIMARY KEY, text TEXT, handle_id INTEGER, date "
                "INTEGER)", "entries (id INTEGER, sender TEXT, sent TEXT, content TEXT)"),
    "call": ("calls (_id INTEGER PRIMARY KEY, number TEXT, date INTEGER, duration INTEGER)",
             "call_log (id INTEGER, peer TEXT, start INTEGER, length INTEGER)"),
    "contact": ("contacts (id INTEGER PRIMARY KEY, display_name TEXT)",
                "rows (name TEXT, phone TEXT, email TEXT)"),
    "note": ("notes (id INTEGER PRIMARY KEY, text TEXT)",
             "pages (title TEXT, body TEXT, modified INTEGER)"),
    "": ("urls (id INTEGER PRIMARY KEY, url TEXT, title TEXT, visits INTEGER)",
         "files (id INTEGER, title TEXT, author TEXT, date INTEGER, duration INTEGER)",
         "tiles (x INTEGER, y INTEGER, data BLOB)"),
}


def database(place: Path, *statements: str, before: str = "") -> bytes:
    with closing(sqlite3.connect(place)) as base:
        base.executescript(f"{before}; PRAGMA secure_delete=0;" + ";".join(statements))
    return place.read_bytes()


class SubjectTest(ShelfTest):
    def test_told_by_tables_and_columns(self):
        for subject, tables in TABLES.items():
            for number, table in enumerate(tables):
                for before in ("", "PRAGMA encoding='UTF-16le'"):
                    data = database(self.folder / f"{subject}{number}{len(before)}",
                                    f"CREATE TABLE {table}", before=before)
                    self.assertEqual(subject_of(MemorySource(data)), subject, table)
        many = [f"CREATE TABLE t{n} (a TEXT, b TEXT DEFAULT '{'x' * 200}')" for n in range(60)]
        data = database(self.folder / "many", *many, f"CREATE TABLE {TABLES['message'][0]}")
        self.assertEqual(subject_of(MemorySource(data)), "message")  # its schema takes many pages

    def test_hostile_ones_end_and_say_nothing(self):
        data = database(self.folder / "one", f"CREATE TABLE {TABLES['call'][0]}")
        for seed in range(200):
            at = 100 + seed * 7 % 3000
            broken = data[:at] + noise(40, seed) + data[at + 40 :]
            self.assertIn(subject_of(MemorySource(broken)), ("", "call"))
        self.assertEqual(subject_of(MemorySource(b"SQLite format 3\0" + bytes(90))), "")

    def test_a_schema_that_cannot_be_read_costs_nothing_else(self):
        many = [f"CREATE TABLE t{n} (a TEXT, b TEXT DEFAULT '{'x' * 200}')" for n in range(60)]
        data = database(self.folder / "many", *many)

        class Failing(MemorySource):
            def read_into(self, offset, target):
                if offset >= 4096:
                    raise SourceError("source-range", path="", start=offset, stop=offset + 512,
                                      reason="")
                return super().read_into(offset, target)

        walk = formats()["sqlite"].walk(Failing(data), 0, len(data))
        self.assertEqual((walk.stop, walk.variant, walk.broken), (len(data), None, None))

    def test_names_of_files(self):
        for name, kind in (("messages.db", "message"), ("mmssms.db", "message"),
                           ("contacts2.db", "contact"), ("call-history.sqlite", "call"),
                           ("notes.sqlite", "note"), ("recall.db", "other"),
                           ("messages.jpg", "photo"), ("address_book.db", "contact")):
            self.assertEqual(kind_of_name(f"Documents/{name}")[0], kind, name)
        self.assertEqual(subject_by_name(""), "")

    def test_carved_from_a_card_by_kind(self):
        data = database(self.folder / "m", f"CREATE TABLE {TABLES['message'][0]}")
        other = database(self.folder / "o", f"CREATE TABLE {TABLES[''][0]}")
        card = self.folder / "card.img"
        card.write_bytes(medium([(4096, data), (1 << 18, other)], 1 << 20))
        status, _, errors = self.command("search", card, "--job", self.folder / "job",
                                         "--kinds", "message", "--steps", "signatures")
        self.assertEqual(status, 0, errors)
        with Job(self.folder / "job", read_only=True) as job:
            self.assertEqual([(r.kind, r.format, r.size) for r in job.matching()],
                             [("message", "sqlite", len(data))])
        self.assertEqual(formats()["sqlite"].walk(MemorySource(other), 0, len(other)).variant,
                         None)


class RowsInsideTest(ShelfTest):
    def made(self) -> str:
        held = [Backed(f"DCIM/{folder}/FP_1.jpg", photo(n), WHEN)
                for n, folder in enumerate(("Camera", "Decoys"))]
        messages = database(
            self.folder / "messages",
            "CREATE TABLE messages (id INTEGER PRIMARY KEY, sender TEXT, sent TEXT, text TEXT, "
            "file TEXT)",
            *(f"INSERT INTO messages VALUES ({n}, 'Hollow Bank', '2031-05-{n:02}', 'Otter {n}', "
              f"{repr('file:///inner/DCIM/Camera/FP_1.jpg') if n == 4 else 'NULL'})"
              for n in range(1, 30)), "DELETE FROM messages WHERE id = 15")
        held += [Backed("Documents/messages.db", messages, WHEN),
                 Backed("Documents/contacts.db", noise(5000, 1), WHEN),
                 Backed("Documents/calls.db", messages + b"-", WHEN)]
        write_backup(self.folder / "backup", "Reedbank F2", WHEN, held)
        lost = sha256(messages + b"-")
        (self.folder / "backup/content" / lost[:2] / lost).unlink()
        return f"backup:{self.folder / 'backup'}"

    def test_rows_of_what_is_there_and_one_sentence_for_what_is_not(self):
        spec = self.made()
        status, out, errors = self.command("inside", spec, "--rows", "--json")
        self.assertEqual(status, 0)
        told = {one["path"]: one["rows"] for one in json.loads(out)["rows"]}
        with closing(sqlite3.connect(self.folder / "messages")) as base:
            truth = [list(row) for row in base.execute("SELECT * FROM messages")]
        rows = told["Documents/messages.db"]
        self.assertEqual([r["values"] for r in rows if r["state"] == "live"], truth)
        self.assertEqual([r["values"][3] for r in rows if r["state"] == "removed"], ["Otter 15"])
        self.assertEqual([r["files"] for r in rows if r["files"]], [["DCIM/Camera/FP_1.jpg"]])
        self.assertEqual(told["Documents/contacts.db"], [])
        self.assertNotIn("Documents/calls.db", told)  # its content is missing, which its line says
        self.assertEqual([line.split(": ")[1] for line in errors.splitlines()],
                         ["Documents/contacts.db"])
        status, out, _ = self.command("inside", spec, "--rows", "--names", "--kinds", "message")
        self.assertEqual(out.split(), ["DCIM/Camera/FP_1.jpg"])
        status, out, _ = self.command("inside", spec, "--rows", "--kinds", "message")
        self.assertIn("names DCIM/Camera/FP_1.jpg", out)
        self.assertIn("28 live, 0 older, 1 removed", out)
        self.assertFalse((self.folder / "job").exists())
        _, out, _ = self.command("inside", spec, "--rows", "--kinds", "contact")
        self.assertEqual(out.splitlines(), ["Documents/contacts.db"])  # no count of nothing

    def test_nothing_of_it_stays_on_the_disk(self):
        """Not even where the process is killed, or where a file system has no nameless files."""
        spec, temporary = self.made(), self.folder / "temporary"
        temporary.mkdir()
        seen: list[list[str]] = []
        with self.shelf(spec) as shelf, mock.patch.object(tempfile, "tempdir", str(temporary)):
            bring, real = shelf.bring, os.open
            shelf.bring = lambda *told: (seen.append(os.listdir(temporary)), bring(*told))[1]
            with shelf.fetch("Documents/messages.db") as nameless:
                self.assertEqual(nameless.name, "messages.db")
                data = nameless.read_at(0, nameless.size)

            def none(path, flags, *more, **named):
                if flags & os.O_TMPFILE == os.O_TMPFILE:
                    raise OSError(errno.EOPNOTSUPP, "no such files here")
                return real(path, flags, *more, **named)

            with mock.patch.object(os, "open", none), shelf.fetch("Documents/messages.db") as one:
                self.assertEqual(one.read_at(0, one.size), data)
        self.assertEqual((seen[0], len(seen[1]), os.listdir(temporary)), ([], 1, []))

    def test_which_file_a_value_names(self):
        every = [Offered(Shelved(path, path, 0, 0, 0, None), 0) for path in (
            "a/x/P.jpg", "b/x/p.jpg", "b/y/p.jpg", "c/only.mp4")]
        named = NamedFiles(every)
        for value, keys in (("/store/B/x/p.JPG", ["b/x/p.jpg"]), ("x\\p.jpg", [
                "a/x/P.jpg", "b/x/p.jpg"]), ("p.jpg", ["a/x/P.jpg", "b/x/p.jpg", "b/y/p.jpg"]),
                ("only.mp4", ["c/only.mp4"]), ("none.mp4", []), ("no file. At all", []),
                (b"only.mp4", [])):
            row = Row("t", ("c",), 1, (value,), "live", HERE)
            self.assertEqual([one.entry.key for one in named.of(row)], keys, value)

    def test_none_that_could_be_read(self):
        write_backup(self.folder / "b", "Reedbank F2", WHEN, [Backed("a.jpg", photo(1), WHEN)])
        status, out, _ = self.command("inside", f"backup:{self.folder / 'b'}", "--rows")
        self.assertEqual((status, out.strip()), (0, "It offers no database of this."))
        with self.assertRaises(FormatError):
            formats()["sqlite"].walk(MemorySource(bytes(200)), 0, 200)


if __name__ == "__main__":
    unittest.main()
