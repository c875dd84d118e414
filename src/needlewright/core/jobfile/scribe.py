"""The one thread that writes to a job's file in this process.

Everybody who writes hands over what is to be written and waits until it is. What a person asked for
goes before the batches of a search, which are cut so small that nobody waits for long. Other
processes are kept apart by SQLite's own lock.
"""

from __future__ import annotations

import itertools
import os
import queue
import threading
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import Any, TypeVar

T = TypeVar("T")

SOON, IN_TURN, NO_MORE = range(3)  # the order in which the thread takes what waits
_Entry = tuple[int, int, "Future[Any] | None", Callable[[], Any]]
_scribes: dict[str, Scribe] = {}
_lock = threading.Lock()


class Scribe:
    """Runs what it is given, one after another, in a thread of its own."""

    def __init__(self, folder: str) -> None:
        self._folder = folder
        self._users = 0
        self._count = itertools.count()
        self._waiting: queue.PriorityQueue[_Entry] = queue.PriorityQueue()
        self._thread: threading.Thread | None = None

    def write(self, act: Callable[[], T], soon: bool = False) -> T:
        """Run `act` in the writing thread and wait for it; raises what it raises.

        `soon`: before everything that waits in turn. What is written as part of something larger
        runs at once.
        """
        if threading.current_thread() is self._thread:
            return act()
        done: Future[T] = Future()
        with _lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="scribe", daemon=True)
                self._thread.start()
            self._waiting.put((SOON if soon else IN_TURN, next(self._count), done, act))
        return done.result()

    def leave(self) -> None:
        """One user less; with the last the thread ends, after all that waits is written."""
        with _lock:
            self._users -= 1
            if self._users:
                return
            _scribes.pop(self._folder, None)
            thread = self._thread
            if thread is not None:
                self._waiting.put((NO_MORE, next(self._count), None, lambda: None))
        if thread is not None and thread is not threading.current_thread():
            thread.join()

    def _run(self) -> None:
        while True:
            _, _, done, act = self._waiting.get()
            if done is None:
                return
            try:
                done.set_result(act())
            except BaseException as error:  # it belongs to whoever waits for it
                done.set_exception(error)
            del done, act


def scribe_of(folder: Path) -> Scribe:
    """The scribe of the job in `folder`, shared by all who write there; `leave` it in the end."""
    name = os.path.realpath(folder)
    with _lock:
        found = _scribes.setdefault(name, Scribe(name))
        found._users += 1
    return found
