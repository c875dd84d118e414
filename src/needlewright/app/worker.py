"""Threads that do the work and tell the window about it, about ten times a second."""

from __future__ import annotations

import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

from PySide6.QtCore import QObject, QThread, Signal

from needlewright.app.courtesy import GivingWay
from needlewright.app.rows_read import RowsRead, read_rows
from needlewright.app.viewmodels.read_lane import lane_of
from needlewright.core.checks.decoding import (
    DecodeReport,
    DecodeRequest,
    DecoderPool,
)
from needlewright.core.databases.logs import JOURNAL, LOG
from needlewright.core.decoders import Decoder, Task
from needlewright.core.delivery.bag import Delivered, Delivering, deliver
from needlewright.core.errors import NeedlewrightError
from needlewright.core.formats.registry import form_of
from needlewright.core.imaging.copier import CopyPlan
from needlewright.core.imaging.events import (
    Copied,
    Copying,
    MapTold,
    Trouble,
    Waiting,
    WentOn,
)
from needlewright.core.imaging.forecast import forecast
from needlewright.core.imaging.verify import Verified, verify
from needlewright.core.jobfile.rows import FindRecord, SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.beside import open_logs
from needlewright.core.jobs.copying import run_copy
from needlewright.core.jobs.media import Media
from needlewright.core.jobs.rechecking import decode_all
from needlewright.core.jobs.runner import FindsKept, run_search
from needlewright.core.search.events import Event, Finished, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.devices import Device
from needlewright.core.sources.pieces import position
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted
from needlewright.wording import errors
from needlewright.wording.bag import words_for

TELL_SECONDS = 0.1
POLL_SECONDS = 0.05
DEVICES_SECONDS = 3.0


class Work(QThread):
    """A thread with stop and pause. `failed` carries the sentence for what went wrong."""

    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.stop_signal = threading.Event()
        self._go_on = threading.Event()
        self._go_on.set()
        self._told = 0.0

    @property
    def paused(self) -> bool:
        return not self._go_on.is_set()

    def pause(self) -> None:
        self._go_on.clear()

    def go_on(self) -> None:
        self._go_on.set()

    def stop(self) -> None:
        """Ask for the end; the thread ends by itself soon after."""
        self.stop_signal.set()
        self._go_on.set()

    def end(self) -> None:
        """Stop and wait, for closing."""
        self.stop()
        self.wait()

    def _due(self) -> bool:
        now = time.monotonic()
        if now - self._told < TELL_SECONDS:
            return False
        self._told = now
        return True

    def run(self) -> None:
        try:
            self.work()
        except (NeedlewrightError, OSError) as error:
            self.failed.emit(errors.explain(error))
        except Exception as error:  # a fault of ours: told, or the work would just vanish
            traceback.print_exc()
            self.failed.emit(errors.explain(error))

    def work(self) -> None:
        raise NotImplementedError


class SearchWork(Work):
    """Runs a search of one source of a job."""

    told = Signal(object)  # Progress
    kept = Signal(object)  # tuple of ids
    ended = Signal(object)  # Finished

    def __init__(self, folder: Path, source: SourceRow, plan: Plan,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self._source, self.plan = folder, source, plan

    def work(self) -> None:
        with Job(self._folder) as job:
            try:
                self._follow(run_search(
                    job, self._source, self.plan, GivingWay(self.stop_signal)))
            except NeedlewrightError as error:
                job.log("failed", {"text": errors.explain(error)})
                raise

    def _follow(self, events: Iterator[Event | FindsKept]) -> None:
        last: Progress | None = None
        for event in events:
            self._go_on.wait()
            match event:
                case Progress():
                    last = event
                    if self._due():
                        self.told.emit(event)
                case FindsKept():
                    self.kept.emit(event.ids)
                case Finished():
                    if last is not None:
                        self.told.emit(last)
                    self.ended.emit(event)


class DeliveryWork(Work):
    """Delivers rows of a job to a folder."""

    told = Signal(object)  # Delivering
    ended = Signal(object)  # Delivered

    def __init__(self, folder: Path, ids: list[int], destination: Path,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self._ids, self._destination = folder, ids, destination

    def work(self) -> None:
        with Job(self._folder) as job:
            rows = job.rows(self._ids)
            events = deliver(job, rows, self._destination, words_for(job), self.stop_signal)
            for event in events:
                self._go_on.wait()
                if isinstance(event, Delivered):
                    if not event.finished:
                        job.log("delivery-stopped", {"path": event.path})
                    self.ended.emit(event)
                elif isinstance(event, Delivering) and self._due():
                    self.told.emit(event)


class CopyWork(Work):
    """Copies a medium into a job."""

    told = Signal(object)  # Copying
    lane = Signal(object, object)  # ReadLane, slow stretches
    waits = Signal(object)  # Waiting, or the medium's name when it went on
    trouble = Signal(object)  # Trouble
    ended = Signal(object)  # Copied

    def __init__(self, folder: Path, spec: str, plan: CopyPlan, although_mounted: bool,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self._spec, self._plan = folder, spec, plan
        self._although = although_mounted
        self.never_mind = threading.Event()

    def is_set(self) -> bool:
        """Whether it is paused: then the copy saves its map before it waits."""
        return self.paused

    def work(self) -> None:
        with Job(self._folder) as job:
            events = run_copy(job, self._spec, self._plan, self.stop_signal,
                              although_mounted=self._although, never_mind=self.never_mind,
                              pausing=self)
            for event in events:
                self._go_on.wait()
                match event:
                    case Copying():
                        self.told.emit(event)
                    case MapTold():
                        self.lane.emit(lane_of(event.states, event.slow), list(event.slow))
                    case Waiting():
                        self.waits.emit(event)
                    case WentOn():
                        self.waits.emit(event.spec)
                    case Trouble():
                        self.trouble.emit(event)
                    case Copied():
                        self.ended.emit(event)


class VerifyWork(Work):
    """Reads an image again and compares it with its hashes."""

    told = Signal(object)  # Verifying
    ended = Signal(object)  # Verified

    def __init__(self, image: Path, medium: str | None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._image, self._medium = image, medium

    def work(self) -> None:
        for event in verify(self._image, self.stop_signal, self._medium):
            if isinstance(event, Verified):
                self.ended.emit(event)
            elif self._due():
                self.told.emit(event)


class ForecastWork(Work):
    """Samples a medium for a few seconds."""

    ended = Signal(object)  # Forecast

    def __init__(self, spec: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._spec = spec

    def work(self) -> None:
        self.ended.emit(forecast(self._spec, self.stop_signal))


class DevicesWork(Work):
    """Looks what is attached, now and then, and tells when it changed."""

    changed = Signal(object)  # list of Device

    def __init__(self, look: Callable[[], list[Device]], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._look = look

    def work(self) -> None:
        known: list[Device] | None = None
        while not self.stop_signal.is_set():
            found = self._look()
            if found != known:
                known = found
                self.changed.emit(found)
            self.stop_signal.wait(DEVICES_SECONDS)


class FramesWork(Work):
    """Decodes every frame of one find and keeps what that shows."""

    def __init__(self, folder: Path, number: int, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self.number = folder, number

    def work(self) -> None:
        with Job(self._folder) as job:
            decode_all(job, self.number, self.stop_signal)


class PictureWork(Work):
    """Decodes large views, newest request first, in an isolated worker."""

    ready = Signal(int, object)  # find id, DecodeReport
    rows_ready = Signal(int, object)  # find id, RowsRead

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._lock = threading.Condition()
        self._wanted: tuple[FindRecord, str, int, float, Path | None] | None = None

    def show(self, record: FindRecord, source_path: str, side: int, seconds: float = 0.0,
             folder: Path | None = None) -> None:
        """Decode `record` for a view of `side` pixels; replaces a request still waiting.

        `seconds`: which frame of a clip; `folder`: the job's, where mended files lie.
        """
        with self._lock:
            self._wanted = (record, source_path, side, seconds, folder)
            self._lock.notify()

    def stop(self) -> None:
        super().stop()
        with self._lock:
            self._lock.notify()

    def work(self) -> None:
        pool, folder = DecoderPool[int](1), None
        try:
            while not self.stop_signal.is_set():
                with self._lock:
                    self._lock.wait_for(
                        lambda: self._wanted is not None or self.stop_signal.is_set())
                    wanted, self._wanted = self._wanted, None
                if wanted is None:
                    continue
                if wanted[-1] != folder:  # no decoder sees the files of two jobs
                    pool.close()
                    folder = wanted[-1]
                    pool = DecoderPool(1, use=f"shown {folder}")
                self._decode(pool, *wanted)
        finally:
            pool.close()

    def _breathe(self) -> None:
        """Interrupted where another find is wanted, or nothing any more."""
        if self.stop_signal.is_set() or self._wanted is not None:
            raise Interrupted

    def _decode(self, pool: DecoderPool[int], record: FindRecord, path: str, side: int,
                seconds: float, folder: Path | None) -> None:
        row = record.row
        picture = decoder_of(row.format)
        task = task_to_show(picture)
        if not picture:
            self.ready.emit(row.id, DecodeReport(False, "undecodable"))
            return
        try:
            with Media(folder, {row.source: path}) as media, media.content(record) as file:
                if picture == Decoder.DATABASE:
                    self.rows_ready.emit(row.id, self._rows_of(file, record, media, folder))
                    return
                request = DecodeRequest(file, ((0, file.size),), picture,
                                        (row.width or 0) * (row.height or 0),
                                        _preview_of(record), side, task, row.orientation, seconds)
                pool.submit(row.id, request)
                while not self.stop_signal.is_set():
                    for number, report in pool.results(POLL_SECONDS):
                        self.ready.emit(number, report)
                        return
        except Interrupted:
            return
        except NeedlewrightError as error:
            self.ready.emit(row.id, DecodeReport(False, "unreadable", errors.explain(error)))

    def _rows_of(self, file: Source, record: FindRecord, media: Media,
                 folder: Path | None) -> RowsRead:
        """The rows of a database, with the log and journal that the job has of it."""
        with ExitStack() as held:
            logs: dict[str, Source] = {}
            if folder is not None:
                job = held.enter_context(Job(folder, read_only=True))
                logs = open_logs(job, record.row, media, held)
            return read_rows(file, self._breathe, logs.get(LOG), logs.get(JOURNAL))


def task_to_show(decoder: str) -> Task:
    """What a decoder is asked for a picture of a find."""
    shown = {Decoder.CLIP: Task.STILL, Decoder.SOUND: Task.FRAMES}
    return shown[Decoder(decoder)] if decoder in shown else Task.PICTURE


def decoder_of(variant: str) -> str:
    """What the isolated workers decode finds of this format as; "" where they cannot."""
    form = form_of(variant)
    if form is None:
        return ""
    return next((v.decoder for v in form.variants if v.name == variant), form.decoder)


def _preview_of(record: FindRecord) -> tuple[int, int] | None:
    """Span of the preview inside the file, for raw pictures, which are shown by it."""
    if record.preview is None or decoder_of(record.row.format) != Decoder.RAW:
        return None
    start = position(record.extents, record.preview[0])
    return None if start is None else (start, start + record.preview[1] - record.preview[0])
