"""The step *old records*: what former file systems left on the medium.

One pass looks at every sector for folders, records and the beginnings of lost volumes. From what it
finds, former file systems are put together, and their files are proven like any others. What files
that are there now use is theirs no longer; but a volume that one such file holds is there with it.
"""

from __future__ import annotations

import time
from collections.abc import Generator, Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.kernels.signatures import find_signatures
from needlewright.core.search.carving import strong_signatures
from needlewright.core.search.events import Ending, Event, Finished, Note, Progress
from needlewright.core.search.hosts import hosts_of
from needlewright.core.search.proving import Prover
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.resuming import Resuming
from needlewright.core.search.step_records import in_folder, seen
from needlewright.core.sources.careful import read_around
from needlewright.core.sources.source import Span
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.base import Entry, Reader
from needlewright.core.volumes.finding import (
    Volume,
    find_volumes,
    lost_volumes,
    open_volume,
)
from needlewright.core.volumes.former.leftovers import (
    MAX_HEADS,
    Collector,
    FormerVolume,
    Medium,
    StillThere,
    collectors,
)

NAME = "old-records"
BLOCK_BYTES = 1 << 20
PROGRESS_EVERY_BYTES = 8 << 20
SCAN_SHARE = 0.5  # of the work, as progress tells it; the rest proves what was found
MAX_LOST = 64  # volumes


@dataclass(slots=True)
class _Scan:
    """What the pass has collected. `blocks`: first bytes of the blocks in which there was anything;
    an interrupted pass looks at these again, and at nothing else that it has seen."""

    medium: Medium
    traces: list[Collector]
    lost: list[Volume] = field(default_factory=list)
    heads: list[tuple[int, str]] = field(default_factory=list)
    blocks: list[int] = field(default_factory=list)
    at: int = 0  # everything before it was looked at

    @property
    def kept(self) -> int:
        return sum(trace.kept for trace in self.traces) + len(self.lost) + len(self.heads)


def run(context: Context) -> Iterator[Event]:
    """Look for what is left of former file systems in the area of `context`."""
    area = context.area
    yield Progress(NAME, 0, area.size, area.start)
    scan, resuming = _Scan(Medium(context.source, _there(context)), collectors()), Resuming(
        context.plan)
    prover = Prover(context, NAME)
    stopped = yield from _pass(context, scan, resuming)
    if not stopped:
        try:
            yield from _former(context, scan, prover, resuming)
        except Interrupted:
            stopped = True
    stopped = stopped or context.stop.is_set()
    if stopped:
        yield Progress(NAME, 0, area.size, area.start, state=resuming.state(prover.open_numbers))
    # Bytes alone do not say how far it came: the state does.
    checkpoint = area.start if stopped else area.stop
    yield Finished(NAME, Ending.STOPPED if stopped else Ending.DONE, checkpoint)


def _there(context: Context) -> list[tuple[Volume, Reader]]:
    """The volumes that are there now, with their readers."""
    found: list[tuple[Volume, Reader]] = []
    for volume in find_volumes(context.source).volumes:
        try:
            if volume.file_system:
                found.append((volume, open_volume(context.source, volume)))
        except (FormatError, SourceError):
            continue  # the step records tells of it
    return found


def _pass(context: Context, scan: _Scan, resuming: Resuming) -> Generator[Event, None, bool]:
    """Look at every sector; returns whether it was stopped."""
    source, area = context.source, context.area
    block = bytearray(BLOCK_BYTES)
    at = told = area.start
    began = time.monotonic()
    for again in _seen_before(resuming, area):
        if context.stop.is_set():
            return True
        _look(context, scan, block, again)
        at = max(at, again)
    at = told = max(at, int(resuming.facts.get("at", area.start)))
    first = at
    while at < area.stop:
        if context.stop.is_set():
            return True
        at = max(at, min(source.next_data(at), area.stop) // source.sector_size
                 * source.sector_size)
        size = _look(context, scan, block, at)
        if not size:
            break
        at += size
        resuming.facts = {"at": at, "blocks": scan.blocks}
        if at - told >= PROGRESS_EVERY_BYTES:
            told = at
            done = int((at - area.start) * SCAN_SHARE)
            speed = (at - first) / max(0.01, time.monotonic() - began)
            state = resuming.state(()) if resuming.due() else None
            yield Progress(NAME, done, area.size, area.start, speed * SCAN_SHARE, state=state)
    scan.medium.heads = np.array([o for o, _ in scan.heads], np.int64)
    scan.medium.names = [name for _, name in scan.heads]
    return context.stop.is_set()


def _seen_before(resuming: Resuming, area: Span) -> list[int]:
    """The blocks in which an interrupted pass found anything, as far as that makes sense."""
    blocks, reached = resuming.facts.get("blocks"), resuming.facts.get("at")
    if not isinstance(blocks, list) or not isinstance(reached, int):
        resuming.facts = {}
        return []
    return sorted({b for b in blocks if isinstance(b, int) and area.start <= b < area.stop})


def _look(context: Context, scan: _Scan, block: bytearray, at: int) -> int:
    """Look at one block; returns its bytes, 0 at the end."""
    source, area = context.source, context.area
    sector = source.sector_size
    view = memoryview(block)[: min(BLOCK_BYTES, area.stop - at) // sector * sector]
    if not view:
        return 0
    read, _ = read_around(source, at, view)
    data = np.frombuffer(block, np.uint8)[: read // sector * sector]
    if data.size == 0:
        return 0
    before = scan.kept
    sectors = data.reshape(-1, sector)
    for trace in scan.traces:
        trace.look(sectors, at)
    _look_for_heads(scan, data, at, sector)
    _look_for_volumes(scan, context, block, data.size, at)
    if scan.kept > before:
        scan.blocks.append(at)
    return int(data.size)


def _look_for_heads(scan: _Scan, data: npt.NDArray[np.uint8], at: int, sector: int) -> None:
    if len(scan.heads) >= MAX_HEADS:
        return
    table, owners = strong_signatures()
    offsets, which = find_signatures(data, sector, table)
    for offset, index in zip(offsets.tolist(), which.tolist()):
        form = owners[index]
        if form.accept(data[offset : offset + 64].tobytes()):
            scan.heads.append((at + offset, form.name))


def _look_for_volumes(scan: _Scan, context: Context, block: bytearray, size: int,
                      at: int) -> None:
    known = [*(v for v, _ in scan.medium.volumes), *scan.lost]
    for volume in lost_volumes(memoryview(block)[:size], at, context.source, known):
        fresh = all(volume.span.start != other.span.start for other in known)
        if fresh and len(scan.lost) < MAX_LOST:
            scan.lost.append(volume)
            known.append(volume)


def _former(context: Context, scan: _Scan, prover: Prover, resuming: Resuming) -> Iterator[Event]:
    """The files of everything that was put together."""
    readers: list[tuple[int, Reader]] = []
    overlapping = [v for v in scan.lost if _overlaps(v, scan)]
    hosts = hosts_of(overlapping, scan.medium.volumes, context.stop)
    for volume in scan.lost:
        host = hosts.get(volume.span.start)
        if host is not None and not host.whole:
            yield Note("volume-in-pieces", {"kind": volume.facts.kind, "path": host.path})
            continue
        try:
            reader = open_volume(context.source, volume)
        except (FormatError, SourceError):
            continue
        overlaps = volume in overlapping
        if not overlaps:
            yield seen(volume, reader)
        readers.append((volume.span.start, FormerVolume(scan.medium, volume.span.start, reader)
                        if overlaps and host is None else reader))
    for trace in scan.traces:
        readers += trace.former(scan.medium)
    for index, (base, reader) in enumerate(readers):
        host = hosts.get(base) if not isinstance(reader, FormerVolume) else None
        former = host is None and not isinstance(reader, StillThere)
        if former:
            yield Note("former-volume", {"kind": reader.facts.kind, "start": base,
                                         "bytes": reader.facts.cluster_size})
        elif host is not None:
            yield Note("volume-in-file", {"kind": reader.facts.kind, "path": host.path})
        prover.begin(reader, base, former=former, inside=host.key if host else None)
        for entry in _files(context, reader):
            if context.stop.is_set():
                raise Interrupted
            number, settled = resuming.next()
            if settled:
                continue
            try:
                yield from prover.take(entry, number)
            except Interrupted:
                resuming.again(number)
                raise
            if resuming.due():
                yield _progress(context, index / len(readers),
                                resuming.state(prover.open_numbers))
        yield from prover.finish(last=index == len(readers) - 1)
        yield _progress(context, (index + 1) / len(readers), None)


def _overlaps(volume: Volume, scan: _Scan) -> bool:
    """Whether a volume that is there now uses the same bytes."""
    return any(volume.span.start < v.span.stop and v.span.start < volume.span.stop
               for v, _ in scan.medium.volumes)


def _files(context: Context, reader: Reader) -> Iterator[Entry]:
    """The files of a former volume that the plan wants."""
    yield from (e for e in reader.removed() if in_folder(context, e))
    if not context.plan.removed_only:
        yield from (e for e in reader.live() if in_folder(context, e))


def _progress(context: Context, part: float, state: str | None) -> Progress:
    area = context.area
    return Progress(NAME, int(area.size * (SCAN_SHARE + (1 - SCAN_SHARE) * part)), area.size,
                    area.start, state=state)


register(Step(NAME, order=20, run=run))
