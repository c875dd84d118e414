"""The open job and the work on it: the one state that all stations share."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QPixmap

from needlewright.app.copies import Copies
from needlewright.app.demo_jobs import DemoJobs
from needlewright.app.settings import Settings, jobs_folder, new_folder
from needlewright.app.viewmodels.finds import FindsModel
from needlewright.app.worker import DeliveryWork, FramesWork, PictureWork, SearchWork
from needlewright.core.errors import JobError, NeedlewrightError
from needlewright.core.jobs.folder import strip_path
from needlewright.core.jobs.opening import job_for_image, open_or_make, refuse_on_source
from needlewright.core.jobs.rows import FindRecord, FindRow, SourceRow
from needlewright.core.jobs.store import Job
from needlewright.core.names import safe_name
from needlewright.core.search.events import Finished, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.devices import Device, list_devices
from needlewright.core.sources.registry import short_name
from needlewright.wording import errors

JUST_FOUND = 8


class Session(QObject):
    """Everything that is open or running. Signals say what changed; stations ask for the rest."""

    job_changed = Signal()
    source_changed = Signal()
    finds_changed = Signal()
    selected = Signal(object)  # id or None
    tray_changed = Signal()
    finds_rechecked = Signal(object)  # ids whose pictures or grades may be new
    search_changed = Signal()  # began, told, paused, ended
    delivery_changed = Signal()
    problem = Signal(str)
    go_to = Signal(int)  # station

    def __init__(self, settings: Settings, parent: QObject | None = None,
                 devices: Callable[[], list[Device]] = list_devices) -> None:
        super().__init__(parent)
        self.settings = settings
        self.job: Job | None = None
        self.source: SourceRow | None = None
        self.selection: int | None = None
        self.search: SearchWork | None = None
        self.frames: FramesWork | None = None
        self.delivery: DeliveryWork | None = None
        self.progress: Progress | None = None
        self.ending: str | None = None
        self.area_start = 0  # of the running search, bytes
        self.queued: list[Plan] = []  # searches that wait their turn
        self._next_plan: Plan | None = None  # of a search that is changed while it runs
        self._meanwhile: Plan | None = None  # of a search begun on an unfinished copy
        self.delivering: object = None
        self.delivered: object = None
        self.just_found: list[int] = []
        self.marked: tuple[int, int] | None = None  # the part of the tape in view, bytes
        self.copies = Copies(devices, self)
        self.demo = DemoJobs(self, self)
        self.copies.problem.connect(self.problem)
        self.copies.image_came.connect(self._image_came)
        self.copies.changed.connect(self._copy_changed)
        self.finds = FindsModel(self)
        self.finds.damaged.connect(self._job_damaged)
        self.pictures = PictureWork(self)
        self.pictures.start()

    # jobs

    def open_job(self, folder: Path) -> bool:
        """Open the job in `folder`; on failure the open one stays and `problem` tells why."""
        try:
            job = Job(folder)
        except NeedlewrightError as error:
            self.problem.emit(errors.explain(error))
            return False
        self.take(job)
        return True

    def open_image(self, image: Path, folder: Path | None = None) -> bool:
        """Search `image` in a job: the one in `folder`, else a new one where jobs are kept."""
        try:
            job, row = job_for_image(folder or new_folder(image), image, image.stem)
        except (NeedlewrightError, OSError) as error:
            self.problem.emit(errors.explain(error))
            return False
        self.take(job, row)
        return True

    def take(self, job: Job, source: SourceRow | None = None) -> None:
        """Open `job` in the place of what is open."""
        self.end_work()
        if self.job is not None:
            self.job.close()
        self.job = job
        rows = job.sources()
        self.source = source or (rows[0] if rows else None)
        self.selection, self.progress, self.ending = None, None, None
        self.delivering = self.delivered = None
        self.just_found, self.marked = [], None
        for step in job.steps():
            if self.source is not None and step.source == self.source.id:
                self.ending = step.ending
        self.settings.remember_job(str(job.folder), job.title)
        self.finds.open(job.folder)
        self.job_changed.emit()
        self.source_changed.emit()
        self.finds_changed.emit()
        self.tray_changed.emit()
        self.search_changed.emit()
        self.selected.emit(None)

    def _job_damaged(self, folder: object, reason: str) -> None:
        if self.job is not None and self.job.folder == folder:
            self.problem.emit(errors.explain(JobError(
                "job-damaged-in-part", path=str(folder), reason=reason)))

    def name_job(self, title: str) -> None:
        assert self.job is not None
        if self.job.meta("title") != title:
            self.job.set_meta("title", title)
            self.settings.remember_job(str(self.job.folder), title)
            self.job_changed.emit()

    def choose_source(self, number: int) -> None:
        assert self.job is not None
        self.source = next(row for row in self.job.sources() if row.id == number)
        self.source_changed.emit()

    # searching

    @property
    def searching(self) -> bool:
        return self.search is not None

    def begin_search(self, plan: Plan) -> None:
        """Begin a search, or let it wait its turn where one is running."""
        if self.job is None or self.source is None:
            return
        if self.search is not None:
            self.queued.append(plan)
            self.search_changed.emit()
            return
        work = SearchWork(self.job.folder, self.source, plan, self)
        work.told.connect(self._search_told)
        work.kept.connect(self._search_kept)
        work.ended.connect(self._search_ended)
        work.failed.connect(self._search_failed)
        work.finished.connect(self._search_over)
        self.search, self.progress, self.ending = work, None, None
        self.area_start = plan.area.start if plan.area else 0
        self._meanwhile = plan if self.copies.work is not None else None
        work.start()
        self.search_changed.emit()

    @property
    def step_running(self) -> str:
        """The step that a running search is at; "" where none runs."""
        if self.search is None:
            return ""
        return self.progress.step if self.progress is not None else self.search.plan.steps[0]

    @property
    def steps_waiting(self) -> set[str]:
        """The steps that come later in the running search, or wait their turn."""
        if self.search is None:
            return set()
        mine = list(self.search.plan.steps)
        running = self.step_running
        later = mine[mine.index(running) + 1 :] if running in mine else []
        return {*later, *(step for plan in self.queued for step in plan.steps)}

    def pause_search(self) -> None:
        if self.search is not None:
            self.search.go_on() if self.search.paused else self.search.pause()
            self.search_changed.emit()

    def _search_the_rest(self) -> None:
        """A search that was begun on an unfinished copy goes on by itself when that has ended."""
        plan = self._meanwhile
        if plan is not None and self.copies.work is None and self.search is None:
            self._meanwhile = None
            self.begin_search(plan)

    def change_search(self, plan: Plan) -> None:
        """A running search goes on with another plan: what it has covered is not read again."""
        if self.search is not None and plan != self.search.plan:
            self._next_plan = plan
            self.search.stop()

    def stop_search(self) -> None:
        self._meanwhile = self._next_plan = None
        self.queued.clear()
        if self.search is not None:
            self.search.stop()

    def _late(self, work: object) -> bool:
        """Whether what was just told comes from work that is no longer ours: of a job that was
        closed meanwhile."""
        sender = self.sender()
        return sender is not None and sender is not work

    def _search_told(self, progress: Progress) -> None:
        if self._late(self.search):
            return
        self.progress = progress
        self.search_changed.emit()

    def _search_kept(self, ids: tuple[int, ...]) -> None:
        if self._late(self.search):
            return
        older = [number for number in self.just_found if number not in ids]
        self.just_found = [*reversed(ids), *older][:JUST_FOUND]
        self.finds_rechecked.emit(ids)
        self.finds.refresh()
        self.finds_changed.emit()

    def _search_ended(self, event: Finished) -> None:
        if self._late(self.search):
            return
        self.ending = event.ending

    def _search_failed(self, sentence: str) -> None:
        if self._late(self.search):
            return
        self.ending = "failed"
        self.problem.emit(sentence)

    def _search_over(self) -> None:
        if self._late(self.search):
            return
        if self.search is not None:
            self.search.deleteLater()
        self.search = None
        self.finds.refresh(soon=True)
        self.finds_changed.emit()
        self.search_changed.emit()
        plan, self._next_plan = self._next_plan, None
        if plan is None and self.queued and self.ending != "failed":
            plan = self.queued.pop(0)
        if plan is not None:
            self.begin_search(plan)
        self._search_the_rest()

    def strip(self, number: int) -> QPixmap:
        """The ten frames of a clip; null where there are none."""
        if self.job is None:
            return QPixmap()
        return QPixmap(str(strip_path(self.job.folder, number)))

    def decode_all(self, number: int) -> None:
        """Decode every frame of find `number` in the background."""
        if self.job is None or self.frames is not None:
            return
        self.frames = FramesWork(self.job.folder, number, self)
        self.frames.failed.connect(self.problem)
        self.frames.finished.connect(self._frames_over)
        self.frames.start()

    def _frames_over(self) -> None:
        if self._late(self.frames):
            return
        work, self.frames = self.frames, None
        if work is not None:
            work.deleteLater()
            self.finds_rechecked.emit((work.number,))
            self.finds.refresh(soon=True)
            self.finds_changed.emit()
            self.tray_changed.emit()

    # copying

    def begin_copy(self, spec: str, although_mounted: bool = False) -> None:
        """Copy the medium at `spec` into the open job, or into a new one."""
        if self.copies.work is not None:
            return
        if self.job is None and not self._make_job(spec):
            return
        assert self.job is not None
        self.copies.begin(self.job.folder, spec, although_mounted)

    def _make_job(self, spec: str) -> bool:
        name = short_name(spec)
        try:
            refuse_on_source(spec, jobs_folder())
            job = open_or_make(new_folder(Path(safe_name(name))), name)
        except (NeedlewrightError, OSError) as error:
            self.problem.emit(errors.explain(error))
            return False
        self.take(job)
        return True

    def _image_came(self) -> None:
        """The copy's image is a source of the job now: look at it."""
        rows = self.job.sources() if self.job else []
        if rows:
            self.source = rows[-1]
            self.job_changed.emit()
            self.source_changed.emit()

    def _copy_changed(self) -> None:
        """A finished copy has told the job its hash."""
        if self.copies.work is not None or self.source is None or self.job is None:
            return
        row = next((r for r in self.job.sources() if r.id == self.source.id), None)
        if row is not None and row != self.source:
            self.source = row
            self.job_changed.emit()
        self._search_the_rest()

    # finds and tray

    def select(self, number: int | None) -> None:
        if number != self.selection:
            self.selection = number
            self.selected.emit(number)

    def record(self, number: int) -> FindRecord | None:
        if self.job is None:
            return None
        try:
            return self.job.record(number)
        except NeedlewrightError:
            return None

    def neighbours(self, row: FindRow) -> tuple[FindRow | None, FindRow | None]:
        """The finds before and behind one on its medium."""
        return (None, None) if self.job is None else self.job.neighbours(row)

    def source_of(self, row: FindRow) -> SourceRow | None:
        rows = self.job.sources() if self.job else []
        return next((s for s in rows if s.id == row.source), None)

    def toggle_tray(self, ids: list[int]) -> None:
        """Take `ids` out if all are in the tray, else put all in."""
        if self.job is None or not ids:
            return
        rows = self.job.rows(ids)
        self.set_tray(ids, not all(row.in_tray for row in rows))

    def set_tray(self, ids: list[int], inside: bool) -> None:
        if self.job is None:
            return
        try:
            (self.job.put_in_tray if inside else self.job.take_from_tray)(ids)
        except NeedlewrightError as error:
            self.problem.emit(errors.explain(error))
            return
        self.tray_changed.emit()

    # delivering

    def begin_delivery(self, ids: list[int], destination: Path) -> None:
        if self.job is None or self.delivery is not None:
            return
        work = DeliveryWork(self.job.folder, ids, destination, self)
        work.told.connect(self._delivery_told)
        work.ended.connect(self._delivery_ended)
        work.failed.connect(self.problem)
        work.finished.connect(self._delivery_over)
        self.delivery, self.delivering, self.delivered = work, None, None
        work.start()
        self.delivery_changed.emit()

    def stop_delivery(self) -> None:
        if self.delivery is not None:
            self.delivery.stop()

    def _delivery_told(self, event: object) -> None:
        if self._late(self.delivery):
            return
        self.delivering = event
        self.delivery_changed.emit()

    def _delivery_ended(self, event: object) -> None:
        if self._late(self.delivery):
            return
        self.delivered = event

    def _delivery_over(self) -> None:
        if self._late(self.delivery):
            return
        if self.delivery is not None:
            self.delivery.deleteLater()
        self.delivery, self.delivering = None, None
        self.delivery_changed.emit()

    # closing

    def end_work(self) -> None:
        """Stop what runs and wait; everything found is kept, and nothing of it reaches the next
        job."""
        self._meanwhile = self._next_plan = None
        self.queued.clear()
        for work in (self.search, self.delivery, self.frames):
            if work is not None:
                work.blockSignals(True)
                work.end()
                work.deleteLater()
        self.search = self.delivery = self.frames = None
        self.delivering = None
        self.copies.end_copy()
        self.copies.forget()

    def close(self) -> None:
        self.end_work()
        self.copies.end()
        self.finds.end()
        self.pictures.end()
        self.demo.close()
        if self.job is not None:
            with contextlib.suppress(NeedlewrightError):
                self.job.close()
            self.job = None
