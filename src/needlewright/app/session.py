"""The open job and the work on it: the one state that all stations share."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QPixmap

from needlewright.app.clerk import Clerk
from needlewright.app.copies import Copies
from needlewright.app.demo_jobs import DemoJobs
from needlewright.app.settings import Settings, jobs_folder, new_folder
from needlewright.app.viewmodels.board import NO_JOB, Board, Shown, board_of, shown_of
from needlewright.app.viewmodels.finds import FindsModel
from needlewright.app.viewmodels.rows import Rows
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.app.worker import DeliveryWork, FramesWork, PictureWork, SearchWork
from needlewright.core.errors import JobError
from needlewright.core.jobs.folder import strip_path
from needlewright.core.jobs.opening import job_for_image, open_or_make, refuse_on_source
from needlewright.core.jobs.rows import SourceRow
from needlewright.core.jobs.store import Job
from needlewright.core.names import safe_name
from needlewright.core.search.events import Finished, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.devices import Device, list_devices
from needlewright.core.sources.registry import short_name
from needlewright.wording import errors

JUST_FOUND = 8
Opened = tuple[Job, SourceRow | None]


def _nothing(_: object) -> None:
    """For what brings nothing."""


class Session(QObject):
    """Everything that is open or running. Signals say what changed; stations ask for the rest.

    No job file is touched in the window's thread: `board` is what was read last, all other
    questions and all changes go through `ask` and `tell`.
    """

    job_changed = Signal()
    source_changed = Signal()
    finds_changed = Signal()
    selected = Signal(object)  # id or None
    shown_changed = Signal(object)  # Shown of the selected find, or None
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
        self.board: Board = NO_JOB
        self.source: SourceRow | None = None
        self.selection: int | None = None
        self.shown: Shown | None = None  # of the selection, once it was read
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
        self._reads, self._writes = Clerk(True, self), Clerk(False, self)
        self.rows = Rows(lambda act, then: self._reads.ask("", act, then, _nothing), self)
        self.finds_rechecked.connect(self._rows_changed)
        self.copies = Copies(devices, self)
        self.demo = DemoJobs(self, self)
        self.copies.problem.connect(self.problem)
        self.copies.image_came.connect(self._image_came)
        self.copies.changed.connect(self._copy_changed)
        self.finds = FindsModel(self)
        self.finds.damaged.connect(self._job_damaged)
        self.finds.volumes_answered.connect(self._volumes_came)
        self.pictures = PictureWork(self)
        self.pictures.start()

    # asking and telling

    @property
    def idle(self) -> bool:
        """Whether nothing asked or told is under way."""
        return self._reads.idle and self._writes.idle

    def ask(self, topic: str, act: Callable[[Job], Any], then: Callable[[Any], None]) -> None:
        """Run `act` with the open job, elsewhere; `then` gets what it brings, in this thread.

        A newer question of the same topic takes the place of one that still waits.
        """
        self._reads.ask(topic, act, then, self._tell_problem)

    def tell(self, act: Callable[[Job], Any], then: Callable[[Any], None] = _nothing,
             failed: Callable[[Any], None] | None = None) -> None:
        """Change the job, elsewhere, by `act`."""
        self._writes.ask("", act, then, failed or self._tell_problem)

    def refresh_board(self) -> None:
        """Read again what the stations show; `finds_changed` and the like tell when it is there."""
        self.ask("board", partial(board_of, just=tuple(self.just_found)), self._board_came)

    def _tell_problem(self, error: BaseException) -> None:
        self.problem.emit(errors.explain(error))

    def _board_came(self, board: Board) -> None:
        old, self.board = self.board, board
        if self.source is not None:
            known = self.source
            self.source = next((s for s in board.sources if s.id == known.id), known)
        if (old.title, old.sources) != (board.title, board.sources):
            self.job_changed.emit()
        self.finds_changed.emit()
        if old.tray != board.tray:
            self.tray_changed.emit()
        if (old.steps, old.just, old.volumes) != (board.steps, board.just, board.volumes):
            self.search_changed.emit()

    def _volumes_came(self, source: int, lane: object) -> None:
        if isinstance(lane, VolumesLane) and tuple(lane.volumes) != self.board.volumes.get(source):
            self.refresh_board()

    # jobs

    def open_job(self, folder: Path) -> None:
        """Open the job in `folder`; on failure the open one stays and `problem` tells why."""
        self._open(lambda: (Job(folder), None))

    def open_image(self, image: Path, folder: Path | None = None, title: str = "",
                   then: Callable[[], None] | None = None) -> None:
        """Search `image` in a job: the one in `folder`, else a new one where jobs are kept."""
        self._open(lambda: job_for_image(folder or new_folder(image), image,
                                         title or image.stem), then)

    def make_job(self, spec: str, title: str, then: Callable[[], None]) -> None:
        """Open a new job for the medium at `spec`, which it must not lie on."""
        def make() -> Opened:
            refuse_on_source(spec, jobs_folder())
            return open_or_make(new_folder(Path(safe_name(title))), title), None

        self._open(make, then)

    def _open(self, make: Callable[[], Opened], then: Callable[[], None] | None = None) -> None:
        def opened() -> tuple[Board, SourceRow | None]:
            job, source = make()
            with job:
                return board_of(job), source

        def take(made: tuple[Board, SourceRow | None]) -> None:
            self._take(*made)
            if then is not None:
                then()

        self._writes.call(opened, take, self._tell_problem)

    def _take(self, board: Board, source: SourceRow | None) -> None:
        """Show the job of `board` in the place of what is open."""
        assert board.folder is not None
        self.end_work()
        for clerk in (self._reads, self._writes):
            clerk.open(board.folder)
        self.board = board
        self.source = source or next(iter(board.sources), None)
        self.selection, self.progress, self.ending, self.shown = None, None, None, None
        self.delivering = self.delivered = None
        self.just_found, self.marked = [], None
        self.rows.forget()
        for step in board.steps:
            if self.source is not None and step.source == self.source.id:
                self.ending = step.ending
        self.settings.remember_job(str(board.folder), board.title)
        self.finds.open(board.folder)
        self.job_changed.emit()
        self.source_changed.emit()
        self.finds_changed.emit()
        self.tray_changed.emit()
        self.search_changed.emit()
        self.selected.emit(None)
        self.shown_changed.emit(None)

    def _job_damaged(self, folder: object, reason: str) -> None:
        if self.board.folder == folder:
            self.problem.emit(errors.explain(JobError(
                "job-damaged-in-part", path=str(folder), reason=reason)))

    def choose_source(self, number: int) -> None:
        self.source = next(row for row in self.board.sources if row.id == number)
        self.source_changed.emit()

    # searching

    @property
    def searching(self) -> bool:
        return self.search is not None

    def begin_search(self, plan: Plan) -> None:
        """Begin a search, or let it wait its turn where one is running."""
        if self.board.folder is None or self.source is None:
            return
        if self.search is not None:
            self.queued.append(plan)
            self.search_changed.emit()
            return
        work = SearchWork(self.board.folder, self.source, plan, self)
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
        self.refresh_board()

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
        self.search_changed.emit()
        self.refresh_board()
        plan, self._next_plan = self._next_plan, None
        if plan is None and self.queued and self.ending != "failed":
            plan = self.queued.pop(0)
        if plan is not None:
            self.begin_search(plan)
        self._search_the_rest()

    def strip(self, number: int) -> QPixmap:
        """The ten frames of a clip; null where there are none."""
        if self.board.folder is None:
            return QPixmap()
        return QPixmap(str(strip_path(self.board.folder, number)))

    def decode_all(self, number: int) -> None:
        """Decode every frame of find `number` in the background."""
        if self.board.folder is None or self.frames is not None:
            return
        self.frames = FramesWork(self.board.folder, number, self)
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
            self.refresh_board()
            self._show_again()

    # copying

    def begin_copy(self, spec: str, although_mounted: bool = False) -> None:
        """Copy the medium at `spec` into the open job, or into a new one."""
        if self.copies.work is not None:
            return
        if self.board.folder is None:
            self.make_job(spec, short_name(spec),
                          partial(self.begin_copy, spec, although_mounted))
            return
        self.copies.begin(self.board.folder, spec, although_mounted)

    def _image_came(self) -> None:
        """The copy's image is a source of the job now: look at it."""
        self.ask("image", board_of, self._image_read)

    def _image_read(self, board: Board) -> None:
        if board.sources:
            self.board, self.source = board, board.sources[-1]
            self.job_changed.emit()
            self.source_changed.emit()

    def _copy_changed(self) -> None:
        """A finished copy has told the job its hash."""
        if self.copies.work is not None or self.source is None:
            return
        self.refresh_board()
        self._search_the_rest()

    # finds and tray

    def select(self, number: int | None) -> None:
        if number != self.selection:
            self.selection = number
            self.selected.emit(number)
            self._show_again()

    def _show_again(self) -> None:
        """Read anew what is shown of the selected find."""
        number = self.selection
        if number is None:
            self._shown_came(None, None)
        else:
            self.ask("shown", partial(shown_of, number=number), partial(self._shown_came, number))

    def _shown_came(self, number: int | None, shown: Shown | None) -> None:
        if number == self.selection:
            self.shown = shown
            self.shown_changed.emit(shown)

    def _rows_changed(self, ids: object) -> None:
        assert isinstance(ids, tuple)
        self.rows.renew(ids)
        if self.selection in ids:
            self._show_again()

    def toggle_tray(self, ids: list[int]) -> None:
        """Take `ids` out if all are in the tray, else put all in."""
        known = [self.rows.get(number) for number in ids]
        if all(known):
            self.set_tray(ids, not all(row.in_tray for row in known if row is not None))
            return

        def toggle(job: Job) -> None:
            every = all(row.in_tray for row in job.rows(ids))
            (job.take_from_tray if every else job.put_in_tray)(ids)

        self._change_tray(ids, toggle)

    def set_tray(self, ids: list[int], inside: bool) -> None:
        """Put `ids` into the tray or take them out: shown at once, written elsewhere."""
        self.rows.show_in_tray(ids, inside)
        self._change_tray(ids, lambda job: (
            job.put_in_tray if inside else job.take_from_tray)(ids))

    def _change_tray(self, ids: list[int], act: Callable[[Job], None]) -> None:
        def told(_: object) -> None:
            self._rows_changed(tuple(ids))
            self.tray_changed.emit()
            self.refresh_board()

        def failed(error: BaseException) -> None:
            self._rows_changed(tuple(ids))
            self._tell_problem(error)

        self.tell(act, told, failed)

    # delivering

    def begin_delivery(self, ids: list[int], destination: Path) -> None:
        if self.board.folder is None or self.delivery is not None:
            return
        work = DeliveryWork(self.board.folder, ids, destination, self)
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
        self._reads.end()
        self._writes.end()
        self.board = NO_JOB
