"""A pool of isolated decoders: bounded, with time limits, restarted when one dies.

Few and long-lived: a fresh process for each picture would cost more than the picture. Large
pictures are decoded one at a time, so that memory stays within its bound.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from needlewright.core.sources.source import Source

TIME_LIMIT_S = 30.0
THUMBNAIL_SIDE = 360  # pixels
PIXELS_IN_FLIGHT = 40_000_000
LOST_TO_CRASH = "crash"
LOST_TO_TIME = "time"

Key = TypeVar("Key")


@dataclass(frozen=True, slots=True)
class DecodeRequest:
    """What to decode: extents of a source (bytes), Pillow's format name, the expected pixels.

    `preview`: span of the embedded preview inside the file, bytes from its start.
    """

    source: Source
    extents: Sequence[tuple[int, int]]
    format: str
    pixels: int
    preview: tuple[int, int] | None = None
    side: int = THUMBNAIL_SIDE

    def message(self) -> bytes:
        head: dict[str, Any] = {"format": self.format, "side": self.side, "preview": self.preview}
        place = self.source.local_path()
        if place is not None:
            path, shift = place
            head["path"] = path
            head["extents"] = [[offset + shift, length] for offset, length in self.extents]
            return json.dumps(head).encode() + b"\n"
        data = b"".join(self.source.read_at(offset, length) for offset, length in self.extents)
        head["payload"] = len(data)
        return json.dumps(head).encode() + b"\n" + data


@dataclass(frozen=True, slots=True)
class DecodeReport:
    """What the decoder said. `rows`: mean difference to the preview in 30 bands, grey levels."""

    ok: bool
    error: str | None = None
    text: str = ""
    width: int | None = None
    height: int | None = None
    thumbnail: bytes = b""
    preview: str | None = None
    rows: tuple[float, ...] = ()
    correlation: float | None = None


@dataclass(slots=True)
class _Worker(Generic[Key]):
    process: subprocess.Popen[bytes]
    key: Key | None = None
    pixels: int = 0
    started: float = 0.0
    inbox: bytearray = field(default_factory=bytearray)

    @property
    def fd(self) -> int:
        assert self.process.stdout is not None
        return self.process.stdout.fileno()


class DecoderPool(Generic[Key]):
    """Decodes in `workers` processes; hand in with `submit`, take out with `results`."""

    def __init__(self, workers: int | None = None, time_limit_s: float = TIME_LIMIT_S) -> None:
        self._wanted = workers or min(4, os.cpu_count() or 1)
        self._time_limit = time_limit_s
        self._workers: list[_Worker[Key]] = []
        self._queue: deque[tuple[Key, DecodeRequest]] = deque()
        self._early: deque[tuple[Key, DecodeReport]] = deque()

    @property
    def pending(self) -> int:
        """Requests whose result has not been taken out."""
        busy = sum(1 for w in self._workers if w.key is not None)
        return len(self._queue) + busy + len(self._early)

    def submit(self, key: Key, request: DecodeRequest) -> None:
        """Queue one request; its result comes under `key`. Keep `pending` bounded yourself."""
        self._queue.append((key, request))
        self._dispatch()

    def results(self, wait_s: float = 0.0) -> Iterator[tuple[Key, DecodeReport]]:
        """Whatever is ready now; waits up to `wait_s` for at least one."""
        while self._early:
            yield self._early.popleft()
            wait_s = 0.0
        busy = {w.fd: w for w in self._workers if w.key is not None}
        if busy:
            ready, _, _ = select.select(list(busy), [], [], min(wait_s, self._time_limit))
            for fd in ready:
                done = self._receive(busy[fd])
                if done is not None:
                    yield done
        yield from self._overdue()
        self._dispatch()

    def close(self) -> None:
        """End all workers; queued requests are dropped."""
        self._queue.clear()
        for worker in self._workers:
            self._end(worker)
        self._workers.clear()

    def processes(self) -> list[int]:
        """Process ids of the living workers."""
        return [w.process.pid for w in self._workers]

    def _start(self) -> _Worker[Key]:
        environment = {k: v for k, v in os.environ.items() if not k.startswith("QT_")}
        # One arena: worker memory stays close to what pictures need.
        environment["MALLOC_ARENA_MAX"] = "1"
        process = subprocess.Popen(
            [sys.executable, "-m", "needlewright.core.checks.decode_worker"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
            env=environment,
        )
        worker: _Worker[Key] = _Worker(process)
        self._workers.append(worker)
        return worker

    def _dispatch(self) -> None:
        while self._queue:
            key, request = self._queue[0]
            in_flight = sum(w.pixels for w in self._workers if w.key is not None)
            if in_flight and in_flight + request.pixels > PIXELS_IN_FLIGHT:
                return
            idle = next((w for w in self._workers if w.key is None), None)
            if idle is None:
                if len(self._workers) >= self._wanted:
                    return
                idle = self._start()
            self._queue.popleft()
            self._send(idle, key, request)

    def _send(self, worker: _Worker[Key], key: Key, request: DecodeRequest) -> None:
        worker.key, worker.pixels, worker.started = key, request.pixels, time.monotonic()
        assert worker.process.stdin is not None
        try:
            worker.process.stdin.write(request.message())
            worker.process.stdin.flush()
        except BrokenPipeError:
            self._lose(worker, LOST_TO_CRASH)

    def _receive(self, worker: _Worker[Key]) -> tuple[Key, DecodeReport] | None:
        block = os.read(worker.fd, 1 << 20)
        if not block:
            self._lose(worker, LOST_TO_CRASH)
            return self._early.popleft() if self._early else None
        worker.inbox += block
        line_end = worker.inbox.find(b"\n")
        if line_end < 0:
            return None
        answer = json.loads(bytes(worker.inbox[:line_end]))
        total = line_end + 1 + int(answer["blob"])
        if len(worker.inbox) < total:
            return None
        blob = bytes(worker.inbox[line_end + 1 : total])
        del worker.inbox[:total]
        key, worker.key = worker.key, None
        assert key is not None
        return key, DecodeReport(
            bool(answer["ok"]), answer.get("error"), answer.get("text", ""), answer.get("width"),
            answer.get("height"), blob, answer.get("preview"), tuple(answer.get("rows", ())),
            answer.get("correlation"),
        )

    def _overdue(self) -> Iterator[tuple[Key, DecodeReport]]:
        now = time.monotonic()
        for worker in list(self._workers):
            if worker.key is not None and now - worker.started > self._time_limit:
                self._lose(worker, LOST_TO_TIME)
        while self._early:
            yield self._early.popleft()

    def _lose(self, worker: _Worker[Key], why: str) -> None:
        """Give up `worker`: its one picture gets a failed check, and a new process follows."""
        key = worker.key
        self._end(worker)
        self._workers.remove(worker)
        if key is not None:
            self._early.append((key, DecodeReport(False, why)))

    @staticmethod
    def _end(worker: _Worker[Key]) -> None:
        process = worker.process
        process.kill()
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                # Unsent bytes of a request that nobody will read are no loss.
                with contextlib.suppress(BrokenPipeError):
                    pipe.close()
        process.wait()
