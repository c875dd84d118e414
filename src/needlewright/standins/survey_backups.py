"""The backups of the survey's field phone: of last month, open and sealed; later ones, from after
the loss; one that is damaged.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import sys
import tempfile
import zipfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import platformdirs

from needlewright.core.shelves.backups.layout_manifest import CONTENT
from needlewright.demo.alone import alone_in
from needlewright.standins.backups import Backed, write_backup
from needlewright.standins.phone.content import name_of, photo_bytes, taken

VERSION = 2
DEVICE = "Reedbank F2"
PASSWORD = "sallow and sedge"
LOSS_DAY = "2031-05-20"
LOST = range(14, 18)  # photos that the phone does not have any more
BEFORE, SINCE = datetime(2031, 5, 19, 21, 30, tzinfo=UTC), datetime(2031, 6, 2, 21, 30, tzinfo=UTC)
DAMAGED_ON = datetime(2031, 5, 18, 21, 30, tzinfo=UTC)
NAMES = ("field phone 2031-05-19", "field phone 2031-05-19 sealed", "field phone 2031-06-02",
         "field phone 2031-06-16", "field phone 2031-05-18 damaged")
READY = "ready"


def folder() -> Path:
    """Where they are kept between runs: in the user's cache."""
    return Path(platformdirs.user_cache_dir("needlewright")) / "survey backups" / f"v{VERSION}"


def build(place: Path | None = None) -> Path:
    """The folder with all of them, drawn if it is not there."""
    target = place or folder()
    if (target / READY).exists():
        return target
    with alone_in(target.parent), tempfile.TemporaryDirectory(dir=target.parent) as work:
        if (target / READY).exists():
            return target  # drawn by another in the meantime
        made = Path(work, "backups")
        made.mkdir()
        draw(made)
        (made / READY).write_text(json.dumps({"loss": LOSS_DAY}))
        shutil.rmtree(target, ignore_errors=True)
        os.replace(made, target)
    return target


def draw(place: Path) -> None:
    """Write them into `place`."""
    photos = {number: _photo(number) for number in (*range(10), *LOST)}
    before = [*photos.values(), _messages(40), *_others()]
    since = [photos[number] for number in range(10)]
    write_backup(place / NAMES[0], DEVICE, BEFORE, before)
    write_backup(place / NAMES[1], DEVICE, BEFORE, before, PASSWORD)
    write_backup(place / NAMES[2], DEVICE, SINCE, [*since, _messages(52), *_others()])
    write_backup(place / NAMES[3], DEVICE, SINCE + timedelta(days=14), since[2:])
    write_backup(place / NAMES[4], DEVICE, DAMAGED_ON, [*list(photos.values())[2:12],
                                                        _messages(30)])
    _damage(place / NAMES[4])
    with zipfile.ZipFile(place / "notes 2031-05-11.zip", "w", zipfile.ZIP_DEFLATED) as out:
        for number in range(3):
            one = photos[number]
            out.writestr(zipfile.ZipInfo(one.path, one.when.timetuple()[:6]), one.data)


def _photo(number: int) -> Backed:
    return Backed(f"DCIM/Camera/{name_of(number)}", photo_bytes(number),
                  taken(number).replace(tzinfo=UTC))


def _messages(count: int) -> Backed:
    """Some of them name photos; every ninth was removed."""
    rows = [(("Hollow Bank", "Reed Island")[n % 2], f"2031-05-{n % 18 + 1:02}T05:{n % 60:02}",
             f"Otter number {n} seen by the weir",
             f"DCIM/Camera/{name_of(LOST[n % len(LOST)])}" if n % 10 == 3 else None)
            for n in range(count)]
    return _database("messages", "messages (id INTEGER PRIMARY KEY, sender TEXT, sent TEXT, "
                     "text TEXT, attachment TEXT)", rows, 9)


def _others() -> list[Backed]:
    """Contacts, calls and notes."""
    people = [(f"{name}, {what}", f"+99 555 01{n:02}") for n, (name, what) in enumerate(
        (name, what) for name in ("Hollow Bank", "Reed Island", "Weir Cottage", "Alder Carr")
        for what in ("warden", "hide", "boat"))]
    calls = [(people[n % len(people)][1], f"2031-05-{n % 18 + 1:02}T06:{n:02}", 17 * n % 240)
             for n in range(24)]
    notes = [(f"Transect {n + 1}", f"Spraint on stone {n + 1}, tracks going upstream",
              f"2031-05-{n + 3:02}") for n in range(8)]
    return [
        _database("contacts", "contacts (id INTEGER PRIMARY KEY, name TEXT, number TEXT)",
                  people, 5),
        _database("calls", "calls (id INTEGER PRIMARY KEY, number TEXT, date TEXT, "
                  "duration INTEGER)", calls, 7),
        _database("notes", "notes (id INTEGER PRIMARY KEY, title TEXT, text TEXT, written TEXT)",
                  notes, 4)]


def _database(name: str, table: str, rows: Sequence[tuple[object, ...]], removed: int) -> Backed:
    """A database of one table, in which each row whose number `removed` divides was removed."""
    with tempfile.TemporaryDirectory() as work:
        path = Path(work, name)
        base = sqlite3.connect(path)
        base.execute("PRAGMA secure_delete=0")
        base.execute(f"CREATE TABLE {table}")
        columns = table.partition("PRIMARY KEY, ")[2].count(",") + 1
        base.executemany(f"INSERT INTO {name} VALUES (NULL{', ?' * columns})", rows)
        base.execute(f"DELETE FROM {name} WHERE id % {removed} = 0")
        base.commit()
        base.close()
        return Backed(f"Documents/{name}.db", path.read_bytes(), BEFORE)


def _damage(place: Path) -> None:
    """One content is missing, one is cut off, one is another than its hash says."""
    files = sorted(path for path in (place / CONTENT).rglob("*") if path.is_file()
                   and path.stat().st_size > 100_000)
    files[0].unlink()
    data = files[1].read_bytes()
    files[1].write_bytes(data[: len(data) // 2])
    data = files[2].read_bytes()
    files[2].write_bytes(data[:60_000] + bytes(4096) + data[64_096:])


if __name__ == "__main__":
    print(build(Path(sys.argv[1]) if len(sys.argv) > 1 else None))
