"""Decoders that nobody has work for at the moment: to start one takes longer than most pictures do.

Whoever closes a pool leaves its idle workers here; the next pool for the same use takes them. What
nobody takes for a while is ended, so that a program at rest has none. A file that took a worker
over could have it lie from then on: so it never goes from what reads damaged files to what checks
mended ones, nor from the files of one job or source to those of another.
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
Left = tuple[float, str, Idle]  # when, and by whom


class Spares:
    """Idle workers, and what the kernel could not take away from each (see `confine`). `end` ends
    one."""

    def __init__(self, end: Callable[[subprocess.Popen[bytes]], None]) -> None:
        self._end = end
        self._lock = threading.Lock()
        self._idle: list[Left] = []
        self.any_use = False  # for tests of our own files, which have a source each
        self._timer: threading.Timer | None = None

    def take(self, use: str) -> Idle | None:
        """One that lives, if there is one that was left by this use."""
        with self._lock:
            for left in [one for one in reversed(self._idle) if self.any_use or one[1] == use]:
                self._idle.remove(left)
                process, missing = left[2]
                if process.poll() is None:
                    return process, missing
                self._end(process)
        return None

    def leave(self, process: subprocess.Popen[bytes], missing: tuple[str, ...], use: str) -> None:
        """Keep an idle worker for a while; where there are too many, the oldest is ended."""
        over = []
        with self._lock:
            if process.poll() is None:
                self._idle.append((time.monotonic(), use, (process, missing)))
                self._watch()
            else:
                over.append(process)
            while len(self._idle) > MOST:
                over.append(self._idle.pop(0)[2][0])
        for one in over:
            self._end(one)

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
            old = [idle[0] for left, _, idle in self._idle if left <= until]
            self._idle = [one for one in self._idle if one[0] > until]
            if self._idle:
                self._watch()
        for process in old:
            self._end(process)
