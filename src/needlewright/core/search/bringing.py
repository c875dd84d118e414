"""Bringing the files of a shelf that is elsewhere into a folder, in a thread of its own.

What was brought stays there. Where the shelf goes away in the middle, it is waited for, and the
very file goes on.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import queue
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TypeAlias

from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.hashing import sha256_of
from needlewright.core.phones.phone import OF_STATES
from needlewright.core.sources.shelf import DistantShelf, Offered
from needlewright.core.stopping import Interrupted, StopSignal

AHEAD = 64  # files that are brought before they are looked at
LOOK_SECONDS, WAIT_SECONDS = 0.2, 1.5
TRIES, TORN = 8, 3  # for one file of which nothing more comes, or comes in another length
CUT_OFF = 40  # … because the shelf went away each time: some files bring devices down
PHONE = "phone"  # the kind of source
Hands: TypeAlias = queue.Queue[tuple[Offered, Path] | None]
#: What passes when a person does something, or by itself.
AWAY = frozenset(("phone-lost", "shelf-lost", "shelf-limited", *OF_STATES.values()))


@dataclass(slots=True)
class Came:
    """What came of bringing a file; `state`: nothing came, the device is in this state;
    `fault`: one of ours."""

    offered: Offered | None = None
    path: Path | None = None
    sha256: str = ""
    error: NeedlewrightError | None = None
    state: str = ""
    fault: Exception | None = None


def until_back(shelf: DistantShelf, stop: StopSignal, patience: float) -> Iterator[str]:
    """The state that a shelf is in, again and again until it is back; SourceError where that takes
    over `patience` seconds."""
    until = time.monotonic() + patience
    while not stop.is_set():
        problem = None
        try:
            state = shelf.is_back()
        except SourceError as error:
            if error.code not in AWAY:
                raise
            state, problem = str(error.values.get("state") or "unseen"), error
        if not state:
            return
        if time.monotonic() > until:
            raise problem or SourceError(
                OF_STATES.get(state, "phone-unseen") if shelf.kind == PHONE else "shelf-lost",
                path=shelf.name, reason=state)
        yield state
        begun = time.monotonic()
        while time.monotonic() - begun < WAIT_SECONDS and not stop.is_set():
            time.sleep(0.05)


class Carrier:
    """Brings files in a thread of its own, a few ahead of what is looked at."""

    def __init__(self, shelf: DistantShelf, wanted: list[Offered], folder: Path,
                 stop: StopSignal, patience: float) -> None:
        """`patience`: seconds that the shelf is waited for when it went away."""
        self._patience, self._was_away = patience, False
        self._shelf, self._wanted, self._folder, self._stop = shelf, wanted, folder, stop
        self._came: queue.Queue[Came | None] = queue.Queue(AHEAD)
        # From hand to hand, in their order: a search goes on behind what was settled last.
        self._here: Hands = queue.Queue(AHEAD)
        self._safe: Hands = queue.Queue(AHEAD)
        self._ended = threading.Event()
        shelf.heed(self)
        self._threads = [threading.Thread(target=run, daemon=True)
                         for run in (self._run, self._keep, self._hash)]
        for thread in self._threads:
            thread.start()

    def next_ones(self) -> list[Came] | None:
        """What has come since, maybe nothing; None at the end."""
        found: list[Came] = []
        with contextlib.suppress(queue.Empty):
            one = self._came.get(timeout=LOOK_SECONDS)
            while one is not None:
                found.append(one)
                if len(found) >= AHEAD:
                    return found
                one = self._came.get_nowait()
            if not found:
                return None
            self._put(None)  # said once more, when the others are done with
        return found

    def end(self) -> None:
        self._ended.set()
        for thread in self._threads:
            thread.join()

    def _run(self) -> None:
        """Bring one after another."""
        try:
            for offered in self._wanted:
                if not self._one(offered):
                    return
        except Interrupted:
            pass
        except Exception as fault:  # told, or files would just be missing
            self._put(Came(fault=fault))
        finally:
            self._hand_on(self._here, None)

    def _keep(self) -> None:
        """Give what came its name once it is safe on the disk, while more comes."""
        for offered, path in self._handed(self._here):
            with self._telling():
                part = _part_of(self._place_of(offered))
                if part.exists():  # else brought before
                    _make_safe(part, path)
                self._hand_on(self._safe, (offered, path))
        self._hand_on(self._safe, None)

    def _hash(self) -> None:
        """… and its hash, while others are made safe."""
        for offered, path in self._handed(self._safe):
            with self._telling():
                self._put(Came(offered, path, sha256_of(path)))
        self._put(None)

    def _handed(self, hands: Hands) -> Iterator[tuple[Offered, Path]]:
        """What is handed on, until the end of it, or of all."""
        while not self._ended.is_set():
            with contextlib.suppress(queue.Empty):
                one = hands.get(timeout=LOOK_SECONDS)
                if one is None:
                    return
                yield one

    @contextlib.contextmanager
    def _telling(self) -> Iterator[None]:
        """Whatever goes wrong with a file is told where files are taken."""
        try:
            yield
        except OSError as error:
            self._put(Came(error=SourceError("phone-disk", path=self._shelf.name,
                                             reason=error.strerror or str(error))))
        except Exception as fault:
            self._put(Came(fault=fault))

    def _hand_on(self, hands: Hands, one: tuple[Offered, Path] | None) -> None:
        while not self._ended.is_set():
            with contextlib.suppress(queue.Full):
                hands.put(one, timeout=LOOK_SECONDS)
                return

    def _put(self, one: Came | None) -> None:
        while not self._ended.is_set():
            with contextlib.suppress(queue.Full):
                self._came.put(one, timeout=LOOK_SECONDS)
                return

    def _one(self, offered: Offered) -> bool:
        """One file, however long it takes; False where the work ends before."""
        path = self._place_of(offered)
        part = _part_of(path)
        tries = cut_off = 0
        refused = False
        while not self.is_set():
            before = _size_of(part)
            try:
                if not path.exists():
                    self._shelf.bring(offered, part, lambda got: None)
                    if self._shelf.flaw(offered) is not None:
                        # Never taken for the file another time: the shelf is asked again then.
                        path = path.with_name(f"flawed-{path.name}")
                self._hand_on(self._here, (offered, path))
                return True
            except SourceError as error:
                if error.code == "phone-disk":
                    self._put(Came(error=error))
                    return False
                torn = error.values.get("reason") == "wrong-length"
                if _size_of(part) > before and not torn:
                    tries, cut_off, refused = 0, 0, False
                if error.code == "phone-refused" and not refused:
                    # It may have been locked just then, and open again when it was asked why.
                    refused = True
                    continue
                tries += 1
                most = TORN if torn else TRIES
                if error.code not in AWAY or tries > most or cut_off > CUT_OFF:
                    with contextlib.suppress(OSError):
                        part.unlink()
                    self._put(Came(offered, error=error))
                    return True
                if torn:
                    with contextlib.suppress(OSError):
                        part.unlink()  # nobody knows which of its bytes are its own
                if not self._waited():
                    return False
                if self._was_away:
                    tries, cut_off = tries - 1, cut_off + 1
        return False

    def _place_of(self, offered: Offered) -> Path:
        return self._folder / _name_of(self._shelf.spec, offered)

    def _waited(self) -> bool:
        """Wait until the shelf is back; whether it is. `_was_away`: whether it had to be."""
        shown, self._was_away = None, False
        try:
            for state in until_back(self._shelf, self, self._patience):
                self._was_away = True
                if state != shown:
                    self._put(Came(state=state))
                    shown = state
        except SourceError as error:
            self._put(Came(error=error))
            return False
        if shown is not None and not self.is_set():
            self._put(Came())
        return not self.is_set()

    def is_set(self) -> bool:
        """Whether it is to stop."""
        return self._ended.is_set() or self._stop.is_set()


def _size_of(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _part_of(path: Path) -> Path:
    return path.with_name(f"{path.name}.part")


def _make_safe(part: Path, path: Path) -> None:
    with open(part, "rb") as file:
        os.fsync(file.fileno())
    os.replace(part, path)


def _name_of(spec: str, offered: Offered) -> str:
    """The name under which a file is kept: another for another content, and on another shelf."""
    told = f"{spec}\0{offered.entry.key}\0{offered.version}"
    digest = hashlib.sha256(told.encode("utf-8", "replace"))
    suffix = os.path.splitext(offered.entry.path)[1]
    plain = suffix if suffix[1:].isascii() and suffix[1:].isalnum() and len(suffix) < 12 else ""
    return f"{digest.hexdigest()[:32]}{plain.lower()}"
