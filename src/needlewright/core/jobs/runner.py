"""Runs a search and keeps what it yields in the job file: batches, checkpoints, log.

A generator like the engine itself: it is the caller that owns the thread. To pause, take no events;
to stop, set the signal and go on taking events until the end.
"""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError
from needlewright.core.jobs.rows import SourceRow, StepRow
from needlewright.core.jobs.store import Job
from needlewright.core.search.engine import cut_area, search
from needlewright.core.search.events import (
    Ending,
    Event,
    Find,
    Finished,
    Found,
    Note,
    Progress,
)
from needlewright.core.search.plan import Plan, StopSignal
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Span

BATCH = 1000
EDGE_BYTES = 1 << 17  # damage is placed at most so far before the bytes that are missing
BATCH_SECONDS = 0.5  # finds reach the file, and so the window, at least this often

RUNNING = "running"


@dataclass(frozen=True, slots=True)
class Kept:
    """Finds that are in the job file now, by their ids; searching again keeps only what is new."""

    ids: tuple[int, ...]


def continued(job: Job, source: SourceRow, plan: Plan) -> Plan:
    """`plan` with the places where interrupted steps of the same kinds and area go on."""
    resume = dict(plan.resume)
    area = plan.area or Span(0, source.size)
    kinds = tuple(sorted(plan.kinds))
    for row in job.steps():
        same = row.kinds == kinds and (row.area_start, row.area_stop) == (area.start, area.stop)
        if row.source == source.id and same and row.ending != Ending.DONE:
            resume.setdefault(row.step, row.checkpoint)
    return dataclasses.replace(plan, resume=resume)


def run_search(job: Job, source: SourceRow, plan: Plan, stop: StopSignal) -> Iterator[Event | Kept]:
    """Search the image of `source`; yields the engine's events, and Kept as finds are written.

    Raises SourceError and JobError; what was found until then is kept.
    """
    with open_source(source.path) as image:
        if image.size != source.size:
            raise JobError("source-changed", path=source.path, was=source.size, now=image.size)
        area = cut_area(image, plan.area)
        keeper = _Keeper(job, source, plan, area, image.settled)
        job.log("search-begins", {"source": source.name, "steps": list(plan.steps)})
        try:
            for event in search(image, plan, stop):
                kept = keeper.take(event)
                if kept:
                    yield Kept(tuple(kept))
                yield event
        except BaseException:
            keeper.flush()
            raise


class _Keeper:
    """Collects finds into batches and saves a checkpoint with each."""

    def __init__(self, job: Job, source: SourceRow, plan: Plan, area: Span,
                 settled: int) -> None:
        """`settled`: what lies behind it is still being copied, and is searched again later."""
        self.settled = self.again_from = settled
        self.job, self.source, self.plan, self.area = job, source, plan, area
        self.batch: list[Find] = []
        self.written = time.monotonic()
        self.step: Progress | None = None

    def take(self, event: Event) -> list[int]:
        """Take in one event; returns the ids of finds written on this occasion."""
        if isinstance(event, Found):
            self._mind_the_edge(event.find)
            self.batch.append(event.find)
            if len(self.batch) >= BATCH:
                return self.flush()
        elif isinstance(event, Progress):
            self.step = event
            if time.monotonic() - self.written > BATCH_SECONDS:
                return self.flush()
        elif isinstance(event, Note):
            self.job.log(event.code, event.values)
        elif isinstance(event, Finished):
            kept = self.flush()
            self._save(event.step, event.checkpoint, event.ending)
            self.job.log(f"search-{event.ending}", {"source": self.source.name,
                                                    "step": event.step})
            return kept
        return []

    def _mind_the_edge(self, find: Find) -> None:
        """A damaged find that reaches what is still being copied is searched again with it."""
        reaches = find.start < self.settled <= find.start + find.size + EDGE_BYTES
        if reaches and find.grade is not Grade.WHOLE:
            self.again_from = min(self.again_from, find.start)

    def flush(self) -> list[int]:
        # Finds first, then the checkpoint: killed in between, a little is searched twice.
        kept: list[int] = []
        if self.batch:
            kept = self.job.add_finds(self.source.id, self.batch)
            self.batch = []
        if self.step is not None:
            self._save(self.step.step, self.step.checkpoint, RUNNING)
        self.written = time.monotonic()
        return kept

    def _save(self, step: str, checkpoint: int, ending: str) -> None:
        if self.settled < checkpoint:
            checkpoint = max(self.area.start, self.again_from)
            ending = Ending.STOPPED if ending == Ending.DONE else ending
        self.job.save_step(StepRow(
            self.source.id, step, tuple(sorted(self.plan.kinds)), self.area.start, self.area.stop,
            checkpoint, ending))
