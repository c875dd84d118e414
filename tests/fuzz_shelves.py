"""`python -m tests.fuzz_shelves [--rounds N] [KIND ...]`: broken backups and answers of services.

Seeded mutations of archives, manifests, images with backups in them, databases, pages of an album
and answers of WebDAV. What is made of them may be an error of ours and nothing else, takes bounded
time, and is never much more than was put in.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import resource
import shutil
import sqlite3
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path

from needlewright.core import secrets
from needlewright.core.databases.reading import Database
from needlewright.core.databases.subjects import subject_of
from needlewright.core.errors import NeedlewrightError
from needlewright.core.shelves.albums import client
from needlewright.core.shelves.backups.finding import find_backups
from needlewright.core.shelves.dav.multistatus import resources_in
from needlewright.core.shelves.wire import Answer
from needlewright.core.sources.memory import MemorySource
from needlewright.standins.backups import Backed, write_backup
from tests.fuzz import SLOW_SECONDS, mutate
from tests.shelves.support import contents, files, write_tree

PASSWORD = "reed"
MOST_MADE = 64 << 20  # bytes that come of a few hundred kilobytes
WHEN = datetime(2031, 5, 19, tzinfo=UTC)
Kind = tuple[bytes, Callable[[bytes], object]]  # what is mutated, what is done with it


def read_all(path: Path) -> None:
    """All that a backup holds; AssertionError where that is out of all proportion."""
    answers = [PASSWORD]
    secrets.asked_by(lambda spec, what, wrong: answers.pop() if answers else None)
    secrets._known.clear()
    found, _ = contents(path)
    made = sum(map(len, found.values()))
    assert made < MOST_MADE, f"{made} bytes were made"


def archives(place: Path) -> dict[str, Kind]:
    tree = write_tree(place / "tree", files())
    with open(tree / "holes.bin", "wb") as file:
        for at in range(0, 1 << 20, 1 << 16):
            file.seek(at)
            file.write(b"otter" * 100)
    made = {}
    for name, command in (("tar", ("tar", "-cf")), ("tar.gz", ("tar", "-czf")),
                          ("tar.zst", ("tar", "--zstd", "-cf")),
                          *((f"tar-sparse-{way}", ("tar", "-S", f"--format={form}", option, "-cf"))
                            for way, form, option in (
                                ("old", "gnu", "--totals"),
                                ("0.0", "pax", "--sparse-version=0.0"),
                                ("0.1", "pax", "--sparse-version=0.1"),
                                ("1.0", "pax", "--sparse-version=1.0")))):
        subprocess.run([*command, place / f"a.{name}", "-C", tree, "."], check=True,
                       stderr=subprocess.DEVNULL)
        made[name] = _file(place / f"a.{name}")
    shutil.make_archive(str(place / "a"), "zip", tree)
    made["zip"] = _file(place / "a.zip")
    seven = shutil.which("7zz") or shutil.which("7z")
    if seven is None:
        return made
    for name, options in (("aes", ("-mem=AES256", f"-p{PASSWORD}")), ("lzma", ("-mm=LZMA",)),
                          ("old", ("-mem=ZipCrypto", f"-p{PASSWORD}"))):
        subprocess.run([seven, "a", "-tzip", *options, place / f"{name}.zip", tree],
                       check=True, stdout=subprocess.DEVNULL)
        made[f"zip-{name}"] = _file(place / f"{name}.zip")
    return made


def phone_backups(place: Path) -> dict[str, Kind]:
    held = [Backed(path, data, WHEN) for path, data in files(2).items()]
    made = {}
    for name, password in (("plain", None), ("sealed", PASSWORD)):
        backup = place / name
        write_backup(backup, "Reedbank F2", WHEN, held, password)
        for part in backup.iterdir():
            if part.is_file():
                made[f"{name}-{part.stem}"] = _file(part, backup)
    content = max((p for p in (place / "sealed/content").rglob("*") if p.is_file()),
                  key=lambda p: p.stat().st_size)
    return made | {"sealed-content": _file(content, place / "sealed")}


def images(place: Path) -> dict[str, Kind]:
    made = {}
    for system, size in (("ext4", 4), ("vfat", 3), ("exfat", 4)):
        top = write_tree(place / system, files(2))
        shutil.make_archive(str(top / "kept"), "tar", top)
        image = place / f"{system}.img"
        image.write_bytes(b"")
        os.truncate(image, size << 20)
        options = ("-d", str(top)) if system == "ext4" else ()
        subprocess.run([f"mkfs.{system}", *options, image], check=True, capture_output=True)
        if system == "vfat":
            subprocess.run(["mcopy", "-s", "-i", image, *top.iterdir(), "::"], check=True)
        made[f"image-{system}"] = image.read_bytes(), lambda data, image=image: _look_into(
            image, data)
    return made


def _look_into(image: Path, data: bytes) -> None:
    image.write_bytes(data)
    for found in find_backups([image], threading.Event()):
        if found.problem is None:
            read_all(found.path)


def _file(path: Path, backup: Path | None = None) -> Kind:
    """A file that is mutated, of a backup that is read then and has its own again afterwards."""
    whole = path.read_bytes()

    def read(data: bytes) -> None:
        path.write_bytes(data)
        try:
            read_all(backup or path)
        finally:
            path.write_bytes(whole)

    return whole, read


def database(place: Path) -> dict[str, Kind]:
    with closing(sqlite3.connect(place / "rows")) as base:
        base.execute("PRAGMA page_size=512")
        base.execute("CREATE TABLE messages (id INTEGER PRIMARY KEY, sender TEXT, sent TEXT, "
                     "text TEXT)")
        base.executemany("INSERT INTO messages VALUES (NULL, ?, ?, ?)", [
            ("Hollow Bank", f"2031-05-{n % 28 + 1}", "seen " * (n % 40)) for n in range(200)])
        base.execute("DELETE FROM messages WHERE id % 3 = 0")
        base.commit()

    def read(data: bytes) -> None:
        subject_of(MemorySource(data))
        read_rows = Database(MemorySource(data))
        count = sum(1 for _ in chain(read_rows.live(), read_rows.removed()))
        assert count < 100 * len(data), f"{count} rows"

    return {"database": ((place / "rows").read_bytes(), read)}


def services(place: Path) -> dict[str, Kind]:
    page = json.dumps({"items": [{
        "id": f"i{n}", "path": f"Reeds/FP_{n}.jpg", "created": 1_936_000_000, "state": state,
        "original": {"size": 9000, "sha256": "a" * 64}, "removed": 1_936_000_000,
        "kept_until": 1_937_000_000, "shared_by": "Weir Cottage"}
        for n, state in enumerate(("present", "removed", "shared"))], "next": "c1", "total": 3})
    answer = b'<?xml version="1.0"?><multistatus xmlns="DAV:">' + b"".join(
        b"<response><href>/dav/a%d.jpg</href><propstat><prop><resourcetype/><getcontentlength>%d"
        b"</getcontentlength><getlastmodified>Mon, 19 May 2031 21:30:00 GMT</getlastmodified>"
        b"</prop><status>HTTP/1.1 200 OK</status></propstat></response>" % (n, n)
        for n in range(5)) + b"</multistatus>"

    def items(data: bytes) -> None:
        told = Answer(200, {"content-type": "application/json"}, data).json("album").get("items")
        for one in told if isinstance(told, list) else ():
            item = client._item(one)
            assert item is None or item.size is None or 0 <= item.size < 1 << 63

    return {"album-page": (page.encode(), items),
            "multistatus": (answer, lambda data: list(resources_in(data, "folder")))}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=2000)
    parser.add_argument("kinds", nargs="*")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as work:
        made: dict[str, Kind] = {}
        for make in (archives, phone_backups, images, database, services):
            place = Path(work, make.__name__)
            place.mkdir()
            made |= make(place)
        for name in options.kinds or made:
            _fuzz(name, *made[name], options.rounds)


def _fuzz(name: str, data: bytes, act: Callable[[bytes], object], rounds: int) -> None:
    rng, refused = random.Random(f"needlewright {name}"), 0
    began, donors = time.process_time(), [data, os.urandom(4096)]
    for _ in range(rounds):
        broken, before = mutate(data, rng, donors), time.process_time()
        try:
            act(broken)
        except NeedlewrightError:
            refused += 1
        took = time.process_time() - before
        assert took < SLOW_SECONDS, f"{name} took {took:.1f} s"
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(f"{name:<16} {rounds:,} rounds in {time.process_time() - began:5.0f} s, "
          f"{refused:,} refused, peak {peak} MiB", flush=True)


if __name__ == "__main__":
    main()
