"""Decoders that nobody has work for at the moment: to start one takes longer than most pictures do.

Whoever closes a pool leaves its idle workers here; the next pool takes them. What nobody takes for
a while is ended, so that a program at rest has none.
"""

from __future__ import annotations

import os
import subprocess
import threading
import time
from collections.abc import Callable

MOST = 2 * min(4, os.cpu_count() or 1)
KEPT_S = 10.0

Idle = tuple[subprocess.Popen[bytes], tuple[str, ...]]


class Spares:
    """Idle workers, and what the kernel could not take away from each (see `confine`). `end` ends
    one."""

    def __init__(self, end: Callable[[subprocess.Popen[bytes]], None]) -> None:
        self._end = end
        self._lock = threading.Lock()
        self._idle: list[tuple[float, Idle]] = []
        self._timer: threading.Timer | None = None

    def take(self) -> Idle | None:
        """One that lives, if there is one."""
        with self._lock:
            while self._idle:
                _, (process, missing) = self._idle.pop()
                if process.poll() is None:
                    return process, missing
                self._end(process)
        return None

    def leave(self, process: subprocess.Popen[bytes], missing: tuple[str, ...]) -> None:
        """Keep an idle worker for a while, or end it where there are enough."""
        with self._lock:
            if len(self._idle) < MOST and process.poll() is None:
                self._idle.append((time.monotonic(), (process, missing)))
                self._watch()
                return
        self._end(process)

    def _watch(self) -> None:
        if self._timer is None:
            self._timer = threading.Timer(KEPT_S, self._over)
            self._timer.daemon = True
            self._timer.start()

    def _over(self) -> None:
        """End those that nobody took in time."""
        with self._lock:
            self._timer = None
            until = time.monotonic() - KEPT_S / 2
            old = [process for left, (process, _) in self._idle if left <= until]
            self._idle = [(left, idle) for left, idle in self._idle if left > until]
            if self._idle:
                self._watch()
        for process in old:
            self._end(process)
