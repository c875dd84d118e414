"""The step *records*: what the file systems themselves still know, removed files first.

It reads tables and directories, which takes seconds, and then the contents of the files they name
to say how good each is. Nothing is promised on the word of a record alone.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.search.events import Ending, Event, Finished, Note, Progress, VolumeSeen
from needlewright.core.search.proving import Prover
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.resuming import Resuming
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.base import Entry, Reader, VolumeState
from needlewright.core.volumes.finding import Volume, find_volumes, open_volume

NAME = "records"
COLUMNS = 1 << 14  # stretches of a volume whose use is told
ENTRY_BYTES = 4096  # that an entry counts beside its content when progress is told


def run(context: Context) -> Iterator[Event]:
    """Read the records of every volume in the area of `context`."""
    area = context.area
    yield Progress(NAME, 0, area.size, area.start)
    layout = find_volumes(context.source)
    for problem in layout.problems:
        yield Note(f"volume-{problem.code}", {"start": problem.offset, **problem.values})
    prover, resuming = Prover(context, NAME), Resuming(context.plan)
    stopped = False
    for volume in layout.volumes:
        if context.stop.is_set():
            stopped = True
            break
        if volume.span.stop <= area.start or volume.span.start >= area.stop:
            continue
        if volume.span.stop <= context.begin:
            continue
        stopped = yield from _volume(context, volume, prover, resuming)
        if stopped:
            break
    checkpoint = area.stop if not stopped else area.start
    if stopped:
        yield Progress(NAME, 0, area.size, area.start, state=resuming.state(prover.open_numbers))
    yield Finished(NAME, Ending.STOPPED if stopped else Ending.DONE, checkpoint)


def seen(volume: Volume, reader: Reader | None) -> VolumeSeen:
    """What the tape shows of a volume."""
    used, total = b"", None
    allocation = reader.allocation() if reader is not None else None
    if allocation is not None:
        used, total = allocation.columns(volume.span.size, COLUMNS), allocation.used_total
    facts = volume.facts
    return VolumeSeen(volume.span.start, volume.span.size, facts.kind, volume.title,
                      facts.cluster_size, str(facts.state), volume.named_by, used, total,
                      facts.limits)


def _volume(context: Context, volume: Volume, prover: Prover,
            resuming: Resuming) -> Generator[Event, None, bool]:
    """All finds of one volume; returns whether it was stopped."""
    if volume.facts.state is VolumeState.LOCKED:
        yield seen(volume, None)
        yield Note("volume-locked", {"start": volume.span.start, "kind": volume.facts.kind})
        return context.stop.is_set()
    try:
        reader = open_volume(context.source, volume) if volume.file_system else None
    except (FormatError, SourceError) as error:
        yield seen(volume, None)
        yield Note("volume-unread", {"start": volume.span.start, "kind": volume.facts.kind,
                                     "problem": {"code": error.code, **error.values}})
        return context.stop.is_set()
    yield seen(volume, reader)
    if reader is None:
        return context.stop.is_set()
    reader.stop = context.stop
    try:
        yield from _entries(context, volume, reader, prover, resuming)
    except Interrupted:
        return True
    for problem in reader.problems[:20]:
        yield Note(f"volume-{problem.code}", {"start": volume.span.start + problem.offset,
                                              **problem.values})
    return context.stop.is_set()


def in_folder(context: Context, entry: Entry) -> bool:
    """Whether the plan wants what lies where this entry does."""
    folder = context.plan.folder.strip("/")
    return not folder or entry.path == folder or entry.path.startswith(folder + "/")


def _entries(context: Context, volume: Volume, reader: Reader, prover: Prover,
             resuming: Resuming) -> Iterator[Event]:
    area, start = context.area, volume.span.start
    share = volume.span.size / max(1, area.size)
    before = max(0, start - area.start)
    total = 0
    prover.begin(reader, start)
    for entries in (reader.removed, reader.live):
        for noted in entries():
            if context.stop.is_set():
                return
            prover.note(noted)
            total += noted.size + ENTRY_BYTES
    done = 0
    for entry, last in _in_order(context, reader, prover):
        if context.stop.is_set():
            return
        if last:
            yield from prover.finish(last=entry is None)
        if entry is None:
            continue
        number, settled = resuming.next()
        if in_folder(context, entry) and not settled:
            try:
                yield from prover.take(entry, number)
            except Interrupted:
                resuming.again(number)
                raise
        done += entry.size + ENTRY_BYTES
        part = min(1.0, done / max(1, total)) * share * area.size
        state = resuming.state(prover.open_numbers) if resuming.due() else None
        yield Progress(NAME, min(area.size, before + int(part)), area.size, area.start,
                       state=state)


def _in_order(context: Context, reader: Reader, prover: Prover) -> Iterator[
        tuple[Entry | None, bool]]:
    """(entry, whether another list begins): what is still kept, what was removed, what is there."""
    kept = prover.some_kept
    if kept:
        yield from ((entry, False) for entry in reader.live() if prover.kept(entry))
    first = True
    for entry in reader.removed():
        yield entry, first
        first = False
    first = True
    if not context.plan.removed_only:
        for entry in reader.live():
            if not (kept and prover.kept(entry)):
                yield entry, first
                first = False
    yield None, True


register(Step(NAME, order=10, run=run))
