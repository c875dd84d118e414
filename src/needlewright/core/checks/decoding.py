"""A pool of isolated decoders: bounded, restarted when one dies or takes too much.

Few and long-lived: a fresh process for each picture would cost more than the picture. Large
pictures are decoded one at a time, so that memory stays within its bound. What a decoder may take
is counted in the time of the processor: on a busy machine the same file gets as much of it.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import time
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, Generic, TypeVar

from needlewright.core import processes
from needlewright.core.checks.spares import Spares
from needlewright.core.decoders import Task
from needlewright.core.errors import SourceError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source

CPU_LIMIT_S = 30.0  # of the processor, without a sign of life
SLEEP_LIMIT_S = 900.0  # by the clock, against one that sleeps
UNREAD_S = 120.0  # by the clock, against one that reads nothing of what it is sent
TICK_S = 1 / os.sysconf("SC_CLK_TCK")
THUMBNAIL_SIDE = 360  # pixels
MAX_SENT_BYTES = 1 << 24  # of a file that is sent whole to a worker that cannot read it itself
SERVED_TIMES = 8  # as many times the size of a file may a worker ask for its bytes
SERVED_BYTES = 1 << 22  # ... and so many at once
UNREADABLE = (0xFFFF_FFFF).to_bytes(4, "little")
MAX_LINE_BYTES, MAX_BLOB_BYTES, MAX_BLOBS = 1 << 22, 1 << 24, 4  # of what a worker may answer
LOOK_S = 5.0  # between two looks at what decoders take
PIXELS_IN_FLIGHT = 50_000_000
AHEAD = 16  # requests that are looked at for one that there is room for
LOST_TO_CRASH = "crash"
LOST_TO_TIME = "time"  # twice, the second time when nothing else waited
#: The bytes of a file could not be read; and how a worker puts it.
UNREAD, UNREAD_TEXT = "unreadable", "source-unreadable"

Key = TypeVar("Key")


@dataclass(frozen=True, slots=True)
class DecodeRequest:
    """What to decode: extents of a source (bytes), the decoder's name, the expected pixels.

    `preview`: span of the embedded preview inside the file, bytes from its start. `seconds`,
    `until`: of a STILL, and of a STRETCH. `side`: pixels of what is shown; `turn`: EXIF orientation
    of what does not say it itself. `inset`: show the preview as a picture of its own, too. `strip`:
    ten frames of a clip, out of the pass over FRAMES or, slower, at LOOK.
    """

    source: Source
    extents: Sequence[tuple[int, int]]
    format: str
    pixels: int
    preview: tuple[int, int] | None = None
    side: int = THUMBNAIL_SIDE
    task: Task = Task.PICTURE
    turn: int = 1
    seconds: float = 0.0
    until: float = 0.0
    inset: bool = False
    strip: bool = False

    def message(self) -> bytes:
        head: dict[str, Any] = {
            "format": self.format, "side": self.side, "preview": self.preview,
            "task": self.task, "turn": self.turn, "seconds": self.seconds, "until": self.until,
            "inset": self.inset, "strip": self.strip}
        pieces = self._pieces()
        if pieces is not None:
            head["path"], head["extents"] = pieces
            return json.dumps(head).encode() + b"\n"
        if self.size > MAX_SENT_BYTES:
            head["served"] = self.size
            return json.dumps(head).encode() + b"\n"
        data = b"".join(self.source.read_at(offset, length) for offset, length in self.extents)
        head["payload"] = len(data)
        return json.dumps(head).encode() + b"\n" + data

    def _pieces(self) -> tuple[str, list[tuple[int | None, int]]] | None:
        """(path, extents in it) where the worker can read the bytes by itself."""
        path, every = "", []
        for offset, length in self.extents:
            place = self.source.local_pieces(offset, length)
            if place is None:
                return None
            path = place[0]
            every += place[1]
        return (path, every) if path else None

    @property
    def size(self) -> int:
        """Bytes of the file."""
        return sum(length for _, length in self.extents)


@dataclass(frozen=True, slots=True)
class StreamReport:
    """What decoding one stream of a clip showed; times in seconds.

    `first`: the first sample that failed, `first_at`: its byte in the file where known, `first_s`:
    its time. `damaged`: (start, stop) of what cannot be seen or heard as it was.
    """

    kind: str
    packets: int
    frames: int
    bad: int
    first: int | None
    first_at: int | None
    first_s: float | None
    damaged: Sequence[tuple[float, float]]
    seconds: float

    @property
    def share(self) -> float:
        """Part of the play time that is not damaged, 0.0 to 1.0."""
        lost = sum(max(0.0, stop - start) for start, stop in self.damaged)
        if self.seconds > 0:
            return max(0.0, 1 - lost / self.seconds)
        return 1 - self.bad / self.packets if self.packets else 0.0


@dataclass(frozen=True, slots=True)
class DecodeReport:
    """What the decoder said. `rows`: mean difference to the preview in 30 bands, grey levels.
    `level_row`: the pixel row from which on the picture has another level than its preview says.

    `reached`: of a picture that does not decode, the share that does; None where nothing tells.

    `strip`: ten frames of a clip side by side, JPEG. `inset`: the embedded preview of a picture,
    decoded and encoded again, JPEG. `at`, `seconds`: time of a still, and of all.
    """

    ok: bool
    error: str | None = None
    text: str = ""
    width: int | None = None
    height: int | None = None
    thumbnail: bytes = b""
    preview: str | None = None
    rows: tuple[float, ...] = ()
    correlation: float | None = None
    level_row: int | None = None
    reached: float | None = None
    strip: bytes = b""
    inset: bytes = b""
    streams: tuple[StreamReport, ...] = ()
    at: float | None = None
    seconds: float | None = None
    corrupt: bool = False


def _report(answer: dict[str, Any], blobs: list[bytes], task: Task) -> DecodeReport:
    streams = tuple(
        StreamReport(**{**s, "damaged": tuple((a, b) for a, b in s["damaged"])})
        for s in answer.get("streams", ()))
    second = blobs[1] if len(blobs) > 1 else b""
    strip, inset = (second, b"") if task in (Task.LOOK, Task.FRAMES) else (b"", second)
    return DecodeReport(
        bool(answer["ok"]), answer.get("error"), answer.get("text", ""), answer.get("width"),
        answer.get("height"), blobs[0] if blobs else b"", answer.get("preview"),
        tuple(answer.get("rows", ())), answer.get("correlation"), answer.get("level_row"),
        answer.get("reached"), strip, inset, streams, answer.get("at"), answer.get("seconds"),
        bool(answer.get("corrupt")))


@dataclass(slots=True)
class _Worker(Generic[Key]):
    process: subprocess.Popen[bytes]
    key: Key | None = None
    later: bool = False
    pixels: int = 0
    started: float = 0.0  # by the clock, the last sign of life
    taken: float = 0.0  # seconds of the processor, until then
    request: DecodeRequest | None = None
    served: int = 0  # bytes handed out for this request
    inbox: bytearray = field(default_factory=bytearray)
    missing: tuple[str, ...] = ()  # what the kernel could not take away from it

    @property
    def fd(self) -> int:
        assert self.process.stdout is not None
        return self.process.stdout.fileno()

    def alive(self) -> None:
        """Count anew from here what it takes."""
        self.started, self.taken = time.monotonic(), _cpu_seconds(self.process.pid)


def _cpu_seconds(pid: int) -> float:
    """What all threads of a process took of the processor so far (proc(5), stat); 0 if it is gone.
    """
    try:
        with open(f"/proc/{pid}/stat", "rb") as told:
            fields = told.read().rpartition(b")")[2].split()
    except OSError:
        return 0.0
    return (int(fields[11]) + int(fields[12])) * TICK_S


def _hand(process: subprocess.Popen[bytes], data: bytes) -> None:
    """Write all of `data` to a worker. TimeoutError where it takes none of it for `UNREAD_S`: one
    that something took over must not hold up who serves it."""
    assert process.stdin is not None
    end = process.stdin.fileno()
    os.set_blocking(end, False)
    room = select.poll()
    room.register(end, select.POLLOUT)
    left = memoryview(data)
    while left:
        if not room.poll(UNREAD_S * 1000):
            raise TimeoutError
        with contextlib.suppress(BlockingIOError):
            left = left[os.write(end, left) :]


def _end(process: subprocess.Popen[bytes]) -> None:
    process.kill()
    for pipe in (process.stdin, process.stdout):
        if pipe is not None:
            # Unsent bytes of a request that nobody will read are no loss.
            with contextlib.suppress(BrokenPipeError):
                pipe.close()
    process.wait()


SPARES = Spares(_end)


def use_of(purpose: str, source: Source) -> str:
    """The `use` of a pool for the files of one source."""
    return f"{purpose} {source.name} {source.local_path()}"


class DecoderPool(Generic[Key]):
    """Decodes in `workers` processes; hand in with `submit`, take out with `results`.

    Requests for `later` wait until nothing else does, and while `keep_free` is set they leave one
    worker to those that do not wait. What takes too much is tried once more when nothing else
    waits, then told as `LOST_TO_TIME`. `use`: whose files, and for what; idle workers that another
    pool of the same left are taken over.
    """

    def __init__(self, workers: int | None = None, cpu_limit_s: float = CPU_LIMIT_S,
                 use: str = "") -> None:
        self._use = use
        self._wanted = workers or min(4, os.cpu_count() or 1)
        self._cpu_limit = cpu_limit_s
        self._again: list[DecodeRequest] = []  # that took too much once
        self._workers: list[_Worker[Key]] = []
        self._queue: deque[tuple[Key, DecodeRequest]] = deque()
        self._later: deque[tuple[Key, DecodeRequest]] = deque()
        self.keep_free = False
        self._passed = 0  # how often others were taken before the first in line
        self._early: deque[tuple[Key, DecodeReport]] = deque()
        self.missing: tuple[str, ...] = ()  # what this kernel could not take away from workers

    @property
    def urgent(self) -> int:
        """Requests, other than those for later, whose result has not been taken out."""
        busy = sum(1 for w in self._workers if w.key is not None and not w.later)
        return len(self._queue) + busy + len(self._early)

    @property
    def pending(self) -> int:
        """All requests whose result has not been taken out."""
        return self.urgent + len(self._later) + sum(
            1 for w in self._workers if w.key is not None and w.later)

    def submit(self, key: Key, request: DecodeRequest, later: bool = False) -> None:
        """Queue one request; its result comes under `key`. Keep `urgent` bounded yourself."""
        (self._later if later else self._queue).append((key, request))
        self._dispatch()

    def results(self, wait_s: float = 0.0) -> Iterator[tuple[Key, DecodeReport]]:
        """Whatever is ready now; waits up to `wait_s` for at least one."""
        while self._early:
            yield self._early.popleft()
            wait_s = 0.0
        busy = {w.fd: w for w in self._workers if w.key is not None}
        if busy:
            ready, _, _ = select.select(list(busy), [], [], min(wait_s, LOOK_S))
            for fd in ready:
                done = self._receive(busy[fd])
                if done is not None:
                    yield done
        yield from self._overdue()
        self._dispatch()

    def close(self) -> None:
        """End what is under way; queued requests are dropped."""
        self._queue.clear()
        self._later.clear()
        self._again.clear()
        for worker in self._workers:
            if worker.key is None and not worker.inbox:
                SPARES.leave(worker.process, worker.missing, self._use)
            else:
                _end(worker.process)
        self._workers.clear()

    def processes(self) -> list[int]:
        """Process ids of the living workers."""
        return [w.process.pid for w in self._workers]

    def _start(self) -> _Worker[Key]:
        process, missing = SPARES.take(self._use) or (processes.start_to_stay(
            "needlewright.core.checks.decode_worker", str(os.getpid()), stderr=subprocess.DEVNULL,
            # One arena: worker memory stays close to what pictures need.
            more={"MALLOC_ARENA_MAX": "1", "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}),
            ())
        worker: _Worker[Key] = _Worker(process, missing=missing)
        self.missing = missing or self.missing
        self._workers.append(worker)
        return worker

    def _dispatch(self) -> None:
        while self._queue and self._hand_out(self._queue, False):
            pass
        while not self._queue and self._later:
            busy = sum(1 for w in self._workers if w.key is not None and w.later)
            if busy >= max(1, self._wanted - self.keep_free):
                return
            if not self._hand_out(self._later, True):
                return

    def _hand_out(self, queue: deque[tuple[Key, DecodeRequest]], later: bool) -> bool:
        """Give the first request of `queue` for which there is room to a worker; whether there was
        one for it. A large one waits for the other large one, not those behind it for both."""
        in_flight = sum(w.pixels for w in self._workers if w.key is not None)
        room = PIXELS_IN_FLIGHT - in_flight if in_flight else queue[0][1].pixels
        ahead = AHEAD if self._passed < AHEAD else 1  # nobody is passed over for good
        index = next((i for i, (_, request) in enumerate(islice(queue, ahead))
                      if request.pixels <= room), None)
        if index is None:
            return False
        key, request = queue[index]
        idle = next((w for w in self._workers if w.key is None), None)
        if idle is None:
            if len(self._workers) >= self._wanted:
                return False
            idle = self._start()
        del queue[index]
        self._passed = self._passed + 1 if index else 0
        try:
            message = request.message()
        except SourceError:
            self._early.append((key, DecodeReport(False, UNREAD, UNREAD_TEXT)))
            return True
        idle.later = later
        self._send(idle, key, request, message)
        return True

    def _send(self, worker: _Worker[Key], key: Key, request: DecodeRequest,
              message: bytes) -> None:
        worker.key, worker.pixels = key, request.pixels
        worker.request, worker.served = request, 0
        worker.alive()
        try:
            _hand(worker.process, message)
        except BrokenPipeError:
            self._lose(worker, LOST_TO_CRASH)
        except TimeoutError:
            self._lose(worker, LOST_TO_TIME)

    def _receive(self, worker: _Worker[Key]) -> tuple[Key, DecodeReport] | None:
        block = os.read(worker.fd, 1 << 20)
        if not block:
            self._lose(worker, LOST_TO_CRASH)
            return self._early.popleft() if self._early else None
        worker.inbox += block
        try:
            return self._answered(worker)
        except TimeoutError:
            self._lose(worker, LOST_TO_TIME)
            return self._early.popleft() if self._early else None
        except (ValueError, KeyError, TypeError, BrokenPipeError):
            # What no worker of ours says comes from one that something took over.
            self._lose(worker, LOST_TO_CRASH)
            return self._early.popleft() if self._early else None

    def _answered(self, worker: _Worker[Key]) -> tuple[Key, DecodeReport] | None:
        """The answer that has come whole, if any. Raises ValueError and its like for nonsense."""
        while (line_end := worker.inbox.find(b"\n", 0, MAX_LINE_BYTES)) >= 0:
            answer = json.loads(bytes(worker.inbox[:line_end]))
            if "alive" in answer or "want" in answer or "missing" in answer:
                del worker.inbox[: line_end + 1]
                worker.alive()
                if "want" in answer:
                    self._serve(worker, *answer["want"])
                elif "missing" in answer:
                    worker.missing = tuple(str(name) for name in answer["missing"])
                    self.missing = worker.missing or self.missing
                continue
            sizes = [int(size) for size in answer["blobs"]]
            if len(sizes) > MAX_BLOBS or any(not 0 <= s <= MAX_BLOB_BYTES for s in sizes):
                raise ValueError("pictures beyond all bounds")
            total = line_end + 1 + sum(sizes)
            if len(worker.inbox) < total:
                return None
            blobs, at = [], line_end + 1
            for size in sizes:
                blobs.append(bytes(worker.inbox[at : at + size]))
                at += size
            del worker.inbox[:total]
            if worker.key is None or worker.request is None:
                raise ValueError("an answer that nobody asked for")
            report = _report(answer, blobs, worker.request.task)
            self._again = [one for one in self._again if one is not worker.request]
            key, worker.key, worker.request = worker.key, None, None
            return key, report
        if len(worker.inbox) >= MAX_LINE_BYTES:
            raise ValueError("a line without end")
        return None

    def _serve(self, worker: _Worker[Key], offset: int, length: int) -> None:
        """Hand a worker bytes of its file that it cannot read itself."""
        request = worker.request
        if request is None or not 0 <= length <= SERVED_BYTES or offset < 0:
            raise ValueError("bytes of no file")
        worker.served += length
        if worker.served > SERVED_TIMES * (request.size + SERVED_BYTES):
            raise ValueError("the same bytes again and again")
        try:
            block = PiecedSource(request.source, request.extents).read_at(offset, length)
            said = len(block).to_bytes(4, "little") + block
        except SourceError:
            said = UNREADABLE
        _hand(worker.process, said)

    def _overdue(self) -> Iterator[tuple[Key, DecodeReport]]:
        for worker in list(self._workers):
            if worker.key is not None and self._takes_too_much(worker):
                self._lose(worker, LOST_TO_TIME)
        while self._early:
            yield self._early.popleft()

    def _takes_too_much(self, worker: _Worker[Key]) -> bool:
        waited = time.monotonic() - worker.started
        if waited * (os.cpu_count() or 1) < self._cpu_limit:
            return False  # it cannot have taken so much
        taken = _cpu_seconds(worker.process.pid) - worker.taken
        return taken > self._cpu_limit or waited > SLEEP_LIMIT_S

    def _lose(self, worker: _Worker[Key], why: str) -> None:
        """Give up `worker`; a new process follows, and its one picture is told of, or tried again.
        """
        key, request = worker.key, worker.request
        _end(worker.process)
        self._workers.remove(worker)
        if key is None:
            return
        first = not any(one is request for one in self._again)
        if why == LOST_TO_TIME and request is not None and first:
            self._again.append(request)
            self._later.append((key, request))
        else:
            self._again = [one for one in self._again if one is not request]
            self._early.append((key, DecodeReport(False, why)))

