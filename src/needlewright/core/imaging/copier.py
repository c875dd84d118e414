"""Copies a medium into an image, patiently and in the planner's order.

A generator of events, like the search engine: it owns no threads but those that hash, and knows
neither the window nor the command line. To pause it, take no events; to stop it, set the signal.
The image, its map and its hashes lie beside each other; the same call again goes on where the last
one ended, however it ended.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import time
from collections.abc import Generator, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from needlewright.core.errors import JobError, SourceError
from needlewright.core.imaging.events import (
    Copied,
    CopyEnding,
    CopyEvent,
    Copying,
    MapTold,
    Pause,
    Trouble,
    Waiting,
    WentOn,
)
from needlewright.core.imaging.hashing import Hashing
from needlewright.core.imaging.identity import find_again, same_medium
from needlewright.core.imaging.image_writer import ImageWriter
from needlewright.core.imaging.map_saving import save
from needlewright.core.imaging.planner import TRIES, Planner, Wish
from needlewright.core.imaging.reader import SLOTS, Answer, ReaderProcess
from needlewright.core.imaging.rebuild import rebuild
from needlewright.core.sources import map_file
from needlewright.core.sources.map_file import MapFile
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Span
from needlewright.core.stopping import StopSignal

SAVE_SECONDS = 4.0  # between two saves of the map: at most so much is read twice after a crash
TELL_SECONDS = 0.1
MAP_SECONDS = 0.4
LOOK_SECONDS = 0.25  # between two looks for a medium that went away, or for a reader that hangs
SPARE_BYTES = 64 << 20  # left free at the destination
# Between two looks at the room that is left, and between two times that the disk is told to write.
ROOM_EVERY_BYTES = 128 << 20
CALM_READS = 8  # that came out well, before reads are handed in ahead again
MIN_LIMIT_S = 0.05


@dataclass(frozen=True, slots=True)
class Effort:
    """How hard to try: reads of one block, seconds a read may take, seconds in all (None: any)."""

    tries: int = TRIES
    read_seconds: float = 60.0
    total_seconds: float | None = None


@dataclass(frozen=True, slots=True)
class CopyPlan:
    """What to copy: `area` cuts it (None: everything), `wishes` go first."""

    area: Span | None = None
    wishes: tuple[Wish, ...] = ()
    effort: Effort = field(default_factory=Effort)
    retry: bool = False  # ask again for what an earlier run gave up


def copy(spec: str, image: Path, plan: CopyPlan, stop: StopSignal,
         never_mind: StopSignal | None = None,
         pausing: StopSignal | None = None) -> Iterator[CopyEvent]:
    """Copy the source `spec` to `image`; yields events, the last one Copied.

    `never_mind`: once set, a read that hangs no longer keeps others from the device. `pausing`:
    while set, no more events will be taken for a while, so the map is saved before each.

    Raises SourceError where the source does not open or is not the one that the image was begun
    from, and JobError where the image cannot be written or is being written by another program.
    """
    image.parent.mkdir(parents=True, exist_ok=True)
    with _locked(image):
        copier = _Copier(spec, image, plan, stop, never_mind, pausing)
        try:
            yield from copier.run()
        finally:
            copier.close()


class _locked:
    """Holds the image against a second program."""

    def __init__(self, image: Path) -> None:
        self._path = image.with_name(f".{image.name}.lock")
        self._image = image

    def __enter__(self) -> None:
        self._file = self._path.open("w")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            self._file.close()
            raise JobError("copy-locked", path=str(self._image)) from error

    def __exit__(self, *_: object) -> None:
        self._file.close()


class _Copier:
    def __init__(self, spec: str, image: Path, plan: CopyPlan, stop: StopSignal,
                 never_mind: StopSignal | None, pausing: StopSignal | None) -> None:
        self.never_mind, self.pausing = never_mind, pausing
        self.spec, self.image, self.wanted, self.stop = spec, image, plan, stop
        self.reader: ReaderProcess | None = ReaderProcess(spec)
        self.abandoned: list[ReaderProcess] = []
        try:
            self.kept = _kept_or_new(self.reader, image)
        except BaseException:
            self.reader.close()
            raise
        states = self.kept.states
        self.fresh_image = states.total(State.READ) == 0
        try:
            self.writer = ImageWriter(image, states.size)
        except OSError as error:
            raise JobError("image-not-written", path=str(image),
                           reason=error.strerror or str(error)) from error
        self.planner = self._make_planner()
        self.hashing = Hashing(states.size, self.kept.chunk_bytes, self.kept.chunks,
                               from_start=self.fresh_image)
        self.calm = CALM_READS
        self.began = self.saved = time.monotonic()
        self.told = self.mapped = 0.0
        self.before = self.kept.seconds
        self.rate, self.room, self.changed = 0.0, 0, False

    def _make_planner(self) -> Planner:
        states, area = self.kept.states, self.wanted.area or Span(0, self.kept.states.size)
        wishes = [*self.wanted.wishes]
        wishes += [Wish(a, b, 0.0) for a, b in ((0, area.start), (area.stop, states.size)) if a < b]
        doubted = [s for s, _ in states.ranges(State.UNREADABLE)] if self.wanted.retry else []
        return Planner(
            states.size, self.kept.block, wishes=wishes, tries=self.wanted.effort.tries,
            pending=[s for s, _ in states.ranges(State.PENDING)], doubted=doubted)

    def close(self) -> None:
        if self.reader is not None:
            self.reader.close()
            self.reader = None
        self.hashing.settle()
        self.writer.close()

    # the run

    def run(self) -> Iterator[CopyEvent]:
        ending = yield from self._read_all()
        self._save(sync=True)
        sha256 = None
        if ending is CopyEnding.DONE and self.kept.sha256 is not None and not self.changed:
            sha256 = self.kept.sha256
        elif ending is CopyEnding.DONE:
            sha256 = yield from self._hash()
            ending = ending if sha256 is not None else CopyEnding.STOPPED
            self.kept.sha256 = sha256
            self._save(sync=True)
        states = self.kept.states
        yield self._progress()
        yield MapTold(states, self.kept.slow)
        yield Copied(ending, str(self.writer.first), sha256, states.total(State.READ),
                     states.total(State.UNREADABLE))

    def _read_all(self) -> Generator[CopyEvent, None, CopyEnding]:
        """Read until nothing is left to ask; returns how it ended."""
        effort = self.wanted.effort
        while True:
            if self.stop.is_set():
                return CopyEnding.STOPPED
            if effort.total_seconds is not None and self._spent() > effort.total_seconds:
                return CopyEnding.TIME
            if self.reader is None:
                went_on = yield from self._open_reader()
                if not went_on:
                    return CopyEnding.STOPPED
            if self._is_full():
                return CopyEnding.FULL
            if not self._hand_in():
                return CopyEnding.DONE
            reader = self.reader
            assert reader is not None
            answer = reader.answer(max(MIN_LIMIT_S, effort.read_seconds))
            if answer is None:
                yield from self._give_up_on_reader()
            elif answer.outcome == "gone":
                yield from self._lost_medium(answer)
            else:
                yield from self._take(answer)
            now = time.monotonic()
            if now - self.saved >= SAVE_SECONDS:
                self._save(sync=False)
            if now - self.told >= TELL_SECONDS:
                self.told = now
                if self.pausing is not None and self.pausing.is_set():
                    self._save(sync=True)
                yield self._progress()
            if now - self.mapped >= MAP_SECONDS:
                self.mapped = now
                yield MapTold(self.kept.states, self.kept.slow)

    def _hand_in(self) -> bool:
        """Hand reads to the reader, several ahead where all goes well; False when none is left."""
        assert self.reader is not None
        depth = SLOTS - 2 if self.calm >= CALM_READS else 1
        while len(self.reader.waiting) < depth:
            read = self.planner.next()
            if read is None:
                break
            self.reader.ask(read)
        return bool(self.reader.waiting)

    def _take(self, answer: Answer) -> Iterator[CopyEvent]:
        read, got = answer.read, len(answer.data)
        states = self.kept.states
        if got:
            self.changed = True
            self._write(read.offset, answer.data)
            states.set(read.offset, read.offset + got, State.READ)
            self.hashing.feed(read.offset, answer.data)
            self.room -= got
            rate = got / max(answer.seconds, 1e-6)
            self.rate += (rate - self.rate) * (0.1 if self.rate else 1.0)
            self._note_pace(read.offset, got, rate)
        self.planner.tell(read, got, answer.seconds)
        if got >= read.length:
            self.calm += 1
            return
        self.calm = 0
        lost = self.planner.gives_up(read, got)
        if lost is not None:
            states.set(lost.start, lost.stop, State.UNREADABLE)
        yield Trouble(read.offset + got, read.stop, read.tries, answer.seconds, answer.reason,
                      lost is not None)

    def _write(self, offset: int, data: memoryview) -> None:
        try:
            self.writer.write(offset, data, self.fresh_image)
        except OSError as error:
            raise JobError("image-not-written", path=str(self.image),
                           reason=error.strerror or str(error)) from error

    def _note_pace(self, offset: int, got: int, rate: float) -> None:
        """Keep stretches that were read at less than an eighth of the usual speed."""
        if rate * 8 >= self.rate or got < self.kept.block * 8:
            return
        slow = self.kept.slow
        if slow and slow[-1][1] == offset:
            start, stop, known = slow[-1]
            share = got / (stop - start + got)
            slow[-1] = (start, offset + got, known + (rate - known) * share)
        else:
            slow.append((offset, offset + got, rate))

    # what can go wrong

    def _open_reader(self) -> Generator[CopyEvent, None, bool]:
        """Open the source, waiting until the medium is there; returns False when stopped."""
        told: Pause | None = None
        while not self.stop.is_set():
            reason, values = Pause.GONE, {"spec": self.spec}
            self.abandoned = [reader for reader in self.abandoned if not reader.ended]
            if self.abandoned and not (self.never_mind and self.never_mind.is_set()):
                # Two reads of one device at once could hang both.
                reason, values = Pause.HANGS, {"spec": self.spec}
            else:
                for reader in find_again(self.kept.origin, self.spec):
                    if not same_medium(self.kept.origin, reader.origin):
                        reason, values = Pause.OTHER, {"spec": reader.origin.spec}
                        reader.close()
                        continue
                    self.reader, self.spec = reader, reader.origin.spec
                    if told is not None:
                        yield WentOn(self.spec)
                    return True
            if reason is not told:
                told = reason
                self._save(sync=True)
                yield Waiting(reason, values)
            yield self._progress()
            time.sleep(LOOK_SECONDS)
        return False

    def _give_up_on_reader(self) -> Iterator[CopyEvent]:
        """The read at hand takes too long: it counts as failed, and its reader is left alone."""
        reader, self.reader = self.reader, None
        assert reader is not None
        reader.abandon()
        self.abandoned.append(reader)
        seconds = self.wanted.effort.read_seconds
        (_, read), *rest = reader.waiting
        for _, other in reversed(rest):
            self.planner.give_back(other)
        nothing = Answer(read, "failed", memoryview(b""), seconds, "no answer in time")
        yield from self._take(nothing)

    def _lost_medium(self, answer: Answer) -> Iterator[CopyEvent]:
        reader, self.reader = self.reader, None
        assert reader is not None
        for read in (*(other for _, other in reversed(reader.waiting)), answer.read):
            self.planner.give_back(read)
        reader.close()
        yield self._progress()

    def _is_full(self) -> bool:
        if self.room > 0:
            return False
        self.writer.start_sync()
        free = shutil.disk_usage(self.image.parent).free
        self.room = ROOM_EVERY_BYTES
        return free < SPARE_BYTES + ROOM_EVERY_BYTES and self.kept.states.total(State.PENDING) > 0

    # keeping and telling

    def _spent(self) -> float:
        return self.before + time.monotonic() - self.began

    def _save(self, sync: bool) -> None:
        """The map follows the image: what it calls read has been written before."""
        self.kept.seconds = self._spent()
        try:
            if sync:
                self.writer.sync()
            save(self.kept, self.image)
        except OSError as error:
            raise JobError("image-not-written", path=str(self.image),
                           reason=error.strerror or str(error)) from error
        self.saved = time.monotonic()

    def _progress(self, phase: str = "copy", hashed: int = 0) -> Copying:
        states = self.kept.states
        pending = states.total(State.PENDING)
        troubled = self.planner.troubled_bytes
        easy = max(0, pending - troubled)
        return Copying(
            states.size, states.total(State.READ), pending, states.total(State.UNREADABLE),
            troubled, self.rate, easy / self.rate if self.rate > 0 else None, phase, hashed)

    def _hash(self) -> Generator[CopyEvent, None, str | None]:
        """SHA-256 of the finished image, with its sidecar; returns it, None when stopped."""
        hashed: list[int] = []

        def told(done: int) -> bool:
            hashed.append(done)
            return self.stop.is_set()

        yield self._progress("hash")
        with open_source(str(self.writer.first)) as image:
            sha256 = self.hashing.finish(image, told)
        if sha256 is not None:
            # As `sha256sum` writes it; for an image in pieces, of the pieces put together.
            sidecar = self.image.with_name(f"{self.image.name}.sha256")
            sidecar.write_text(f"{sha256}  {self.image.name}\n", encoding="utf-8")
            if hashed:
                yield self._progress("hash", hashed[-1])
        return sha256


def _kept_or_new(reader: ReaderProcess, image: Path) -> MapFile:
    """The map of an unfinished copy of this very medium, or a new one, saved before any image is
    made: an image without a map is a stranger's."""
    try:
        kept = map_file.load(image)
    except SourceError:
        kept = rebuild(image, reader.origin, reader.block)
    if kept is None:
        if image.exists() and os.path.getsize(image) > 0:
            raise JobError("image-not-ours", path=str(image))
        kept = MapFile(reader.origin, ReadMap(reader.origin.size), reader.block)
        try:
            save(kept, image)
        except OSError as error:
            raise JobError("image-not-written", path=str(image),
                           reason=error.strerror or str(error)) from error
    if not same_medium(kept.origin, reader.origin):
        raise SourceError("other-medium", path=reader.origin.spec, image=str(image))
    return kept
