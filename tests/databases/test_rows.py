"""Rows of SQLite databases against SQLite itself: live rows equal, removed ones as they were, and
none that never was."""

from __future__ import annotations

import json
import random
import shutil
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.databases.fitting import Found
from needlewright.core.databases.numbering import by_place
from needlewright.core.databases.reading import Database
from needlewright.core.databases.records import length_of, varint
from needlewright.core.databases.rows import Row
from needlewright.core.databases.schema import read_table
from needlewright.core.errors import FormatError
from needlewright.core.sources.memory import MemorySource
from tests.databases.corpus import NUMBERS, TABLES, lose, make
from tests.examples import examples
from tests.support import FolderTest
from tests.test_cli import call


def opened(path: Path) -> Database:
    beside = [path.with_name(path.name + suffix) for suffix in ("-wal", "-journal")]
    return Database(MemorySource(path.read_bytes()), *(
        MemorySource(p.read_bytes()) if p.exists() else None for p in beside))


def by_table(rows) -> dict[str, list[Row]]:
    found: dict[str, list[Row]] = {}
    for row in rows:
        found.setdefault(row.table, []).append(row)
    return found


class LiveTest(FolderTest):
    def equal(self, path: Path) -> None:
        """Live rows are those that SQLite tells of a copy, which it may roll back."""
        copy = self.folder / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        copy.mkdir()
        for part in path.parent.glob(path.name + "*"):
            if not part.name.endswith("-shm"):
                shutil.copy(part, copy / part.name)
        found = by_table(opened(path).live())
        with closing(sqlite3.connect(copy / path.name)) as db:
            names = [n for n, in db.execute("SELECT name FROM sqlite_schema WHERE type='table'")]
            for name in names:
                wanted = sorted(db.execute(f'SELECT * FROM "{name}"'), key=repr)
                got = sorted((r.values for r in found.get(name, ())), key=repr)
                self.assertEqual(got, wanted, name)

    def test_all_page_sizes_and_encodings(self):
        for size in (512, 1024, 8192, 65_536):
            path = self.folder / f"{size}.db"
            make(path, size, size, rows=60, vacuum=size == 1024,
                 encoding="UTF-16be" if size == 8192 else "UTF-8", growing=True)
            self.equal(path)

    def test_a_log_and_an_unfinished_transaction(self):
        path = self.folder / "w.db"
        db = sqlite3.connect(path, isolation_level=None)
        self.addCleanup(db.close)
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("CREATE TABLE sightings (id INTEGER PRIMARY KEY, told TEXT)")
        db.executemany("INSERT INTO sightings VALUES (?, ?)",
                       [(n, f"otter {n} at the weir") for n in range(1, 400)])
        db.execute("PRAGMA wal_checkpoint")
        db.execute("UPDATE sightings SET told = 'no otter at all' WHERE id < 10")
        db.execute("DELETE FROM sightings WHERE id > 390")
        self.equal(path)
        states = {}
        for row in opened(path).removed():
            states.setdefault(row.state, set()).add(row.values)
        self.assertEqual(states["older"], {(n, f"otter {n} at the weir") for n in range(1, 10)})
        self.assertEqual(states["removed"], {(n, f"otter {n} at the weir")
                                             for n in range(391, 400)})
        other = self.folder / "j.db"
        with closing(sqlite3.connect(other, isolation_level=None)) as rolled:
            rolled.execute("PRAGMA cache_size=2")
            rolled.execute("CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT)")
            rolled.executemany("INSERT INTO t VALUES (?, ?)", [(n, "reeds " * 40)
                                                               for n in range(300)])
            rolled.execute("BEGIN")
            rolled.execute("UPDATE t SET b = 'nothing'")
            kept = self.folder / "killed" / "j.db"
            kept.parent.mkdir()
            for part in self.folder.glob("j.db*"):
                shutil.copy(part, kept.parent / part.name)
            rolled.execute("ROLLBACK")
        self.assertTrue(kept.with_name("j.db-journal").exists())
        self.equal(kept)

    def test_columns_as_sqlite_tells_them(self):
        statements = (
            'CREATE TABLE "a b" (x INTEGER PRIMARY KEY DESC, "y""z" VARCHAR(20) NOT NULL, [w] )',
            "CREATE TABLE t(a, b TEXT DEFAULT 'x, (y', c REAL DEFAULT -1.5, PRIMARY KEY(a, b))",
            "CREATE TABLE t -- so\n (id INTEGER, /* , */ n INT, CONSTRAINT k PRIMARY KEY (id))",
            "CREATE TABLE t (k TEXT PRIMARY KEY, v NUMERIC(4, 2) CHECK (v > 0), d BLOB) "
            "WITHOUT ROWID",
            "CREATE TABLE t (a INT, b INT GENERATED ALWAYS AS (a * 2) STORED, c DATE)")
        for statement in statements:
            with closing(sqlite3.connect(":memory:")) as db:
                db.execute(statement)
                name, = db.execute("SELECT name FROM sqlite_schema").fetchone()
                wanted = db.execute(f'PRAGMA table_xinfo("{name}")').fetchall()
            table = read_table(name, 2, statement)
            self.assertEqual([c.name for c in table.columns], [w[1] for w in wanted])
            self.assertEqual([c.declared.replace(" ", "") for c in table.columns],
                             [w[2].replace(" ", "").replace("GENERATEDALWAYS", "") for w in wanted])

    def test_later_columns_and_their_defaults(self):
        path = self.folder / "l.db"
        with closing(sqlite3.connect(path, isolation_level=None)) as db:
            db.execute("CREATE TABLE t (a TEXT)")
            db.execute("INSERT INTO t VALUES ('one')")
            db.execute("ALTER TABLE t ADD COLUMN b REAL DEFAULT 7")
            db.execute("ALTER TABLE t ADD COLUMN c TEXT DEFAULT 'heron'")
            db.execute("INSERT INTO t VALUES ('two', 2, ?)", ("long " * 3000,))
        self.equal(path)


class WaysTest(FolderTest):
    """Rows that are lost in the ways of every day, whose bytes are left but the first four."""

    def test_what_stands_complete_is_reported_and_nothing_is_made_up(self):
        for way in ("newest", "newest ten", "oldest third", "middle quarter", "dropped"):
            for table, number in NUMBERS.items():
                lost = lose(self.folder / "w.db", 2, table, way)
                told = set()
                for row in Database(MemorySource(lost.data)).removed():
                    if row.table != table:
                        continue
                    known = [i for i, c in enumerate(row.columns) if c not in row.lost]
                    fits = [r for r in lost.every if all(r[i] == row.values[i] for i in known)]
                    self.assertTrue(fits, (way, row))
                    if set(row.lost) <= {number}:
                        told.update(fits)
                    if row.probable is not None and table != "notes":
                        self.assertIn(row.probable, [r[0] for r in fits], (way, row))
                missed = lost.there - told
                # One whose overflow page became a page of the free list has lost bytes there.
                self.assertLessEqual(len(missed), 1 + len(lost.there) * 0.02, (way, table, missed))

    def test_control_characters_hide_no_row(self):
        path, texts = self.folder / "c.db", [f"\x1b[1mreeds {n}\x00\x07 otter" for n in range(40)]
        with closing(sqlite3.connect(path, isolation_level=None)) as db:
            db.execute("PRAGMA secure_delete=0")
            db.execute("CREATE TABLE said (n INTEGER PRIMARY KEY, who TEXT, what TEXT)")
            db.executemany("INSERT INTO said VALUES (?, 'hide 4', ?)", enumerate(texts))
            db.execute("PRAGMA journal_mode=WAL")
            db.execute("PRAGMA wal_autocheckpoint=0")
            db.execute("UPDATE said SET who = 'hide 5' WHERE n = 39")
            db.execute("DELETE FROM said WHERE n = 7")
            log = Path(f"{path}-wal").read_bytes()
            data = path.read_bytes()
        told = [row.values[2] for row in Database(MemorySource(data), MemorySource(log)).removed()
                if row.state == "removed"]
        self.assertEqual(told, [texts[7]])  # and once, though page images repeat it

    def test_a_row_is_listed_once_however_often_it_stands_in_the_log(self):
        path = self.folder / "l.db"
        with closing(sqlite3.connect(path, isolation_level=None)) as db:
            db.execute("PRAGMA secure_delete=0")
            db.execute("PRAGMA journal_mode=WAL")
            db.execute("PRAGMA wal_autocheckpoint=0")
            db.execute("CREATE TABLE said (n INTEGER PRIMARY KEY, who TEXT, what TEXT)")
            for number in range(12):
                db.execute("INSERT INTO said VALUES (?, 'the ferry', ?)",
                           (number, f"seen twice at weir {number}"))
            for number in (11, 10, 3):
                db.execute("DELETE FROM said WHERE n = ?", (number,))
            log, data = Path(f"{path}-wal").read_bytes(), path.read_bytes()
        told = [row.values[2] for row in Database(MemorySource(data), MemorySource(log)).removed()]
        self.assertEqual(sorted(told), sorted(f"seen twice at weir {n}" for n in (11, 10, 3)))


class RemovedTest(FolderTest):
    def test_removed_rows_come_back_and_none_is_made_up(self):
        shares = {}
        for size, seed, count, share in ((1024, 5, 200, 0.2), (4096, 5, 200, 0.2),
                                         (65_536, 5, 200, 0.2), (512, 3, 800, 0.9),
                                         (1024, 3, 800, 0.5)):
            made = make(self.folder / f"{size} {seed} {count}.db", seed, size, rows=count,
                        share=share)
            found = 0
            for name, rows in by_table(opened(made.path).removed()).items():
                parts: dict[tuple[int, ...], set] = {}
                for row in rows if name in made.ever else ():
                    known = tuple(i for i, c in enumerate(row.columns) if c not in row.lost)
                    if known not in parts:
                        parts[known] = {tuple(r[i] for i in known) for r in made.ever[name]}
                    part = tuple(row.values[i] for i in known)
                    self.assertIn(part, parts[known], row)
                    # All but its number, which places make likely only.
                    found += set(row.lost) <= {row.columns[0]} and part not in {
                        tuple(r[i] for i in known) for r in made.ever[name] - made.gone[name]}
            shares[size, count] = found / sum(len(g) for g in made.gone.values())
        self.assertGreater(min(shares.values()), 0.35, shares)
        self.assertGreater(shares[4096, 200], 0.6, shares)

    def test_cleared_rows_stay_gone(self):
        made = make(self.folder / "s.db", 6, secure=True, rows=120)
        self.assertEqual(list(opened(made.path).removed()), [])

    def test_all_rows_of_a_table_and_of_one_that_was_dropped(self):
        made = make(self.folder / "d.db", 7, rows=80, share=0.0, tables=("messages", "contacts"))
        with closing(sqlite3.connect(made.path, isolation_level=None)) as db:
            db.execute("PRAGMA secure_delete=OFF")
            db.execute("DROP TABLE contacts")
            db.execute("DELETE FROM messages")
        found = by_table(opened(made.path).removed())
        for name in ("messages", "contacts"):
            got = {row.values for row in found[name]}
            self.assertLessEqual(got, made.ever[name])
            self.assertGreater(len(got), 60, name)
        self.assertIn("table-dropped", found["contacts"][0].doubts)

    def test_numbers_follow_from_places_only_where_just_as_many_are_missing(self):
        table = read_table("t", 2, TABLES["messages"])
        rows = [Found(table, None, (), at, at + 100) for at in (300, 200)]
        first, last = (500, 6), (100, None)
        for cells, behind, told in (
                ([(400, 500, 7), (100, 200, 10)], last, {300: 8, 200: 9}),
                ([(400, 500, 7), (100, 200, 11)], last, {}),
                ([(400, 500, 10), (100, 200, 7)], last, {}),
                ([(400, 500, 7)], (200, 10), {300: 8, 200: 9}),
                ([(400, 500, 7)], (150, 10), {}),  # something else stood there as well
                ([(410, 500, 7), (100, 200, 10)], last, {})):
            self.assertEqual(by_place(cells, rows, first, behind), told, cells)


class HostileTest(FolderTest):
    @given(st.integers(-(1 << 63), (1 << 63) - 1))
    @examples(200)
    def test_numbers_of_variable_length(self, number):
        groups, rest = [], number & (1 << 64) - 1
        if rest >> 56:
            groups, rest = [rest & 0xFF], rest >> 8
            groups = [*(0x80 | rest >> 7 * i & 0x7F for i in range(7, -1, -1)), *groups]
        else:
            while rest or not groups:
                groups.insert(0, rest & 0x7F | (0x80 if groups else 0))
                rest >>= 7
        self.assertEqual(varint(bytes(groups), 0), (number, len(groups)))
        self.assertEqual(length_of(number), len(groups))

    def test_damage_ends_in_our_own_error_or_in_rows(self):
        whole = make(self.folder / "x.db", 8, 512, rows=10, share=0.4).path.read_bytes()
        rng = random.Random(8)
        for _ in range(400):
            data = bytearray(whole)
            for _ in range(rng.choice((1, 3, 20))):
                at = rng.randrange(len(data) if rng.random() < 0.5 else 2048)
                data[at : at + 4] = rng.choice((b"\xff" * 4, bytes(4), rng.randbytes(4)))
            try:
                database = Database(MemorySource(bytes(data[: rng.choice((len(data), 5000))])))
                for rows in (database.live(), database.removed()):
                    for _ in rows:
                        pass
            except FormatError:
                pass


class CommandTest(FolderTest):
    def test_rows_are_printed_listed_and_written_as_tables(self):
        made = make(self.folder / "phone.db", 9, rows=40)
        before = made.path.read_bytes()
        list_, tables = self.folder / "rows.json", self.folder / "tables"
        done = call("rows", made.path, "--json", list_, "--csv", tables)
        self.assertEqual((done.returncode, made.path.read_bytes()), (0, before), done.stderr)
        told = json.loads(list_.read_text())["rows"]
        self.assertEqual({r["state"] for r in told}, {"live", "removed"})
        self.assertEqual(len(done.stdout.splitlines()), len(told) + 1)
        lines = (tables / "places.csv").read_text().splitlines()
        self.assertEqual(len(lines), 1 + sum(r["table"] == "places" for r in told))
        done = call("rows", "--removed-only", made.path)
        self.assertNotIn("live", {line.split()[0] for line in done.stdout.splitlines()[:-1]})

    def test_whoever_has_read_enough_may_leave(self):
        made = make(self.folder / "a.db", 2, rows=300)
        shown = subprocess.run(
            ["sh", "-c", '"$0" -m needlewright rows "$1" | head -n 2', sys.executable,
             str(made.path)], capture_output=True, text=True, timeout=120)
        self.assertEqual((len(shown.stdout.splitlines()), shown.stderr), (2, ""))

    def test_what_is_no_database_is_refused_in_one_sentence(self):
        other = self.folder / "x.db"
        for content in (b"", b"S", b"SQLite format 3\0" + bytes(200), b"otter" * 100):
            other.write_bytes(content)
            done = call("rows", other)
            self.assertEqual((done.returncode, done.stdout, len(done.stderr.splitlines())),
                             (1, "", 1))
        made = make(self.folder / "a.db", 2, rows=5)
        (self.folder / "there").mkdir()
        done = call("rows", made.path, "--csv", self.folder / "there")
        self.assertEqual(done.returncode, 1)
        self.assertIn("is there already", done.stderr)
