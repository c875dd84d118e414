"""`python -m benchmarks.shelves [--items N] [--album N] [--size MIB] [--breaks N]`: how fast
backups and albums are listed and fetched, and what is left of it when connections break.

A backup of N items is listed, plain and sealed, against reading its manifest and the names of its
contents once. An album of N items over loopback: its first page, and all of it, against the same
bytes over a plain socket. Contents out of a sealed backup, a ZIP archive and the album into files
with their hashes, against `cat` of the same bytes. Fifty breaks at random places each.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import plistlib
import random
import resource
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

from benchmarks.phones import SERVE
from needlewright.core import kept_open, secrets
from needlewright.core.shelves.albums import client
from needlewright.core.shelves.backups import layout_manifest
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf
from needlewright.standins.album.content import PASSWORD
from needlewright.standins.album.faults import AlbumFaults
from needlewright.standins.album.start import SurveyAlbum
from needlewright.standins.backups import Backed, seal, write_backup

WHEN = datetime(2031, 5, 12, tzinfo=UTC)
ROUNDS = 3
MIB = 1 << 20


def listing(place: Path, count: int) -> None:
    """A backup of `count` items, without contents of any size."""
    for name, password in (("plain", None), ("sealed", "reed")):
        backup = place / name
        write_backup(backup, "Reedbank F2", WHEN, [Backed("a", b"a", WHEN)], password)
        _many(backup, count, password)
        spec = f"backup:{backup}"
        secrets.keep(spec, secrets.Secret("reed"))
        took, bare = [], []
        for _ in range(ROUNDS):
            begun = time.perf_counter()
            (backup / ("manifest.sealed" if password else "manifest.sqlite")).read_bytes()
            for number in range(256):
                os.listdir(backup / "content" / f"{number:02x}")
            bare.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            with open_source(spec) as shelf:
                assert isinstance(shelf, DistantShelf)
                there = len(shelf.offered())
            took.append(time.perf_counter() - begun)
            kept_open.let_all_go()
        assert there == count, there
        print(f"{name} backup, {count:,} items listed: {min(took):.2f} to {max(took):.2f} s "
              f"(target 3); reading the same bytes and names takes {min(bare):.2f} s")


def _many(backup: Path, count: int, password: str | None) -> None:
    (backup / "manifest.sqlite").unlink(missing_ok=True)
    work = backup.parent / "manifest.work"
    work.unlink(missing_ok=True)
    base = sqlite3.connect(work)
    base.execute("CREATE TABLE files (path TEXT, size INTEGER, created INTEGER, modified INTEGER, "
                 "removed INTEGER, kept_until INTEGER, sha256 TEXT)")
    names = [hashlib.sha256(str(n).encode()).hexdigest() for n in range(count)]
    base.executemany("INSERT INTO files VALUES (?, ?, ?, ?, NULL, NULL, ?)", [
        (f"DCIM/1{n // 1000:02}BRKFD/BF_{n:06}.JPG", 4_000_000 + n, 1_936_000_000 + n,
         1_936_000_000 + n + n % 3, name) for n, name in enumerate(names)])
    base.commit()
    base.close()
    for name in names:
        folder = backup / "content" / name[:2]
        folder.mkdir(exist_ok=True)
        (folder / name).touch()
    told = plistlib.loads((backup / "facts.plist").read_bytes())
    told["Items"] = count
    (backup / "facts.plist").write_bytes(plistlib.dumps(told))
    data = work.read_bytes()
    if password is None:
        (backup / "manifest.sqlite").write_bytes(data)
    else:
        key = layout_manifest.Scheme.of(told["Encryption"]).key(password)
        assert key is not None
        (backup / "manifest.sealed").write_bytes(seal(data, key, "manifest"))


def album(place: Path, count: int) -> None:
    """An album of `count` items."""
    with _album(place, [], AlbumFaults(made_up=count, no_code=True)) as served:
        for _ in range(ROUNDS):
            client._SESSIONS.clear()
            moments: list[float] = []
            begun = time.perf_counter()
            with open_source("album:bench") as shelf:
                assert isinstance(shelf, DistantShelf)
                shelf.look(lambda done, total: None, partial(_note, moments))
                there = len(shelf.offered())
            whole = time.perf_counter() - begun
            kept_open.let_all_go()
            assert there == count, there
            print(f"album, {count:,} items: first page {moments[0] - begun:.2f} s (target 1), "
                  f"all {whole:.1f} s; requests {served.wish('state')['requests']:,}")


def _note(moments: list[float], some: object) -> None:
    moments.append(time.perf_counter())


class _album(SurveyAlbum):
    def __init__(self, place: Path, files: list[Path], faults: AlbumFaults) -> None:
        items = []
        for number, path in enumerate(files):
            digest = hashlib.sha256(path.read_bytes()).hexdigest()
            items.append({"told": {
                "id": f"i{number}", "path": path.name, "created": 1, "modified": 1,
                "state": "present", "original": {"size": path.stat().st_size, "sha256": digest},
                "reduced": None}, "files": {"original": str(path)}})
        super().__init__(items, faults)
        known = place / "albums"
        known.mkdir(exist_ok=True)
        os.environ["NEEDLEWRIGHT_ALBUMS"] = str(known)
        (known / "bench.json").write_text(json.dumps({"address": self.address,
                                                      "user": "hollow.bank"}))
        secrets.keep("album:bench", secrets.Secret(PASSWORD))
        client._SESSIONS.clear()


def fetching(place: Path, mib: int) -> None:
    """Contents of `mib` MiB together, in files of 4 MiB."""
    chance = random.Random(1)
    files = []
    for number in range(mib // 4):
        path = place / f"f{number:03}.bin"
        path.write_bytes(chance.randbytes(4 * MIB))
        files.append(path)
    held = [Backed(path.name, path.read_bytes(), WHEN) for path in files]
    write_backup(place / "sealed to fetch", "Reedbank F2", WHEN, held, "reed")
    with zipfile.ZipFile(place / "a.zip", "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out:
        for path in files:
            out.write(path, path.name)
    secrets.keep(f"backup:{place / 'sealed to fetch'}", secrets.Secret("reed"))
    with _album(place, files, AlbumFaults(no_code=True)):
        for name, spec in (("sealed backup", f"backup:{place / 'sealed to fetch'}"),
                           ("ZIP archive", f"backup:{place / 'a.zip'}"),
                           ("album", "album:bench")):
            ratios = []
            for _ in range(ROUNDS):
                plain = _by_socket(place, mib) if name == "album" else _by_cat(place, files)
                ratios.append(plain / _fetched(place, spec, files))
            print(f"{name}, {mib} MiB fetched with their hashes compared: "
                  f"{min(ratios):.2f} to {max(ratios):.2f} of "
                  f"{'a plain socket' if name == 'album' else 'cat'} into files that are hashed")


def _fetched(place: Path, spec: str, files: list[Path]) -> float:
    target = place / "fetched"
    begun = time.perf_counter()
    with open_source(spec) as shelf:
        assert isinstance(shelf, DistantShelf)
        for one in shelf.offered():
            target.unlink(missing_ok=True)
            shelf.bring(one, target, lambda got: None)
            with target.open("rb") as file:
                hashlib.file_digest(file, "sha256")
    took = time.perf_counter() - begun
    kept_open.let_all_go()
    assert target.read_bytes() == files[-1].read_bytes()
    return took


def _by_cat(place: Path, files: list[Path]) -> float:
    target, begun = place / "by cat", time.perf_counter()
    for path in files:
        with target.open("wb") as out:
            subprocess.run(["cat", path], stdout=out, check=True)
        with target.open("rb") as file:
            hashlib.file_digest(file, "sha256")
    return time.perf_counter() - begun


def _by_socket(place: Path, mib: int) -> float:
    server = subprocess.Popen([sys.executable, "-c", SERVE, str(mib // 4), str(4 * MIB)],
                              stdout=subprocess.PIPE)
    assert server.stdout is not None
    port = int(server.stdout.readline())
    target, begun = place / "by socket", time.perf_counter()
    with socket.create_connection(("127.0.0.1", port)) as wire:
        for _ in range(mib // 4):
            left = 4 * MIB
            with target.open("wb") as out:
                while left:
                    block = wire.recv(min(left, MIB))
                    out.write(block)
                    left -= len(block)
            with target.open("rb") as file:
                hashlib.file_digest(file, "sha256")
    took = time.perf_counter() - begun
    server.wait()
    server.stdout.close()
    return took


def breaks(place: Path, count: int) -> None:
    """The connection breaks `count` times at random places, sessions end, it asks to wait."""
    from needlewright.core.jobs.opening import job_for_image
    from needlewright.core.jobs.runner import run_search
    from needlewright.core.search.plan import Plan

    chance = random.Random(7)
    files = []
    for number in range(40):
        path = place / f"b{number:03}.bin"
        path.write_bytes(chance.randbytes(chance.randrange(1, MIB)))
        files.append(path)
    total = sum(path.stat().st_size for path in files)
    drops = [chance.randrange(1, 2 * total // count) for _ in range(count)]
    drops = drops[: count]
    faults = AlbumFaults(no_code=True, drops=drops, limits=29, retry=1, expires=23)
    with _album(place, files, faults) as served:
        job, row = job_for_image(place / "job", "album:bench")
        with job:
            for _ in run_search(job, row, Plan(("kept-copies",)), threading.Event()):
                pass
            rows = job.matching()
        told = served.wish("state")
    found = sorted(hashlib.sha256(path.read_bytes()).hexdigest()
                   for path in (place / "job/brought").iterdir())
    truth = sorted(hashlib.sha256(path.read_bytes()).hexdigest() for path in files)
    print(f"{count} breaks, {told['expired']} sessions that ended, {told['limited']} times to come "
          f"later: {len(rows)} of {len(files)} files, "
          f"{'every byte' if found == truth else 'BYTES DIFFER'}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--items", type=int, default=100_000)
    parser.add_argument("--album", type=int, default=50_000)
    parser.add_argument("--size", type=int, default=400, help="MiB that are fetched")
    parser.add_argument("--breaks", type=int, default=50)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        listing(Path(scratch), options.items)
    with tempfile.TemporaryDirectory() as scratch:
        album(Path(scratch), options.album)
    with tempfile.TemporaryDirectory() as scratch:
        fetching(Path(scratch), options.size)
    with tempfile.TemporaryDirectory() as scratch:
        breaks(Path(scratch), options.breaks)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory of the whole benchmark: {peak:.0f} MiB")


if __name__ == "__main__":
    main()
