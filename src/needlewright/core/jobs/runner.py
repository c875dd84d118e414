"""Runs a search and keeps what it yields in the job file: batches, checkpoints, log.

A generator like the engine itself: it is the caller that owns the thread. To pause, take no events;
to stop, set the signal and go on taking events until the end.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError
from needlewright.core.finds import Find
from needlewright.core.jobfile.coverage import CoverageRow, outstanding, tokens_of
from needlewright.core.jobfile.rows import SourceRow, StepRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.sums import summed
from needlewright.core.jobfile.texture import TextureFile
from needlewright.core.jobs.known import JobKnowledge
from needlewright.core.jobs.turns import at_work
from needlewright.core.search.bringing import until_back
from needlewright.core.search.engine import cut_area, search
from needlewright.core.search.events import (
    Ending,
    Event,
    Finished,
    Found,
    Note,
    Progress,
    Rechecked,
    Seen,
    VolumeSeen,
)
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps_for
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import StopSignal

BATCH = 250  # finds of one transaction: who else writes waits no longer than for these
EDGE_BYTES = 1 << 17  # damage is placed at most so far before the bytes that are missing
BATCH_SECONDS = 0.5  # finds reach the file, and so the window, at least this often
FIRST_SECONDS = 0.05  # ... and the first ones at once; from then on twice as long each time

RUNNING = "running"
NARROWED = "narrowed"  # the state of a step that is done, but looked for a part of everything alone


@dataclass(frozen=True, slots=True)
class FindsKept:
    """Finds that are in the job file now, by their ids; searching again keeps only what is new."""

    ids: tuple[int, ...]


def run_search(job: Job, source: SourceRow, plan: Plan, stop: StopSignal) -> Iterator[
        Event | FindsKept]:
    """Search the image of `source`; yields the engine's events, and FindsKept as finds are written.

    Goes on where earlier searches ended: for each format only what has not been covered yet, or
    everything where all of it has. Raises SourceError and JobError, the latter also where another
    program works on the job; what was found until then is kept.
    """
    if job.damage is not None:
        raise JobError("job-damaged-searched", path=str(job.folder), reason=job.damage)
    with at_work(job.folder), open_source(source.path) as image:
        if isinstance(image, DistantShelf):
            image.heed(stop)
            for state in until_back(image, stop, plan.patience):
                yield Progress(plan.steps[0], 0, source.size, 0, away=state)
            if stop.is_set():
                return
        if image.size != source.size:
            source = job.resized(source, image)
        wanted = [name for name in steps_for(image.kind) if name in plan.steps]
        if not wanted:
            raise JobError("steps-unfit", steps=", ".join(plan.steps), source=source.name)
        area = cut_area(image, plan.area)
        texture = TextureFile(job.folder, source.id, write=True)
        job.log("search-begins", {"source": source.name, "steps": wanted})
        try:
            for step in wanted:
                mine = replace(plan, steps=(step,), area=area,
                               state=_state_of(job, source.id, step))
                passes = outstanding(mine, area, job.searched.coverage(source.id, step)) or [mine]
                known = JobKnowledge(job, source, image, texture)
                keeper = _Keeper(job, source, mine, area, image, texture, known, stop)
                yield from _passes(image, keeper, passes, stop)
            named = () if stop.is_set() else tuple(job.name_by_size(source.id))
            if named:
                yield FindsKept(named)
        finally:
            texture.close()


def _state_of(job: Job, source: int, step: str) -> str:
    """Where an interrupted step said that it goes on; "" where it ended or never began."""
    row = next((r for r in job.searched.steps() if r.source == source and r.step == step), None)
    return row.state if row is not None and row.ending != Ending.DONE else ""


def _passes(image: Source, keeper: _Keeper, passes: list[Plan], stop: StopSignal) -> Iterator[
        Event | FindsKept]:
    """Run the passes one after another, as if they were one."""
    total = sum(p.area.size for p in passes if p.area is not None)
    before = 0
    for number, part in enumerate(passes):
        area = part.area or keeper.area
        part = replace(part, texture=not keeper.texture.seen(area.start, area.stop))
        keeper.begin(part, last=number == len(passes) - 1)
        try:
            for event in search(image, part, stop, keeper.knowledge):
                if isinstance(event, Progress):
                    event = _of_all(event, before, total)
                kept = keeper.take(event)
                if kept:
                    yield FindsKept(tuple(kept))
                if not isinstance(event, Finished) or keeper.last or stop.is_set():
                    yield event
        except BaseException:
            keeper.flush()
            raise
        if stop.is_set():
            return
        before += area.size


def _of_all(progress: Progress, before: int, total: int) -> Progress:
    """The progress of one pass as part of all."""
    left = None
    if progress.bytes_per_second > 0:
        left = (total - before - progress.done) / progress.bytes_per_second
    return replace(progress, done=before + progress.done, total=total, seconds_left=left)


class _Keeper:
    """Collects finds into batches and saves a checkpoint with each."""

    def __init__(self, job: Job, source: SourceRow, plan: Plan, area: Span, image: Source,
                 texture: TextureFile, knowledge: JobKnowledge, stop: StopSignal) -> None:
        """What lies behind `image.settled` is still being copied, and is searched again later."""
        self.settled = self.again_from = image.settled
        self._image, self._stop = image, stop
        self.job, self.source, self.plan, self.area = job, source, plan, area
        self.texture, self.knowledge = texture, knowledge
        self.part, self.last = plan, True
        self.batch: list[Find] = []
        self.rechecked: list[Find] = []
        self.written, self.patience = time.monotonic(), FIRST_SECONDS
        self.step: Progress | None = None
        self.state = plan.state

    def begin(self, part: Plan, last: bool) -> None:
        """Begin one pass; `last`: none follows."""
        self.part, self.last, self.step = part, last, None

    def take(self, event: Event) -> list[int]:
        """Take in one event; returns the ids of finds written on this occasion."""
        if isinstance(event, Found):
            self._mind_the_edge(event.find)
            self.batch.append(event.find)
            if len(self.batch) >= BATCH or self._due():
                return self.flush()
        elif isinstance(event, Rechecked):
            self.rechecked.append(event.find)
        elif isinstance(event, VolumeSeen):
            self.job.searched.set_volumes(self.source.id, [event])
        elif isinstance(event, Seen):
            self.texture.write(event.start, event.classes)
        elif isinstance(event, Progress):
            self.step = event
            self.state = self.state if event.state is None else event.state
            if self._due():
                return self.flush()
        elif isinstance(event, Note):
            self.job.log(event.code, event.values)
        elif isinstance(event, Finished):
            kept = self.flush()
            self._save(event.step, event.checkpoint, event.ending)
            if self.last or event.ending is not Ending.DONE:
                self.job.log(f"search-{event.ending}", {"source": self.source.name,
                                                        "step": event.step})
            return kept
        return []

    def _due(self) -> bool:
        return time.monotonic() - self.written > self.patience

    def _mind_the_edge(self, find: Find) -> None:
        """A damaged find that reaches what is still being copied is searched again with it."""
        reaches = find.start < self.settled <= find.start + find.size + EDGE_BYTES
        if reaches and find.grade is not Grade.WHOLE:
            self.again_from = min(self.again_from, find.start)

    def flush(self) -> list[int]:
        # Finds first, then the checkpoint: killed in between, a little is searched twice.
        kept: list[int] = []
        if self.batch:
            self.patience = min(BATCH_SECONDS, 2 * self.patience)
            kept = self.job.add_finds(self.source.id, self._summed(self.batch))
            self.batch = []
        if self.rechecked:
            kept = kept + self.job.recheck_finds(self.source.id, self._summed(self.rechecked))
            self.rechecked = []
        if self.step is not None:
            self._save(self.step.step, self.step.checkpoint, RUNNING)
        self.written = time.monotonic()
        return kept

    def _summed(self, finds: list[Find]) -> list[Find]:
        return [summed(find, self._image, self.job.folder, self._stop) for find in finds]

    def _save(self, step: str, checkpoint: int, ending: str) -> None:
        if self.settled < checkpoint:
            checkpoint = max(self.area.start, self.again_from)
            ending = Ending.STOPPED if ending == Ending.DONE else ending
        if ending == Ending.DONE and not self.last:
            ending = RUNNING
        assert self.part.area is not None
        start = self.part.area.start
        self.job.searched.cover(CoverageRow(
            self.source.id, step, tokens_of(self.part), self.plan.every_byte,
            self.plan.every_frame, start, max(start, min(checkpoint, self.part.area.stop))))
        self.job.searched.save_step(StepRow(
            self.source.id, step, tuple(sorted(self.plan.kinds)), self.area.start, self.area.stop,
            checkpoint, ending, self.state if ending != Ending.DONE else
            NARROWED if self.plan.is_narrowed else ""))
