"""The parts of reading a database: records, pages, logs, texts, and what is said of a row."""

from __future__ import annotations

import shutil
import sqlite3
import unittest
from contextlib import closing

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.databases.fitting import Fit, fits_text
from needlewright.core.databases.logs import read_journal, read_log
from needlewright.core.databases.pages import Pages, read_header
from needlewright.core.databases.reading import Database, Trouble
from needlewright.core.databases.rows import Evidence, Row
from needlewright.core.databases.schema import affinity_of, read_table
from needlewright.core.databases.trees import local_bytes
from needlewright.core.errors import FormatError
from needlewright.core.sources.memory import MemorySource
from needlewright.wording import rows as words
from tests.databases.corpus import make
from tests.examples import examples
from tests.support import FolderTest

VALUES = st.one_of(
    st.none(), st.integers(-(1 << 63), (1 << 63) - 1), st.floats(allow_nan=False),
    st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=60),
    st.binary(max_size=900))


class AnyValueTest(FolderTest):
    @given(st.lists(st.tuples(VALUES, VALUES, VALUES), max_size=12),
           st.sampled_from((512, 4096)), st.sampled_from(("UTF-8", "UTF-16le", "UTF-16be")))
    @examples(40)
    def test_whatever_sqlite_stores_is_read_as_it_tells_it(self, rows, size, encoding):
        path = self.folder / "any.db"
        path.unlink(missing_ok=True)
        with closing(sqlite3.connect(path, isolation_level=None)) as db:
            db.execute(f"PRAGMA page_size={size}")
            db.execute(f"PRAGMA encoding='{encoding}'")
            db.execute("CREATE TABLE t (a, b REAL, c INTEGER)")
            db.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
            wanted = list(db.execute("SELECT rowid, * FROM t"))
        got = [(r.rowid, *r.values) for r in Database(MemorySource(path.read_bytes())).live()]
        self.assertEqual([list(map(repr, r)) for r in got], [list(map(repr, r)) for r in wanted])


class LogTest(FolderTest):
    def begun(self, name: str, mode: str) -> sqlite3.Connection:
        db = sqlite3.connect(self.folder / name, isolation_level=None)
        self.addCleanup(db.close)
        db.execute(f"PRAGMA journal_mode={mode}")
        db.execute("PRAGMA secure_delete=OFF")
        db.execute("CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT)")
        db.executemany("INSERT INTO t VALUES (?, ?)", [(n, f"heron {n}") for n in range(40)])
        return db

    def test_only_whole_transactions_of_a_log_count(self):
        db = self.begun("w.db", "WAL")
        db.execute("UPDATE t SET b = 'gone'")
        log = (self.folder / "w.db-wal").read_bytes()
        size = read_header((self.folder / "w.db").read_bytes()[:100]).page_bytes if (
            self.folder / "w.db").stat().st_size else 4096
        whole = read_log(MemorySource(log), size)
        self.assertTrue(all(image.valid for image in whole.images))
        cut = read_log(MemorySource(log[:-1]), size)
        self.assertEqual(len(cut.images), len(whole.images) - 1)
        torn = bytearray(log)
        torn[-100] ^= 1  # the last frame ends the last transaction
        damaged = read_log(MemorySource(bytes(torn)), size)
        self.assertEqual([i.valid for i in damaged.images],
                         [True] * (len(whole.images) - 1) + [False])
        self.assertNotEqual(damaged.over, whole.over)
        self.assertIsNone(read_log(MemorySource(log), size * 2))
        self.assertIsNone(read_log(MemorySource(b"heron"), size))

    def test_a_journal_that_was_kept_tells_older_states_and_changes_nothing(self):
        db = self.begun("p.db", "PERSIST")
        db.execute("UPDATE t SET b = 'no heron' WHERE a = 7")
        path = self.folder / "p.db"
        journal = (self.folder / "p.db-journal").read_bytes()
        log = read_journal(MemorySource(journal), 4096)
        self.assertEqual((log.over, bool(log.images)), ({}, True))
        database = Database(MemorySource(path.read_bytes()), None, MemorySource(journal))
        live = {r.rowid: r.values for r in database.live()}
        self.assertEqual(live[7], (7, "no heron"))
        older = [(r.state, r.values, r.evidence.where) for r in database.removed()]
        self.assertIn(("older", (7, "heron 7"), "journal"), older)

    def test_damage_is_told_and_the_rest_is_read(self):
        made = make(self.folder / "d.db", 4, 1024, rows=120, share=0.1)
        data = bytearray(made.path.read_bytes())
        pages = Pages(MemorySource(bytes(data)))
        leaf = next(n for n in range(pages.count // 2, pages.count)
                    if pages.page(n)[0] == 0x0D)
        data[(leaf - 1) * 1024 : leaf * 1024] = bytes(1024)
        database = Database(MemorySource(bytes(data)))
        live = list(database.live())
        self.assertIn(leaf, database.trouble.pages)
        with closing(sqlite3.connect(made.path)) as db:
            total = sum(db.execute(f"SELECT count(*) FROM {n}").fetchone()[0] for n in made.ever)
        self.assertGreater(len([r for r in live if r.table in made.ever]), total - 30)
        self.assertIn(f"{leaf:,}", " ".join(words.trouble(database.trouble)))
        shutil.rmtree(self.folder / "none", ignore_errors=True)


class PartsTest(unittest.TestCase):
    def test_payloads_are_split_as_the_format_says(self):
        self.assertEqual(local_bytes(4061, 4096, True), 4061)
        self.assertEqual(local_bytes(4062, 4096, True), 489)  # too much for the page: the least
        self.assertEqual(local_bytes(489 + 4092 + 100, 4096, True), 589)
        self.assertEqual(local_bytes(1002, 4096, False), 1002)
        for usable in (480, 512, 1024, 65_536):
            for payload in range(1, 3 * usable, 37):
                for table in (True, False):
                    local = local_bytes(payload, usable, table)
                    self.assertLessEqual(local, min(payload, usable - 35))

    def test_affinities_are_those_of_the_rules(self):
        for declared, affinity in (("VARCHAR(80)", "TEXT"), ("BIGINT", "INTEGER"), ("", "BLOB"),
                                   ("FLOATING POINT", "INTEGER"), ("DOUBLE", "REAL"),
                                   ("DATE", "NUMERIC"), ("CLOB", "TEXT"), ("STRING", "NUMERIC")):
            self.assertEqual(affinity_of(declared), affinity, declared)

    def test_texts_of_a_person(self):
        for text in ("otter 🦦 at the weir", "zwei\nZeilen", "水獺", "👩‍👩‍👧", "", "naïve — so"):
            self.assertTrue(fits_text((text, None, 3)), text)
        for text in ("\x07bell", "\tshifted", "a\ue20cb", "\x85", "栀椀搀攀 otter", "\ud800"):
            self.assertFalse(fits_text((text,)), text)

    def test_types_fit_columns_and_what_live_rows_hold(self):
        table = read_table(
            "t", 2, "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT NOT NULL, c REAL)")
        fit = Fit(table)
        self.assertTrue(fit.types((0, 25, 7)))
        for types in ((1, 25, 7), (0, 0, 7), (0, 24, 7), (0, 25), (0, 25, 13)):
            self.assertFalse(fit.types(types), types)
        table.seen[1] = {"b"}
        self.assertTrue(Fit(table).types((0, 24, 0)))

    def test_no_header_no_database(self):
        good = b"SQLite format 3\0" + bytes((16, 0, 1, 1, 0, 64, 32, 32)) + bytes(76)
        self.assertEqual(read_header(good).page_bytes, 4096)
        for at, value in ((0, 0x54), (16, 3), (17, 1)):
            bad = bytearray(good)
            bad[at] = value
            with self.assertRaises(FormatError):
                read_header(bytes(bad))

    def test_a_row_in_words(self):
        row = Row("messages", ("id", "told", "picture"), None, (None, "seen\nat the weir", b"123"),
                  "removed", Evidence("free-block", 7, 3012), ("id",), ("table-likely",))
        line = words.line(row)
        self.assertEqual(len(line.splitlines()), 1)
        for part in ("removed", "page 7, byte 3,012, in a free block", "3 bytes", "? |",
                     words.DOUBTS["table-likely"]):
            self.assertIn(part, line)
        self.assertEqual(words.totals({"live": 1200, "removed": 3}),
                         "1,200 live, 0 older, 3 removed")
        self.assertEqual(list(words.trouble(Trouble())), [])
