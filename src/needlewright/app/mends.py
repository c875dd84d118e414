"""Mending of finds while the window goes on: one run at a time, and the pictures before and
after."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import PictureWork, Work
from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.errors import JobError
from needlewright.core.finds import MENDED_FROM
from needlewright.core.jobfile.rows import BYTES, FindRecord
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.mending import (
    Alternative,
    MendedFind,
    Mending,
    alternatives,
    mend_finds,
    wishes_of,
)
from needlewright.core.mending.base import Wishes

SIDE = 1200  # pixels of a picture that is compared


class MendingWork(Work):
    """Mends finds of a job, one after another."""

    told = Signal(object)  # Mending
    done = Signal(object)  # MendedFind

    def __init__(self, folder: Path, ids: Sequence[int], wishes: Wishes | None = None,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self.ids, self._wishes = folder, list(ids), wishes

    def work(self) -> None:
        with Job(self._folder) as job:
            for event in mend_finds(job, self.ids, self.stop_signal, wishes=self._wishes):
                if isinstance(event, MendedFind):
                    self.done.emit(event)
                else:
                    self.told.emit(event)


class ChoicesWork(Work):
    """Mends a find with each of the places that its least sure piece may have, or colours."""

    offered = Signal(object)  # Alternative

    def __init__(self, folder: Path, find: int, colours: bool,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self.find, self.colours = folder, find, colours

    def work(self) -> None:
        with Job(self._folder) as job:
            for one in alternatives(job, self.find, self.stop_signal, self.colours):
                self.offered.emit(one)


class Pair:
    """A damaged find and the one that was mended from it, if any, with what they look like."""

    def __init__(self, before: FindRecord, after: FindRecord | None, path: str) -> None:
        self.before, self.after, self.path = before, after, path
        self.pictures: dict[int, bytes] = {}  # id of a find -> JPEG

    @property
    def numbers(self) -> list[int]:
        """The finds of it."""
        return [record.row.id for record in (self.before, self.after) if record is not None]


def pair_of(job: Job, number: int) -> Pair | None:
    """Find `number` with its mended version; alone where it has none and is a file, to which no
    pieces can be joined; else None."""
    try:
        kept = job.links.of(number, MENDED_FROM, back=True)
        before = job.record(number)
        source = next(s for s in job.sources() if s.id == before.row.source)
        if not kept and source.kind == BYTES:
            return None
        return Pair(before, job.record(kept[0]) if kept else None, source.path)
    except JobError:
        return None


class Mends(QObject):
    """`changed`: how far it is; `came`: a find was mended, or not (MendedFind); `pictured`: a
    picture of the pair is there; `offered`: a place for a piece was computed, or all were."""

    changed = Signal()
    came = Signal(object)
    failed = Signal(str)
    pictured = Signal()
    offered = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.work: MendingWork | None = None
        self.now: Mending | None = None
        self.pair: Pair | None = None
        self.choosing: ChoicesWork | None = None
        self.offers: list[Alternative] = []  # places or colours for the least sure piece
        self.of_colours = False  # that is what they are
        self._steps: dict[int, list[Wishes]] = {}  # decisions before, by find
        self._pictures: PictureWork | None = None
        self._folder: Path | None = None

    def begin(self, folder: Path, ids: Sequence[int], wishes: Wishes | None = None) -> None:
        """Mend these finds, unless others are being mended; `wishes`: as a person decides now,
        None: as before."""
        if self.work is not None or not ids:
            return
        self._end_choices()
        work = MendingWork(folder, ids, wishes, self)
        work.told.connect(self._told)
        work.done.connect(self.came)
        work.failed.connect(self.failed)
        work.finished.connect(self._over)
        self.work = work
        work.start()
        self.changed.emit()

    def stop(self) -> None:
        if self.work is not None:
            self.work.stop()

    def _told(self, event: Mending) -> None:
        if self.sender() is self.work:
            self.now = event
            self.changed.emit()

    def _over(self) -> None:
        if self.sender() is not self.work or self.work is None:
            return
        self.work.deleteLater()
        self.work = self.now = None
        self.changed.emit()

    # what a person decides

    @property
    def wishes(self) -> Wishes:
        """What was decided for the pair that is shown."""
        pair = self.pair
        return wishes_of(pair.after.changes) if pair is not None and pair.after else Wishes()

    @property
    def can_undo(self) -> bool:
        return self.pair is not None and bool(self._steps.get(self.pair.before.row.id))

    def decide(self, wishes: Wishes) -> None:
        """Mend the find that is shown anew, so; the decision before can be had back."""
        if self.pair is None or self._folder is None or self.work is not None:
            return
        number = self.pair.before.row.id
        self._steps.setdefault(number, []).append(self.wishes)
        self.begin(self._folder, [number], wishes)

    def undo(self) -> None:
        """Back to the decision before."""
        if self.can_undo and self.pair is not None and self._folder is not None and (
                self.work is None):
            number = self.pair.before.row.id
            self.begin(self._folder, [number], self._steps[number].pop())

    def leave_out(self, code: str, leave: bool) -> None:
        """Do without a change, or make it after all."""
        now = self.wishes
        kept = now.leave | {code} if leave else now.leave - {code}
        self.decide(replace(now, leave=frozenset(kept)))

    def look_for(self, colours: bool) -> None:
        """Compute where the least sure piece of the picture may belong, or of what colour it may
        be; `offered` tells."""
        if self.pair is None or self._folder is None or self.choosing is not None or (
                self.work is not None):
            return
        self.offers, self.of_colours = [], colours
        work = ChoicesWork(self._folder, self.pair.before.row.id, colours, self)
        work.offered.connect(self._offered)
        work.failed.connect(self.failed)
        work.finished.connect(self._chosen_from)
        self.choosing = work
        work.start()
        self.offered.emit()

    def take(self, index: int) -> None:
        """Do as the offer of this index has it."""
        if 0 <= index < len(self.offers):
            self.decide(self.offers[index].within(self.wishes))

    @property
    def taken(self) -> int:
        """The index of the offer that is as the picture is now."""
        now = self.wishes
        return next((i for i, one in enumerate(self.offers) if one.within(now) == now), 0)

    @property
    def placed(self) -> Alternative | None:
        """The place that the piece has now whose places are offered."""
        return self.offers[self.taken] if self.offers and not self.of_colours else None

    def move_rest(self, across: int, down: int) -> None:
        """Put the piece whose places are offered so many pixels of the picture elsewhere, as near
        as its blocks allow."""
        one = self.placed
        if one is None or not all(one.unit):
            return
        wide, high, per_row = one.unit
        now = self.wishes
        by = round(down / high) * per_row + round(across / wide)
        if by:
            shift = now.places.get(one.number, one.shift) + by
            self.decide(replace(now, places={**now.places, one.number: shift}))

    def _offered(self, one: Alternative) -> None:
        if self.sender() is self.choosing:
            self.offers.append(one)
            self.offered.emit()

    def _chosen_from(self) -> None:
        if self.sender() is self.choosing and self.choosing is not None:
            self.choosing.deleteLater()
            self.choosing = None
            self.offered.emit()

    def _end_choices(self) -> None:
        if self.choosing is not None:
            self.choosing.blockSignals(True)
            self.choosing.end()
            self.choosing.deleteLater()
            self.choosing = None
        self.offers = []

    # before and after

    def show_pair(self, folder: Path, pair: Pair | None) -> None:
        """Look at a pair; its pictures come, the mended one first."""
        if pair is None or self.pair is None or pair.before.row.id != self.pair.before.row.id:
            self._end_choices()
        self.pair, self._folder = pair, folder
        if pair is None:
            return
        if self._pictures is None:
            self._pictures = PictureWork(self)
            self._pictures.ready.connect(self._decoded)
            self._pictures.start()
        self._pictures.show(pair.after or pair.before, pair.path, SIDE, folder=folder)

    def _decoded(self, number: int, report: DecodeReport) -> None:
        pair = self.pair
        if pair is None or number not in pair.numbers:
            return
        pair.pictures[number] = report.thumbnail
        self.pictured.emit()
        if number != pair.before.row.id and pair.before.row.id not in pair.pictures and (
                self._pictures is not None):
            self._pictures.show(pair.before, pair.path, SIDE, folder=self._folder)

    def end(self) -> None:
        """Stop what runs and wait."""
        self._end_choices()
        self._steps.clear()
        if self.work is not None:
            self.work.blockSignals(True)
            self.work.end()
            self.work.deleteLater()
        self.work = self.now = self.pair = None

    def close(self) -> None:
        self.end()
        if self._pictures is not None:
            self._pictures.end()
            self._pictures = None
