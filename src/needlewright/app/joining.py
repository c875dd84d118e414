"""Joining by hand, away from the window's thread: one find at a time, one wish after another.

A newer wish ends what the thread still looks for: who has taken a piece no longer waits for the
pictures of the others.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import Work, decoder_of, task_to_show
from needlewright.core.checks.asking import ask
from needlewright.core.checks.decoding import (
    DecodeReport,
    DecodeRequest,
    DecoderPool,
)
from needlewright.core.errors import JobError, NeedlewrightError
from needlewright.core.jobfile.rows import FindRecord
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.handwork import Handwork, Standing
from needlewright.core.sources.source import Source
from needlewright.core.stitching.hand import Offer, Offers
from needlewright.core.stopping import Interrupted
from needlewright.wording import errors

SIDE = 900  # pixels of a picture at the bench
AS_FOUND, AS_IT_STANDS = -1, -2  # pictures that are no offer's
Wish = Callable[[Handwork], None]


@dataclass(frozen=True, slots=True)
class Picture:
    """What `of` (an offer's index, AS_FOUND or AS_IT_STANDS) looks like: a JPEG, or none."""

    of: int
    data: bytes


class _Soon:
    """Set when the thread has something newer to do, and what it does now may be left."""

    def __init__(self, work: JoiningWork) -> None:
        self._work = work

    def is_set(self) -> bool:
        return self._work.stop_signal.is_set() or self._work.newer


class JoiningWork(Work):
    """The bench of one find. Everything told carries the number of the wish that it answers."""

    stood = Signal(int, object, object)  # Standing, FindRecord
    offered = Signal(int, object)  # Offers
    pictured = Signal(int, object)  # Picture
    kept = Signal(int, int)  # id of the find that was kept
    told = Signal(int, str)  # what a wish came to, where it changed nothing

    def __init__(self, folder: Path, number: int, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self.number = folder, number
        self._lock = threading.Condition()
        self._wishes: deque[tuple[int, Wish | None]] = deque([(0, None)])
        self._firm = False  # what is under way is not left for something newer
        self.last = 0

    @property
    def newer(self) -> bool:
        return bool(self._wishes) and not self._firm

    def wish(self, act: Wish | None) -> int:
        """Do `act` next; its number. None looks again at what is there."""
        with self._lock:
            self.last += 1
            self._wishes.append((self.last, act))
            self._lock.notify()
            return self.last

    def stop(self) -> None:
        super().stop()
        with self._lock:
            self._lock.notify()

    def work(self) -> None:
        pool: DecoderPool[int] = DecoderPool(1, use=f"shown {self._folder}")
        try:
            with Job(self._folder) as job:
                self._serve(job, pool)
        except Interrupted:
            pass  # told to stop before anything stood
        finally:
            pool.close()

    def _serve(self, job: Job, pool: DecoderPool[int]) -> None:
        hand = Handwork(job, self.number, self.stop_signal)
        try:
            hand.listen(_Soon(self))
            while not self.stop_signal.is_set():
                with self._lock:
                    self._lock.wait_for(lambda: bool(self._wishes) or self.stop_signal.is_set())
                    if not self._wishes:
                        return
                    number, act = self._wishes.popleft()
                try:
                    if act is not None:
                        act(hand)
                    self._show(number, hand, pool)
                except Interrupted:
                    continue
                except NeedlewrightError as error:
                    self.told.emit(number, errors.explain(error))
        finally:
            hand.close()

    def keep(self) -> int:
        def keeping(hand: Handwork) -> None:
            self._firm = True
            try:
                self.kept.emit(self.last, hand.keep())
            finally:
                self._firm = False

        return self.wish(keeping)

    def _show(self, number: int, hand: Handwork, pool: DecoderPool[int]) -> None:
        """Tell how the thread stands, then what it looks like, then what may come next."""
        standing = hand.standing()
        self.stood.emit(number, standing, hand.record)
        self._picture(number, hand, pool, AS_IT_STANDS, None)
        offers = Offers((), 0, 0) if standing.ended else hand.offers()
        self.offered.emit(number, offers)
        for index, offer in enumerate(offers.best):
            self._picture(number, hand, pool, index, offer)
        self._found(number, hand, pool)

    def _picture(self, number: int, hand: Handwork, pool: DecoderPool[int], of: int,
                 offer: Offer | None) -> None:
        extents, second = hand.looks(offer)
        report = self._decoded(hand, pool, request_for(hand.record, hand.pieces(extents), second))
        self.pictured.emit(number, Picture(of, report.thumbnail if report else b""))

    def _found(self, number: int, hand: Handwork, pool: DecoderPool[int]) -> None:
        with hand.as_found() as file:
            report = self._decoded(hand, pool, request_for(hand.record, file, 0.0))
        self.pictured.emit(number, Picture(AS_FOUND, report.thumbnail if report else b""))

    def _decoded(self, hand: Handwork, pool: DecoderPool[int],
                 request: DecodeRequest | None) -> DecodeReport | None:
        if request is None:
            return None
        try:
            return ask(pool, 0, request, _Soon(self))[1]
        except Interrupted:
            # What is still being decoded is nobody's answer any more.
            pool.close()
            raise


def request_for(record: FindRecord, file: Source, second: float | None) -> DecodeRequest | None:
    """What to ask a decoder about a file that is put together; None where none can show it."""
    decoder = decoder_of(record.row.format)
    if not decoder or file.size == 0:
        return None
    task = task_to_show(decoder)
    row = record.row
    return DecodeRequest(file, ((0, file.size),), decoder, (row.width or 0) * (row.height or 0),
                         None, SIDE, task, row.orientation, second or 0.0)


def _gone_on(hand: Handwork) -> None:
    if not hand.go_on():
        raise JobError("hand-nothing-more")


class Joining(QObject):
    """The bench as the window shares it: what stands, what is offered, what it looks like."""

    changed = Signal()
    pictured = Signal(int)  # which (see Picture)
    kept = Signal(int)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder: Path | None = None
        self._work: JoiningWork | None = None
        self._leaving: list[JoiningWork] = []
        self.forget()

    def forget(self) -> None:
        """Nothing is on the bench."""
        self.number: int | None = None
        self.record: FindRecord | None = None
        self.standing: Standing | None = None
        self.offers: Offers | None = None  # None: they are being looked for
        self.pictures: dict[int, bytes] = {}
        self.busy = ""  # what takes long: "go-on", "keep"
        self.note = ""
        self.kept_id: int | None = None
        self._wish = 0

    def open(self, folder: Path, number: int) -> None:
        """Put find `number` on the bench."""
        if self._work is not None and (folder, number) == (self._folder, self.number):
            return
        self.close()
        self._folder, self.number = folder, number
        work = JoiningWork(folder, number, self)
        work.stood.connect(self._stood)
        work.offered.connect(self._offered)
        work.pictured.connect(self._pictured)
        work.kept.connect(self._kept)
        work.told.connect(self._told)
        work.failed.connect(self._failed)
        work.finished.connect(self._over)
        self._work = work
        work.start()
        self.changed.emit()

    def close(self) -> None:
        """Take what is there off the bench; its thread ends by itself."""
        work, self._work = self._work, None
        if work is not None:
            work.stop()
            if work.isRunning():
                self._leaving.append(work)
        self.forget()

    def end(self) -> None:
        """Take it off and wait."""
        self.close()
        for work in self._leaving:
            work.blockSignals(True)
            work.wait()
        self._leaving.clear()

    def start_of(self, offer: Offer) -> int:
        """The first byte of a piece, on the source."""
        return 0 if self.standing is None else self.standing.base + offer.first * self.standing.unit

    # wishes

    def take(self, index: int) -> None:
        """Join the offer `index`."""
        if self.offers is not None and 0 <= index < len(self.offers.best):
            offer = self.offers.best[index]
            self._ask(lambda hand: hand.take(offer, best=index == 0))

    def take_at(self, byte: int) -> None:
        self._ask(lambda hand: hand.take_at(byte))

    def cut(self, clusters: int) -> None:
        self._ask(lambda hand: hand.cut(clusters))

    def go_on(self) -> None:
        """Let the program put together the rest."""
        self._ask(_gone_on, "go-on")

    def undo(self) -> None:
        self._ask(Handwork.undo)

    def redo(self) -> None:
        self._ask(Handwork.redo)

    def look_again(self) -> None:
        """Leave what takes long, and show what stands."""
        self._ask(None)

    def keep(self) -> None:
        if self._work is not None:
            self.busy, self.note = "keep", ""
            self._wish = self._work.keep()
            self.changed.emit()

    def _ask(self, act: Wish | None, busy: str = "") -> None:
        if self._work is None or self.busy == "keep":
            return
        self.busy, self.note, self.offers, self.kept_id = busy, "", None, None
        self._wish = self._work.wish(act)
        self.changed.emit()

    # answers

    def _mine(self, wish: int) -> bool:
        sender = self.sender()
        return sender is self._work and wish == self._wish

    def _stood(self, wish: int, standing: Standing, record: FindRecord) -> None:
        if self._mine(wish):
            self.standing, self.record, self.busy = standing, record, ""
            self.pictures = {k: v for k, v in self.pictures.items() if k == AS_FOUND}
            self.changed.emit()

    def _offered(self, wish: int, offers: Offers) -> None:
        if self._mine(wish):
            self.offers = offers
            self.changed.emit()

    def _pictured(self, wish: int, picture: Picture) -> None:
        if self._mine(wish):
            self.pictures[picture.of] = picture.data
            self.pictured.emit(picture.of)

    def _kept(self, wish: int, number: int) -> None:
        if self.sender() is self._work:
            self.busy, self.kept_id = "", number
            self.kept.emit(number)

    def _told(self, wish: int, sentence: str) -> None:
        if not self._mine(wish):
            return
        self.busy, self.note = "", sentence
        if self._work is not None:
            self._wish = self._work.wish(None)  # what stood before stands still
        self.changed.emit()

    def _failed(self, sentence: str) -> None:
        if self.sender() is self._work:
            self.busy, self.note, self.offers = "", sentence, Offers((), 0, 0)
            self.changed.emit()

    def _over(self) -> None:
        work = self.sender()
        if isinstance(work, JoiningWork):
            if work in self._leaving:
                self._leaving.remove(work)
            if work is not self._work:
                work.deleteLater()
