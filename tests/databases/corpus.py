"""Databases of the survey as phones keep them, made with SQLite itself, with rows removed: what was
removed is known exactly."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from needlewright.core.databases.reading import Database
from needlewright.core.databases.trees import read_cell, read_leaf
from needlewright.core.sources.memory import MemorySource

PEOPLE = ("the ferry", "warden of the weir", "hide 4", "boathouse", "Fernbeck school")
WORDS = ("otter", "weir", "reeds", "holt", "spraint", "morning", "bank", "camera", "battery",
         "tide", "heron", "seen", "twice", "cubs", "bridge", "näher", "— oben", "水獺")
TABLES = {
    "messages": "CREATE TABLE messages (_id INTEGER PRIMARY KEY AUTOINCREMENT, thread INTEGER NOT "
                "NULL, sender TEXT, sent INTEGER, body TEXT, read INTEGER DEFAULT 0)",
    "notes": "CREATE TABLE \"notes\" (title TEXT NOT NULL, body TEXT, written REAL, picture BLOB)",
    "contacts": "CREATE TABLE contacts (id INTEGER PRIMARY KEY, name VARCHAR(80), number TEXT, "
                "photo BLOB, starred BOOLEAN, CHECK (length(name) > 0))",
    "places": "CREATE TABLE places (code TEXT, day DATE, lat DOUBLE, lon DOUBLE, count INT, "
              "PRIMARY KEY (code, day)) WITHOUT ROWID",
}
EXTRA = ("CREATE INDEX by_thread ON messages (thread, sent)",
         "CREATE UNIQUE INDEX by_title ON notes (title)")


@dataclass
class Made:
    """A database and its truth. `live`, `gone`: rows by table, as SELECT * told them; `ever`: every
    row that any table ever held."""

    path: Path
    gone: dict[str, set[tuple[object, ...]]] = field(default_factory=dict)
    ever: dict[str, set[tuple[object, ...]]] = field(default_factory=dict)


def text(rng: random.Random, low: int, high: int) -> str:
    return " ".join(rng.choice(WORDS) for _ in range(rng.randint(low, high)))


def row(rng: random.Random, table: str, number: int) -> tuple[object, ...]:
    match table:
        case "messages":
            return (number, rng.randrange(9), rng.choice(PEOPLE),
                    1_936_000_000_000 + rng.randrange(10**9), text(rng, 1, 20), rng.randrange(2))
        case "notes":
            picture = None if rng.random() < 0.6 else rng.randbytes(rng.randrange(1, 300))
            return (f"{text(rng, 1, 3)} {number}", text(rng, 3, 40), rng.random() * 1e6, picture)
        case "contacts":
            photo = None if rng.random() < 0.8 else rng.randbytes(rng.choice((900, 9000)))
            return (number, f"{rng.choice(PEOPLE)} {number}", f"0{rng.randrange(10**8)}", photo,
                    rng.choice((None, 0, 1)))
        case _:
            return (f"F{number:04}", f"2031-05-{rng.randrange(1, 29):02}", rng.random() * 90,
                    float(rng.randrange(90)), rng.randrange(50))


def make(path: Path, seed: int, page_bytes: int = 4096, secure: bool = False, rows: int = 300,
         journal: str = "DELETE", vacuum: bool = False, encoding: str = "UTF-8",
         tables: Sequence[str] = tuple(TABLES), share: float = 0.3, growing: bool = False) -> Made:
    """A database of `rows` rows a table, of which `share` are removed afterwards; `growing`: more
    are written then, which takes some of the room."""
    rng = random.Random(seed)
    made = Made(path)
    with sqlite3.connect(path, isolation_level=None) as db:
        db.execute("PRAGMA synchronous=OFF")  # the same bytes, without waiting for the disk
        db.execute(f"PRAGMA page_size={page_bytes}")
        db.execute(f"PRAGMA encoding='{encoding}'")
        db.execute(f"PRAGMA auto_vacuum={int(vacuum)}")
        db.execute(f"PRAGMA journal_mode={journal}")
        db.execute(f"PRAGMA secure_delete={int(secure)}")
        for name in tables:
            db.execute(TABLES[name])
        for statement in EXTRA:
            if any(f" ON {name} " in statement for name in tables):
                db.execute(statement)
        db.execute("BEGIN")
        for name in tables:
            for number in range(1, rows + 1):
                values = row(rng, name, number)
                db.execute(f"INSERT INTO {name} VALUES ({','.join('?' * len(values))})", values)
        db.execute("COMMIT")
        for name in tables:
            every = set(db.execute(f"SELECT * FROM {name}"))
            made.ever[name] = set(every)
            key = TABLES[name].split("(", 1)[1].split()[0]
            picked = rng.sample(sorted(every, key=repr), int(len(every) * share))
            for values in picked:
                db.execute(f"DELETE FROM {name} WHERE {key} = ?", (values[0],))
        if growing:
            for name in tables:
                for number in range(rows + 1, rows + rows // 10):
                    values = row(rng, name, number)
                    db.execute(f"INSERT INTO {name} VALUES ({','.join('?' * len(values))})",
                               values)
        for name in tables:
            live = set(db.execute(f"SELECT * FROM {name}"))
            made.ever[name] |= live
            made.gone[name] = made.ever[name] - live
    db.close()
    return made


#: Ways in which rows are lost every day: (rows, the condition by which they are removed).
WAYS = {
    "newest": (30, "{key} = 30"), "newest ten": (30, "{key} > 20"),
    "oldest third": (300, "{key} < 100"), "middle quarter": (200, "{key} BETWEEN 80 AND 129"),
    "every third": (300, "{key} % 3 = 0"), "all": (300, "1"), "dropped": (300, ""),
}
NUMBERS = {"messages": "_id", "notes": "rowid", "contacts": "id"}


@dataclass
class Lost:
    """A database of one table and its rows before and after. `cells`: what stood on the page of
    each removed row, without the first four bytes, over which SQLite writes."""

    data: bytes
    every: set[tuple[object, ...]]
    gone: set[tuple[object, ...]]
    cells: dict[tuple[object, ...], bytes]

    @property
    def there(self) -> set[tuple[object, ...]]:
        """The removed rows of which all bytes but the first four are left."""
        return {row for row in self.gone if self.cells[row] in self.data}


def lose(path: Path, seed: int, table: str, way: str, page_bytes: int = 4096) -> Lost:
    """A database from which rows of `table` were removed in one of `WAYS`."""
    rng, (rows, where) = random.Random(seed), WAYS[way]
    path.unlink(missing_ok=True)
    with closing(sqlite3.connect(path, isolation_level=None)) as db:
        db.execute("PRAGMA synchronous=OFF")
        db.execute(f"PRAGMA page_size={page_bytes}")
        db.execute("PRAGMA secure_delete=0")
        db.execute("CREATE TABLE kept (name TEXT)")
        db.execute(TABLES[table])
        for number in range(1, rows + 1):
            values = row(rng, table, number)
            db.execute(f"INSERT INTO {table} VALUES ({','.join('?' * len(values))})", values)
        every = set(db.execute(f"SELECT * FROM {table}"))
        cells = _cells(path.read_bytes(), table)
        if way == "dropped":
            db.execute(f"DROP TABLE {table}")
            live = set()
        else:
            db.execute(f"DELETE FROM {table} WHERE {where.format(key=NUMBERS[table])}")
            live = set(db.execute(f"SELECT * FROM {table}"))
    return Lost(path.read_bytes(), every, every - live, cells)


def _cells(data: bytes, name: str) -> dict[tuple[object, ...], bytes]:
    database = Database(MemorySource(data))
    found = {}
    for live in database.live():
        if live.table == name:
            page = database.pages.page(live.evidence.page)
            leaf = read_leaf(page, live.evidence.page, database.pages.header.usable)
            cell = read_cell(database.pages, leaf, live.evidence.at)
            found[live.values] = page[cell.at + 4 : cell.stop]
    return found
