"""The reader process as its owner sees it: reads are handed in, answers come with a time limit.

A reader that does not answer is abandoned: killed, and never waited for, since a process that
hangs in the kernel ends when the kernel lets it.
"""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import select
import threading
import time
from collections import deque
from dataclasses import dataclass
from typing import Any

from needlewright.core import processes
from needlewright.core.errors import SourceError
from needlewright.core.imaging.planner import READ_BYTES, Read
from needlewright.core.sources.map_file import Origin

SLOTS = 6
OPEN_SECONDS = 30.0


@dataclass(frozen=True, slots=True)
class Answer:
    """How a read came out: read, failed (this range), gone (the whole source). `data` is valid
    until as many more reads were handed in as there are slots."""

    read: Read
    outcome: str
    data: memoryview
    seconds: float
    reason: str = ""


class ReaderProcess:
    """One process that reads one source, in the order in which it is asked."""

    def __init__(self, spec: str) -> None:
        """Raises SourceError where the source cannot be opened, or does not open in time."""
        self._memory_fd = os.memfd_create("needlewright-reader")
        os.ftruncate(self._memory_fd, SLOTS * READ_BYTES)
        self._shared = mmap.mmap(self._memory_fd, SLOTS * READ_BYTES)
        self._view = memoryview(self._shared)
        self._process = processes.start(
            "needlewright.core.imaging.reader_child", spec, str(self._memory_fd),
            str(READ_BYTES), pass_fds=(self._memory_fd,))
        self._inbox = b""
        self._slot = 0
        self.waiting: deque[tuple[int, Read]] = deque()
        opened = self._line(OPEN_SECONDS)
        if opened is None:
            self.abandon()
            raise SourceError("source-silent", path=spec, seconds=OPEN_SECONDS)
        if not opened:  # it ended before it said anything
            self.close()
            raise SourceError("reader-ended", path=spec)
        if "error" in opened:
            self.close()
            code = str(opened["error"])
            raise SourceError(code, **dict(opened["values"]))
        self.block = int(opened["block"])
        self.origin = Origin(spec, int(opened["size"]), str(opened["head"]),
                             str(opened["serial"]), str(opened["model"]))

    def ask(self, read: Read) -> None:
        """Hand in a read; at most SLOTS - 1 may wait."""
        self.waiting.append((self._slot, read))
        request = f"{self._slot} {read.offset} {read.length}\n".encode()
        self._slot = (self._slot + 1) % SLOTS
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(request)
            self._process.stdin.flush()
        except BrokenPipeError:
            pass  # the next answer will be that it is gone

    def answer(self, seconds: float) -> Answer | None:
        """The next answer; None where the read at hand takes longer than `seconds`."""
        told = self._line(seconds)
        if told is None:
            return None
        slot, read = self.waiting.popleft()
        outcome = str(told.get("outcome", "gone"))
        got = int(told.get("got", 0))
        data = self._view[slot * READ_BYTES : slot * READ_BYTES + got]
        return Answer(read, outcome, data, float(told.get("seconds", 0.0)),
                      str(told.get("reason", "")))

    def _line(self, seconds: float) -> dict[str, Any] | None:
        """One line of the reader's; an empty answer where it ended, None where it is silent."""
        assert self._process.stdout is not None
        fd = self._process.stdout.fileno()
        until = time.monotonic() + seconds
        while b"\n" not in self._inbox:
            ready, _, _ = select.select([fd], [], [], max(0.0, until - time.monotonic()))
            if not ready:
                return None
            block = os.read(fd, 1 << 16)
            if not block:
                return {}
            self._inbox += block
        line, _, self._inbox = self._inbox.partition(b"\n")
        found: dict[str, Any] = json.loads(line)
        return found

    @property
    def ended(self) -> bool:
        return self._process.poll() is not None

    def abandon(self) -> None:
        """Kill it and never wait; what it holds goes when the kernel lets it."""
        self._process.kill()
        self._close_pipes()
        # Reaps it if it does end; nobody waits for this thread either.
        threading.Thread(target=self._process.wait, daemon=True).start()
        self._let_go()

    def _close_pipes(self) -> None:
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                with contextlib.suppress(BrokenPipeError):
                    pipe.close()

    def close(self) -> None:
        """End it; it is between reads, so that takes no time."""
        self._close_pipes()
        self._process.kill()
        self._process.wait()
        self._let_go()

    def _let_go(self) -> None:
        with contextlib.suppress(BufferError):  # an answer's data may still be looked at
            self._view.release()
            self._shared.close()
        if self._memory_fd >= 0:
            os.close(self._memory_fd)
            self._memory_fd = -1
