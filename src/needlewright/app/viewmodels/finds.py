"""The finds on show: which, in what order, laid out where. Queries run in a thread of their own."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QObject, QThread, Signal

from needlewright.app.viewmodels.read_lane import ReadLane, lane_of_file
from needlewright.app.viewmodels.sheet import Sheet, lay_out
from needlewright.app.viewmodels.texture_lane import texture_of
from needlewright.app.viewmodels.volumes_lane import VolumesLane, volumes_lane
from needlewright.core.errors import NeedlewrightError
from needlewright.core.jobfile.lists import GROUPS
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.looking import look_at_volumes
from needlewright.core.sources import map_file

EVERYTHING = Filter()
PIECE = 2000
REST = 8.0  # times as long as an answer took, until the next that nobody asked for
MOST_REST = 20.0  # seconds


@dataclass(frozen=True, slots=True)
class Question:
    """What is to be shown: `wanted` in `order`, for a view of this width and row height."""

    wanted: Filter = EVERYTHING
    order: str = "origin"
    view_width: int = 900
    row_height: int = 108


class FindsModel(QThread):
    """Answers the newest question with a Sheet; older ones are skipped."""

    answered = Signal(object)  # Sheet
    damaged = Signal(object, str)  # folder of a job that can be read in part only, and why; once
    lane_answered = Signal(int, object)  # source, ReadLane or None
    texture_answered = Signal(int, object)  # source, TextureLane
    volumes_answered = Signal(int, object)  # source, VolumesLane or None
    spans_answered = Signal(int, object)  # source, int64[n, 3] of (id, start, length)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._lock = threading.Condition()
        self._folder: Path | None = None
        self._ending = False
        self._dirty = False
        self._source: int | None = None
        self._view: tuple[int, int] | None = None
        self._view_only = False
        self._refresh_at: float | None = None
        self._rested_at = 0.0
        self.question = Question()
        self._told_of: set[Path] = set()  # jobs whose damage was told
        self._looked: set[tuple[Path, int]] = set()  # sources whose volumes were looked for

    def open(self, folder: Path | None) -> None:
        with self._lock:
            self._folder, self._dirty = folder, True
            self._told_of.clear()
            self._lock.notify()
        if not self.isRunning():
            self.start()

    def ask(self, **changes: object) -> None:
        """Change parts of the question and ask it."""
        with self._lock:
            self.question = replace(self.question, **changes)  # type: ignore[arg-type]
            self._dirty = True
            self._lock.notify()

    def show_spans(self, source: int | None) -> None:
        """Whose finds the tape shows."""
        with self._lock:
            self._source, self._dirty, self._view = source, True, None
            self._lock.notify()

    def show_view(self, start: int, stop: int) -> None:
        """Which part of the source the tape shows, in bytes."""
        with self._lock:
            self._view, self._view_only = (start, stop), True
            self._lock.notify()

    def refresh(self, soon: bool = False) -> None:
        """Show what is new: `soon`, or not before the last answer has been shown for a while."""
        with self._lock:
            if soon:
                self._dirty = True
            elif self._refresh_at is None:
                self._refresh_at = self._rested_at
            self._lock.notify()

    def _wait(self) -> None:
        """Until there is something to do; the lock is held."""
        while not (self._dirty or self._view_only or self._ending):
            due = None if self._refresh_at is None else self._refresh_at - time.monotonic()
            if due is not None and due <= 0:
                self._dirty = True
                return
            self._lock.wait(due)

    def end(self) -> None:
        with self._lock:
            self._ending = True
            self._lock.notify()
        self.wait()

    def run(self) -> None:
        while True:
            with self._lock:
                self._wait()
                if self._ending:
                    return
                dirty, self._dirty, self._view_only = self._dirty, False, False
                folder, question, source = self._folder, self.question, self._source
                view = self._view
            if folder is not None and source is not None and view is not None:
                self.texture_answered.emit(source, texture_of(folder, source, *view))
            if not dirty:
                continue
            began = time.monotonic()
            self._refresh_at = None
            self.answered.emit(self._answer(folder, question))
            if folder is not None and source is not None:
                self.spans_answered.emit(source, self._spans(folder, source))
                self.lane_answered.emit(source, self._lane(folder, source))
                self.volumes_answered.emit(source, self._volumes(folder, source))
            # Laying out a hundred thousand finds takes a second of the interpreter's time: while
            # new ones keep coming that must not be all that happens.
            now = time.monotonic()
            self._rested_at = now + min(MOST_REST, REST * (now - began))

    @staticmethod
    def _lane(folder: Path, source: int) -> ReadLane | None:
        try:
            with Job(folder, read_only=True) as job:
                path = next((Path(s.path) for s in job.sources() if s.id == source), None)
            kept = None if path is None else map_file.load(map_file.whole_image(path))
        except NeedlewrightError:
            return None
        return None if kept is None else lane_of_file(kept)

    def _volumes(self, folder: Path, source: int) -> VolumesLane | None:
        """The volumes that the job knows; looked for once where it knows none."""
        looked = (folder, source) in self._looked
        self._looked.add((folder, source))
        try:
            with Job(folder, read_only=looked) as job:
                row = next((s for s in job.sources() if s.id == source), None)
                if looked or row is None:
                    return volumes_lane(job.searched.volumes(source))
                return volumes_lane(look_at_volumes(job, row))
        except (NeedlewrightError, OSError):
            return None

    @staticmethod
    def _spans(folder: Path, source: int) -> npt.NDArray[np.int64]:
        try:
            with Job(folder, read_only=True) as job:
                spans = job.places.spans(source)
                # In pieces: one conversion of all would hold the interpreter, and the window, up.
                pieces = [np.array(spans[i : i + PIECE], np.int64).reshape(-1, 3)
                          for i in range(0, len(spans), PIECE)]
                return np.concatenate(pieces) if pieces else np.zeros((0, 3), np.int64)
        except NeedlewrightError:
            return np.zeros((0, 3), np.int64)

    def _tell_damage(self, folder: Path, damage: str | None) -> None:
        if damage is not None and folder not in self._told_of:
            self._told_of.add(folder)
            self.damaged.emit(folder, damage)

    def _answer(self, folder: Path | None, question: Question) -> Sheet:
        if folder is None:
            return lay_out([], question.view_width, question.row_height, {}, False)
        try:
            with Job(folder, read_only=True) as job:
                items = job.find_ids(question.wanted, question.order)
                sizes = {source.id: source.size for source in job.sources()}
                self._tell_damage(folder, job.damage)
        except NeedlewrightError:  # the folder went away; the session tells about it
            items, sizes = [], {}
        return lay_out(items, question.view_width, question.row_height, sizes,
                       question.order in GROUPS, question.order)
