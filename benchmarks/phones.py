"""`python -m benchmarks.phones [--objects N] [--photos N] [--moments N] [--away]`: how fast phones
are listed and fetched, and what is left of it when they go away.

Objects are listed with all their properties over loopback; photos are fetched with their hashes,
against the same bytes over a plain socket into files; and a search is killed, the cable pulled, the
phone locked or the connection broken at random moments, until all is there.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import resource
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from functools import partial
from pathlib import Path

from tests.phones import owner

from needlewright.app.window import MainWindow
from needlewright.core.jobfile.store import Job
from needlewright.core.phones.phone import Phone
from needlewright.core.search.bringing import Carrier
from needlewright.core.search.plan import Plan
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf, Offered
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults

SERVE = """
import socket, sys
count, size = int(sys.argv[1]), int(sys.argv[2])
listener = socket.create_server(("127.0.0.1", 0))
print(listener.getsockname()[1], flush=True)
client, _ = listener.accept()
data = bytes(range(256)) * (size // 256 + 1)
for _ in range(count):
    client.sendall(memoryview(data)[:size])
client.close()
"""
BLOCK = 1 << 20
ROUNDS = 3
AWAY_SECONDS = 20.0


def away(count: int) -> None:
    """How long the window is away while a phone of `count` files is opened, listed and fetched."""
    from benchmarks.window import away_while, shown_in

    with owner.many(count, 40_000) as phone, tempfile.TemporaryDirectory() as scratch:
        window = shown_in(Path(scratch))
        session = window.session
        for name, begin, going in (
                ("opened and listed", lambda: session.open_phone(phone.address),
                 lambda: session.source is None),
                ("looked into", lambda: window.search.look_inside(),
                 lambda: not (window.search.inside and window.search.inside.model.shown)),
                ("narrowed to a part", lambda: _narrowed(window),
                 lambda: len(window.search.inside.model.shown) > count // 2),
                ("left alone again", lambda: _closed(window), lambda: session.listings.busy),
                ("fetched", lambda: session.begin_search(Plan(("kept-copies",))),
                 partial(_before, AWAY_SECONDS))):
            figures = away_while(begin, going)
            print("while a phone of {:,} files is {}, the window answers within {:.0f} ms (median),"
                  " {:.0f} ms (99 %), {:.0f} ms (always; target 50)".format(count, name, *figures),
                  flush=True)
        window.close()


def _narrowed(window: MainWindow) -> None:
    window.search.inside.filter.setText("bf_0")


def _closed(window: MainWindow) -> None:
    window.search.inside.table.selectAll()
    window.search.inside.reject()


def _before(seconds: float, begun: list[float] = []) -> bool:  # noqa: B006 (when it was first asked)
    """Whether `seconds` have not passed since it was asked first."""
    begun.append(time.monotonic())
    return begun[-1] - begun[0] < seconds


def listed(count: int) -> None:
    with owner.many(count, 1000) as phone:
        client = Phone(phone.address)
        client.state()
        begun = time.monotonic()
        found = client.listing()
        spent = time.monotonic() - begun
        client.close()
    print(f"{found.told:,} of {found.offered - found.folders:,} files listed with all properties: "
          f"{spent:.2f} s (target 5)", flush=True)


def plain(count: int, size: int, folder: Path, hashing: bool = False) -> float:
    """Seconds of the same bytes over a plain socket into files, `hashing` each."""
    server = subprocess.Popen([sys.executable, "-I", "-c", SERVE, str(count), str(size)],
                              stdout=subprocess.PIPE)
    assert server.stdout is not None
    port = int(server.stdout.readline())
    room = memoryview(bytearray(BLOCK))
    begun = time.monotonic()
    with socket.create_connection(("127.0.0.1", port)) as client:
        for number in range(count):
            with open(folder / f"{number}", "wb", buffering=0) as out:
                left, digest = size, hashlib.sha256()
                while left:
                    got = client.recv_into(room[: min(BLOCK, left)])
                    out.write(room[:got])
                    if hashing:
                        digest.update(room[:got])
                    left -= got
    spent = time.monotonic() - begun
    server.wait()
    server.stdout.close()
    return spent


def brought(shelf: DistantShelf, offered: list[Offered], folder: Path) -> float:
    """Seconds until all is here, safe on the disk and hashed."""
    begun = time.monotonic()
    carrier = Carrier(shelf, offered, folder, threading.Event(), 30.0)
    here = 0
    while (came := carrier.next_ones()) is not None:
        here += sum(1 for one in came if one.sha256)
    spent = time.monotonic() - begun
    carrier.end()
    assert here == len(offered), here
    return spent


def fetched(count: int, size: int) -> None:
    with tempfile.TemporaryDirectory() as name, owner.many(count, size) as phone:
        folder = Path(name)
        shelf = open_source(phone.address)
        assert isinstance(shelf, DistantShelf)
        offered = list(shelf.offered())
        best = {"plain": 1e9, "hashing": 1e9, "ours": 1e9}
        for _ in range(ROUNDS):
            for name in best:
                shutil.rmtree(folder / "files", ignore_errors=True)
                (folder / "files").mkdir()
                os.sync()  # what was written before is no burden on what follows
                if name == "ours":
                    spent = brought(shelf, offered, folder / "files")
                else:
                    spent = plain(count, size, folder / "files", name == "hashing")
                best[name] = min(best[name], spent)
        print(f"{count:,} photos of {size:,} bytes: {best['ours']:.1f} s, a plain socket "
              f"{best['plain']:.1f} s: {best['plain'] / best['ours']:.2f} (target 0.7); one that "
              f"hashes {best['hashing']:.1f} s: {best['hashing'] / best['ours']:.2f} (best of "
              f"{ROUNDS} each)", flush=True)
        shelf.close()


def interrupted(moments: int) -> None:
    """A search that is killed, dropped, pulled and locked until it is through."""
    rng = random.Random(moments)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        stores = owner.folders(folder)
        with FieldPhone(stores, PhoneFaults(made_up=300, size=300_000, slow=60e6)) as phone:
            phone.open()
            truth = owner.by_path(phone.truth())
            done, happened = False, {"kill": 0, "lock": 0, "pull": 0}
            begun = time.monotonic()
            while not done and time.monotonic() - begun < 600:
                search = subprocess.Popen(
                    [sys.executable, "-m", "needlewright", "search", phone.address, "--job",
                     str(folder / "job"), "--wait", "20"], stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL)
                while search.poll() is None:
                    time.sleep(rng.uniform(0.3, 1.6))
                    if sum(happened.values()) >= moments:
                        done = search.wait(300) == 0
                        break
                    what = rng.choice(("kill", "lock", "pull"))
                    happened[what] += 1
                    if what == "kill":
                        search.send_signal(signal.SIGKILL)
                        search.wait()
                        break
                    phone.wish(*(("lock",) if what == "lock" else ("pull",)))
                    time.sleep(rng.uniform(0.05, 0.5))
                    phone.wish(*(("unlock",) if what == "lock" else ("plug",)))
                else:
                    done = search.returncode == 0 and sum(happened.values()) >= moments
            lost, doubled, foreign = 0, 0, 0
            with Job(folder / "job", read_only=True) as job:
                found: dict[str, list[str]] = {}
                for row in job.matching():
                    content = job.record(row.id).content
                    place = Path(job.folder) / getattr(content, "file", "none")
                    found.setdefault(row.path or "", []).append(
                        owner.sha256(place) if place.is_file() else "")
            for path, hashes in truth.items():
                lost += path not in found
                foreign += path in found and sorted(found[path]) != sorted(hashes)
            doubled = sum(len(h) for h in found.values()) - sum(len(h) for h in truth.values())
            print(f"{sum(happened.values())} moments {happened}: {len(truth)} objects, "
                  f"lost {lost}, doubled {max(0, doubled)}, foreign bytes {foreign}",
                  flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--objects", type=int, default=20_000)
    parser.add_argument("--photos", type=int, default=5000)
    parser.add_argument("--size", type=int, default=400_000)
    parser.add_argument("--moments", type=int, default=50)
    parser.add_argument("--away", action="store_true", help="the window's answers alone")
    options = parser.parse_args()
    os.environ.setdefault("PYTHONUNBUFFERED", "1")
    if options.away:
        away(options.objects)
        return
    listed(options.objects)
    fetched(options.photos, options.size)
    interrupted(options.moments)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"peak of the largest process {peak:.0f} MiB")


if __name__ == "__main__":
    main()
