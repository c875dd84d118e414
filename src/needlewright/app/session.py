"""The open job and the work on it: the one state that all stations share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QPixmap

from needlewright.app.choosing import Choosing
from needlewright.app.copies import Copies
from needlewright.app.courtesy import at_work
from needlewright.app.demo_jobs import DemoJobs
from needlewright.app.desk import Desk
from needlewright.app.job_copies import JobCopies
from needlewright.app.joining import Joining
from needlewright.app.looking import Listings
from needlewright.app.mends import Mends
from needlewright.app.phones import Phones
from needlewright.app.putting import PutBacks
from needlewright.app.settings import Settings, jobs_folder, new_folder
from needlewright.app.shelves import Shelves
from needlewright.app.viewmodels.board import NO_JOB, Board, board_of
from needlewright.app.viewmodels.finds import FindsModel
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.app.worker import DeliveryWork, FramesWork, PictureWork, SearchWork
from needlewright.core.errors import JobError
from needlewright.core.jobfile.folder import strip_path
from needlewright.core.jobfile.rows import SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.mending import MendedFind
from needlewright.core.jobs.opening import job_for_image, open_or_make, refuse_on_source
from needlewright.core.jobs.runner import NARROWED
from needlewright.core.names import safe_name
from needlewright.core.phones.addresses import is_address
from needlewright.core.search.events import Ending, Finished, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.devices import Device, list_devices
from needlewright.core.sources.open_folder import spec_of
from needlewright.core.sources.registry import short_name
from needlewright.wording import errors

JUST_FOUND = 8
Opened = tuple[Job, SourceRow | None]


class Session(QObject):
    """Everything that is open or running. Signals say what changed; stations ask for the rest.

    No job file is touched in the window's thread: `board` is what was read last, all other
    questions and all changes go through the `desk`.
    """

    job_changed = Signal()
    source_changed = Signal()
    finds_changed = Signal()
    tray_changed = Signal()
    finds_rechecked = Signal(object)  # ids whose pictures or grades may be new
    search_changed = Signal()  # began, told, paused, ended
    delivery_changed = Signal()
    problem = Signal(str)
    damaged = Signal(str)  # the open job is, which can be copied
    copied = Signal(object)  # it was, and the copy is open: CopiedJob
    go_to = Signal(int)  # station

    def __init__(self, settings: Settings, parent: QObject | None = None,
                 devices: Callable[[], list[Device]] = list_devices) -> None:
        super().__init__(parent)
        self.settings = settings
        self.board: Board = NO_JOB
        self.source: SourceRow | None = None
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
        self.desk = Desk(self)
        self.desk.problem.connect(self.problem)
        self.choice = Choosing(self.desk, self)
        self.choice.tray_changed.connect(self.tray_changed)
        self.choice.tray_changed.connect(self.refresh_board)
        self.finds_rechecked.connect(self.choice.renew)
        self.copies = Copies(devices, self)
        self.phones = Phones(self)
        self.putting = PutBacks(self)
        self.listings = Listings(self)
        self.listings.problem.connect(self._not_listed)
        self.phones.problem.connect(self.problem)
        self.demo = DemoJobs(self, self)
        self.shelves = Shelves(settings, self.desk, lambda: self.board.folder, self)
        self.shelves.problem.connect(self.problem)
        self.shelves.compared.connect(self._compared)
        self.copies.problem.connect(self.problem)
        self.copies.image_came.connect(self._image_came)
        self.copies.changed.connect(self._copy_changed)
        self.joining = Joining(self)
        self.job_copies = JobCopies(self)
        self.job_copies.problem.connect(self.damaged)
        self.job_copies.copied.connect(lambda done: self._open(
            lambda: (Job(done.folder), None), lambda: self.copied.emit(done)))
        self.mends = Mends(self)
        self.mends.failed.connect(self.problem)
        self.mends.came.connect(self._mended)
        self.finds = FindsModel(self)
        self.finds.damaged.connect(self._job_damaged)
        self.finds.volumes_answered.connect(self._volumes_came)
        self.pictures = PictureWork(self)
        self.pictures.start()

    # the board

    def refresh_board(self) -> None:
        """Read again what the stations show; `finds_changed` and the like tell when it is there."""
        self.desk.ask("board", partial(board_of, just=tuple(self.just_found)), self._board_came)

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

    def open_files(self, paths: Sequence[Path]) -> None:
        """Take files and folders of files into the open job, or into a new one."""
        spec = spec_of(paths)
        name = short_name(spec)
        folder = self.board.folder or new_folder(Path(safe_name(name)))
        self._open(lambda: job_for_image(folder, spec, name))

    def open_phone(self, spec: str) -> None:
        """Take the phone at `spec` into the open job, or into a new one, once it is listed."""
        if self.listings.busy:
            return
        self.phones.leave()  # many speak with one at a time
        self.listings.begin(spec, partial(self._take_in, spec))

    def _take_in(self, spec: str) -> None:
        name = short_name(spec)
        folder = self.board.folder or new_folder(Path(safe_name(name)))
        self._open(lambda: job_for_image(folder, spec, name))

    def _not_listed(self, spec: str, sentence: str) -> None:
        self.problem.emit(sentence)
        if is_address(spec) and (self.source is None or self.source.path != spec):
            self.phones.watch(spec)  # it was to be taken in: what is to be done is shown again

    def _compared(self) -> None:
        self.finds.refresh(soon=True)
        self.choice.show_again()

    def copy_raw(self, address: str, name: str) -> None:
        """Copy a phone's raw storage, in the open job or a new one."""
        if self.board.folder is not None:
            self.begin_copy(address)
        else:
            self.make_job(address, name, lambda: self.begin_copy(address))

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

        self.desk.call(opened, take)

    def _take(self, board: Board, source: SourceRow | None) -> None:
        """Show the job of `board` in the place of what is open."""
        assert board.folder is not None
        self.end_work()
        self.desk.open(board.folder)
        self.board = board
        self.source = source or next(iter(board.sources), None)
        self.progress, self.ending = None, None
        self.delivering = self.delivered = None
        self.just_found, self.marked = [], None
        for step in board.steps:
            if self.source is not None and step.source == self.source.id:
                self.ending = step.state if step.state == NARROWED else step.ending
        self.settings.remember_job(str(board.folder), board.title)
        self.finds.open(board.folder)
        self.job_changed.emit()
        self.source_changed.emit()
        self.finds_changed.emit()
        self.tray_changed.emit()
        self.search_changed.emit()
        self.choice.forget()

    def _job_damaged(self, folder: object, reason: str) -> None:
        if self.board.folder == folder:
            self.damaged.emit(errors.explain(JobError(
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

    @at_work
    def _search_told(self, progress: Progress) -> None:
        if self._late(self.search):
            return
        self.progress = progress
        self.search_changed.emit()

    @at_work
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
        narrowed = self.search is not None and self.search.plan.is_narrowed
        self.ending = NARROWED if narrowed and event.ending == Ending.DONE else event.ending

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
            self.choice.show_again()

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
        self.desk.ask("image", board_of, self._image_read)

    def _image_read(self, board: Board) -> None:
        if board.sources:
            self.board, self.source = board, board.sources[-1]
            self.job_changed.emit()
            self.source_changed.emit()

    def _copy_changed(self) -> None:
        """A finished copy has told the job its hash."""
        if self.copies.work is not None or self.source is None:
            return
        if self.copies.verifying is None:  # which tells ten times a second, and changes no job
            self.refresh_board()
        self._search_the_rest()

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

    # mending

    def _mended(self, done: MendedFind) -> None:
        if done.kept is not None:
            self.finds.refresh(soon=True)
            self.finds_rechecked.emit((done.kept,))
        self.refresh_board()

    # closing

    def end_work(self) -> None:
        """Stop what runs and wait; everything found is kept, and nothing of it reaches the next
        job."""
        self._meanwhile = self._next_plan = None
        self.queued.clear()
        with self.shelves.asker.silence():
            self._end_threads()

    def _end_threads(self) -> None:
        self.shelves.end_work()
        for work in (self.search, self.delivery, self.frames):
            if work is not None:
                work.blockSignals(True)
                work.end()
                work.deleteLater()
        self.search = self.delivery = self.frames = None
        self.delivering = None
        self.joining.end()
        self.job_copies.end()
        self.mends.end()
        self.putting.end()
        self.listings.end()
        self.copies.end_copy()
        self.copies.forget()

    def close(self) -> None:
        self.shelves.close()
        self.end_work()
        self.copies.end()
        self.phones.leave()
        self.finds.end()
        self.mends.close()
        self.pictures.end()
        self.demo.close()
        self.desk.end()
        self.board = NO_JOB
