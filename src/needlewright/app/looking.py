"""Looking at what a phone holds before anything of it is fetched, in a thread of its own."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.rows_read import RowsRead, read_rows
from needlewright.app.viewmodels.inside import Looked, looked
from needlewright.app.worker import Work
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.errors import NeedlewrightError
from needlewright.core.formats.recognising import HEAD_BYTES, recognise
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.already import already_there
from needlewright.core.jobs.loss import loss_of
from needlewright.core.jobs.usefulness import use_of
from needlewright.core.search.plan import Plan
from needlewright.core.search.shelf_names import Inside, ShelfNames
from needlewright.core.search.shelf_rows import NamedFiles, fetch_rows
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf, Offered
from needlewright.core.stopping import Interrupted
from needlewright.core.walks import Kind
from needlewright.wording import inside as words
from needlewright.wording.shelves import judged_line

PENDING = 64  # small pictures that wait: older ones are out of view by then
POLL_SECONDS = 0.05
AT_ONCE, REST_SECONDS = 200, 0.004  # files that are laid out before others get their turn
PIXELS = 640 * 480  # that are expected of a device's own small picture


def _giving_way(every: Iterable[Inside]) -> Iterator[Inside]:
    """`every`, with rests: the window's thread has a screen to paint meanwhile, for which it takes
    the interpreter some hundred times."""
    for number, one in enumerate(every):
        if number % AT_ONCE == AT_ONCE - 1:
            time.sleep(REST_SECONDS)
        yield one


class ListingWork(Work):
    """Lists what is at an address; the session stays open for whoever wants it next."""

    told = Signal(int, int)  # files and folders so far, of those that are offered

    def __init__(self, spec: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.spec = spec

    def work(self) -> None:
        try:
            with open_source(self.spec) as shelf:
                if isinstance(shelf, DistantShelf):
                    shelf.heed(self.stop_signal)
                    shelf.look(self._told_of, self.page_came)
                    self.listed(shelf)
        except Interrupted:
            pass

    def _told_of(self, done: int, offered: int) -> None:
        if self._due():
            self.told.emit(done, offered)

    def page_came(self, some: Sequence[Offered]) -> None:
        """What is done with a page of it, while the next ones are asked for."""

    def listed(self, shelf: DistantShelf) -> None:
        """What is done with the list."""


@dataclass(frozen=True, slots=True)
class RowsInside:
    """What the rows of a database on a shelf are. `keys`: of the files that they name; `told`: what
    was wrong with it; then `read` may be None."""

    one: Inside
    read: RowsRead | None
    keys: frozenset[str]
    told: str = ""


class LookWork(ListingWork):
    """… and hands out the small pictures that are asked for, the newest request first, and the
    rows of a database."""

    came = Signal(object)  # Looked
    picture = Signal(str, object)  # key, JPEG bytes; b"" where there is none
    rows = Signal(object)  # RowsInside

    def __init__(self, spec: str, job: Path | None, parent: QObject | None = None) -> None:
        """`job`: by what it lost, what is listed is judged."""
        super().__init__(spec, parent)
        self._job = job
        self._lock = threading.Condition()
        self._wanted: deque[Inside] = deque(maxlen=PENDING)
        self._enough = self._first = False
        self._asked_rows: Inside | None = None
        self._enough_rows = threading.Event()

    def want_rows(self, one: Inside) -> None:
        """Ask for the rows of a database; they are told once, or not at all after `leave_rows`."""
        with self._lock:
            self._enough_rows.clear()
            self._asked_rows = one
            self._lock.notify()

    def leave_rows(self) -> None:
        """The rows that were asked for last are wanted no more."""
        with self._lock:
            self._asked_rows = None
            self._enough_rows.set()

    def want(self, one: Inside) -> None:
        """Ask for the small picture of a file."""
        with self._lock:
            if not any(waiting is one for waiting in self._wanted):
                self._wanted.append(one)
            self._lock.notify()

    def finish(self) -> None:
        """Nothing more is wanted: what is asked for just now is waited for, so that the session
        stays whole for whoever comes next."""
        with self._lock:
            self._enough = True
            self._lock.notify()

    def stop(self) -> None:
        super().stop()
        self.leave_rows()
        self.finish()

    def page_came(self, some: Sequence[Offered]) -> None:
        if not self._first:
            self._first = True
            self.came.emit(looked(_giving_way(ShelfNames(some).wanted(Plan())), {}, more=True))

    def listed(self, shelf: DistantShelf) -> None:
        every = _giving_way(ShelfNames(shelf.offered()).wanted(Plan()))
        self.came.emit(looked(every, shelf.missing(), judged=self._judged(shelf)))
        pool: DecoderPool[str] = DecoderPool(1, use=f"shelf {shelf.name}")
        try:
            while True:
                with self._lock:
                    self._lock.wait_for(
                        lambda: self._wanted or self._enough or self._asked_rows)
                    if self._enough:
                        return
                    asked, self._asked_rows = self._asked_rows, None
                    one = asked or self._wanted.pop()
                if asked is not None:
                    self._read_rows(shelf, asked)
                    continue
                self.picture.emit(one.offered.entry.key, self._small(shelf, pool, one))
        finally:
            pool.close()

    def _read_rows(self, shelf: DistantShelf, one: Inside) -> None:
        """Tell the rows of a database, or why there are none: it costs itself alone."""
        shelf.heed(self._enough_rows)
        try:
            with ExitStack() as held:
                file, log, journal = fetch_rows(shelf, one.offered, held)
                named, keys = NamedFiles(shelf.offered()), set[str]()
                read = read_rows(file, self._breathe, log, journal, lambda row: keys.update(
                    found.entry.key for found in named.of(row)))
                flaw = shelf.flaw(one.offered)
                self.rows.emit(RowsInside(one, read, frozenset(keys),
                                          words.flaw_line(flaw) if flaw else ""))
        except NeedlewrightError as error:
            self.rows.emit(RowsInside(one, None, frozenset(), words.flaw_line(error)))
        except Interrupted:
            pass
        finally:
            shelf.heed(self.stop_signal)

    def _breathe(self) -> None:
        if self._enough_rows.is_set():
            raise Interrupted

    def _judged(self, shelf: DistantShelf) -> str:
        """How useful it is to the job."""
        if self._job is None:
            return ""
        with Job(self._job, read_only=True) as job:
            loss, there = loss_of(job), already_there(job)
        return judged_line(use_of(shelf.offered(), None, loss, there), loss)

    def _small(self, shelf: DistantShelf, pool: DecoderPool[str], one: Inside) -> bytes:
        """The device's own small picture, decoded elsewhere: nobody knows what it sends."""
        data = shelf.thumbnail(one.offered)
        form = next((f for f in recognise(data[:HEAD_BYTES]) if f.kind is Kind.PHOTO), None)
        if form is None or not form.decoder:
            return b""
        pool.submit("", DecodeRequest(MemorySource(data), ((0, len(data)),), form.decoder, PIXELS))
        while not self.stop_signal.is_set():
            for _, report in pool.results(POLL_SECONDS):
                return report.thumbnail or b""
        return b""


class Listings(QObject):
    """A phone that is listed, one at a time. `spec`: which is being listed; "" where none is;
    `told`: how far that is."""

    changed = Signal()
    problem = Signal(str, str)  # what it was given by, the sentence

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work: ListingWork | None = None
        self._failing = False
        self.spec, self.told = "", (0, 0)

    @property
    def busy(self) -> bool:
        """Whether a phone is listed or looked into."""
        return self._work is not None

    def begin(self, spec: str, then: Callable[[], None]) -> None:
        """List what is at `spec`, then go on with `then`."""
        if self._work is None:
            work = ListingWork(spec, self)
            self._take(work, then)
            work.start()

    def look(self, spec: str, then: Callable[[], None],
             job: Path | None = None) -> LookWork | None:
        """What lists `spec` to look into it, to be started; `then`: when that was finished; `job`:
        which is open. None where another is at work."""
        if self._work is not None:
            return None
        work = LookWork(spec, job, self)
        work.came.connect(self._came)
        self._take(work, then)
        return work

    def _take(self, work: ListingWork, then: Callable[[], None]) -> None:
        work.told.connect(self._told)
        work.failed.connect(self._failed)
        work.finished.connect(partial(self._over, work, then))
        self._work, self._failing, self.spec, self.told = work, False, work.spec, (0, 0)
        self.changed.emit()

    def stop(self) -> None:
        if self._work is not None:
            self._work.stop()

    def end(self) -> None:
        """Stop and wait, for closing."""
        work, self._work, self.spec = self._work, None, ""
        if work is not None:
            work.blockSignals(True)
            work.end()
            work.deleteLater()
            self.changed.emit()

    def _told(self, done: int, offered: int) -> None:
        self.told = done, offered
        self.changed.emit()

    def _came(self, came: Looked) -> None:
        if came.more:
            return
        self.spec = ""
        self.changed.emit()

    def _failed(self, sentence: str) -> None:
        self._failing = True
        if self._work is not None:
            self.problem.emit(self._work.spec, sentence)

    def _over(self, work: ListingWork, then: Callable[[], None]) -> None:
        if self._work is not work:
            return
        well = not self._failing and not work.stop_signal.is_set()
        self._work, self.spec = None, ""
        work.deleteLater()
        self.changed.emit()
        if well:
            then()
