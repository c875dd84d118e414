"""The step *old records*: what former file systems left on the medium.

One pass looks at every sector for folders, records and the beginnings of lost volumes. From what it
finds, former file systems are put together, and their files are proven like any others. What files
that are there now use is theirs no longer.
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
from needlewright.core.search.proving import Prover
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.step_records import seen
from needlewright.core.sources.careful import read_around
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.base import Reader
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
    collectors,
)

NAME = "old-records"
BLOCK_BYTES = 1 << 20
PROGRESS_EVERY_BYTES = 8 << 20
SCAN_SHARE = 0.5  # of the work, as progress tells it; the rest proves what was found
MAX_LOST = 64  # volumes


@dataclass(slots=True)
class _Scan:
    """What the pass has collected."""

    medium: Medium
    traces: list[Collector]
    lost: list[Volume] = field(default_factory=list)
    heads: list[tuple[int, str]] = field(default_factory=list)


def run(context: Context) -> Iterator[Event]:
    """Look for what is left of former file systems in the area of `context`."""
    area = context.area
    yield Progress(NAME, 0, area.size, area.start)
    scan = _Scan(Medium(context.source, _there(context)), collectors())
    stopped = yield from _pass(context, scan)
    if not stopped:
        try:
            yield from _former(context, scan)
        except Interrupted:
            stopped = True
    stopped = stopped or context.stop.is_set()
    # The traces are worth nothing by halves: stopped, the pass begins anew.
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


def _pass(context: Context, scan: _Scan) -> Generator[Event, None, bool]:
    """Look at every sector; returns whether it was stopped."""
    source, area = context.source, context.area
    sector = source.sector_size
    block = bytearray(BLOCK_BYTES)
    at, told, began = area.start, area.start, time.monotonic()
    while at < area.stop:
        if context.stop.is_set():
            return True
        at = max(at, min(source.next_data(at), area.stop) // sector * sector)
        view = memoryview(block)[: min(BLOCK_BYTES, area.stop - at) // sector * sector]
        if not view:
            break
        read, _ = read_around(source, at, view)
        data = np.frombuffer(block, np.uint8)[: read // sector * sector]
        if data.size == 0:
            break
        sectors = data.reshape(-1, sector)
        for trace in scan.traces:
            trace.look(sectors, at)
        _look_for_heads(scan, data, at, sector)
        _look_for_volumes(scan, context, block, data.size, at)
        at += data.size
        if at - told >= PROGRESS_EVERY_BYTES:
            told = at
            done = int((at - area.start) * SCAN_SHARE)
            speed = (at - area.start) / max(0.01, time.monotonic() - began)
            yield Progress(NAME, done, area.size, area.start, speed * SCAN_SHARE)
    scan.medium.heads = np.array([o for o, _ in scan.heads], np.int64)
    scan.medium.names = [name for _, name in scan.heads]
    return context.stop.is_set()


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
    known = {v.span.start for v, _ in scan.medium.volumes} | {v.span.start for v in scan.lost}
    for volume in lost_volumes(memoryview(block)[:size], at, context.source, known):
        if volume.span.start not in known and len(scan.lost) < MAX_LOST:
            scan.lost.append(volume)
            known.add(volume.span.start)


def _former(context: Context, scan: _Scan) -> Iterator[Event]:
    """The files of everything that was put together."""
    prover = Prover(context, NAME)
    readers: list[tuple[int, Reader]] = []
    for volume in scan.lost:
        try:
            reader = open_volume(context.source, volume)
        except (FormatError, SourceError):
            continue
        overlaps = any(volume.span.start < v.span.stop and v.span.start < volume.span.stop
                       for v, _ in scan.medium.volumes)
        if not overlaps:
            yield seen(volume, reader)
        readers.append((volume.span.start, FormerVolume(scan.medium, volume.span.start, reader)
                        if overlaps else reader))
    for trace in scan.traces:
        readers += trace.former(scan.medium)
    for number, (base, reader) in enumerate(readers):
        yield Note("former-volume", {"kind": reader.facts.kind, "start": base,
                                     "bytes": reader.facts.cluster_size})
        prover.begin(reader, base)
        for entries in (reader.removed, reader.live):
            for entry in entries():
                if context.stop.is_set():
                    return
                yield from prover.take(entry)
        yield from prover.finish(last=number == len(readers) - 1)
        part = SCAN_SHARE + (1 - SCAN_SHARE) * (number + 1) / len(readers)
        area = context.area
        yield Progress(NAME, int(area.size * part), area.size, area.start)


register(Step(NAME, order=20, run=run))
