"""Delivers finds as a BagIt bag (RFC 8493, SHA-256), or leaves nothing that looks like one.

Everything is made in a staging folder inside the destination, beside a marker file that says the
delivery is unfinished. Files are read back from the medium and compared before the bag is moved
into place, `bagit.txt` last: without it no folder is a bag.
"""

from __future__ import annotations

import errno
import hashlib
import json
import os
import shutil
import subprocess
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path, PurePosixPath

from needlewright.core import processes
from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Place
from needlewright.core.delivery.guards import MARKER, STAGING, Guard, Need, look, refuse
from needlewright.core.delivery.listing import DeliveredFile, entry, head, write_lists
from needlewright.core.errors import DeliveryError
from needlewright.core.jobs.rows import FindRecord, FindRow
from needlewright.core.jobs.store import Job
from needlewright.core.names import Names, safe_path
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source
from needlewright.core.stopping import StopSignal
from needlewright.core.walks import Check

COPY_BYTES = 1 << 20
BAG_FILES = "bagit.txt"
IN_TRASH = ("trash", "phone-trash")


@dataclass(frozen=True, slots=True)
class Delivering:
    """Progress: `phase` is write, bag or verify; bytes done and in total over all phases."""

    phase: str
    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Delivered:
    """The outcome: where, how many files, how many bytes; `finished` False when stopped."""

    path: str
    files: int
    bytes: int
    finished: bool


@dataclass(frozen=True, slots=True)
class Words:
    """The sentences that go into the bag, which the core does not know: a check's reason, the
    report in plain words from the delivered rows, a file's name where the source gives none."""

    check: Callable[[Check], str]
    report: Callable[[Sequence[FindRow]], str]
    name: Callable[[FindRow], str]


def job_id(job: Job) -> str:
    """A lasting id of the job, made at the first call."""
    known = job.meta("id")
    if known is None:
        known = os.urandom(8).hex()
        job.set_meta("id", known)
    return known


def destination_guards(job: Job, rows: Sequence[FindRow], destination: Path) -> list[Guard]:
    """The guards for delivering `rows` to `destination`, for looking at before anything begins."""
    need = Need(sum(r.size for r in rows), max((r.size for r in rows), default=0))
    return look(job.folder, job_id(job), job.sources(), destination, need)


def deliver(job: Job, rows: Sequence[FindRow], destination: Path, words: Words,
            stop: StopSignal, *, empty: bool = False) -> Iterator[Delivering | Delivered]:
    """Write `rows` to `destination` as a bag; yields progress, then one Delivered.

    `empty` allows a bag without files: a search that finds nothing is a result too.

    Raises DeliveryError; then, and when stopped, only the marked staging folder is left, which the
    next delivery of this job to the same place clears.
    """
    destination = Path(os.path.realpath(destination))
    rows = [row for row in rows if row.grade != Grade.GONE]  # there is nothing to hand over
    if not rows and not empty:
        raise DeliveryError("nothing-chosen")
    refuse(destination_guards(job, rows, destination))
    try:
        yield from _deliver(job, rows, destination, words, stop)
    except OSError as error:
        reason = os.strerror(error.errno) if error.errno else str(error)
        code = "to-full" if error.errno in (errno.ENOSPC, errno.EDQUOT) else "to-failed"
        raise DeliveryError(code, path=str(destination), reason=reason) from error


def _deliver(job: Job, rows: Sequence[FindRow], destination: Path, words: Words,
             stop: StopSignal) -> Iterator[Delivering | Delivered]:
    staging = _stage(job, destination)
    payload = sum(row.size for row in rows)
    total, done = payload * 3, 0
    written: dict[int, DeliveredFile] = {}
    for row, size in _write_all(job, rows, staging / "payload", words, written, stop):
        done += size
        yield Delivering("write", done, total)
        if row is None:
            yield Delivered(str(destination), len(written), done, False)
            return
    _write_tags(job, rows, staging, words, written)
    yield Delivering("bag", done, total)
    stopped = yield from _bag(staging, stop, payload, total)
    if not stopped:
        done = payload * 2
        for name, size in _verify(staging / "bag", written, stop):
            stopped = stopped or name is None
            done += size
            yield Delivering("verify", done, total)
    if stopped:
        yield Delivered(str(destination), 0, 0, False)
        return
    _move_in(staging, destination)
    job.log("delivered", {"path": str(destination), "files": len(rows), "bytes": payload})
    yield Delivered(str(destination), len(rows), payload, True)


def _stage(job: Job, destination: Path) -> Path:
    """A clean staging folder in `destination`, marked as this job's unfinished delivery."""
    destination.mkdir(parents=True, exist_ok=True)
    marker = destination / MARKER
    if marker.exists():
        _clear(destination)
    marker.write_text(json.dumps({
        "job": job_id(job),
        "note": "An unfinished Needlewright delivery. Deliver again to this folder to finish it.",
    }), encoding="utf-8")
    staging = destination / STAGING
    (staging / "payload").mkdir(parents=True)
    (staging / "tags").mkdir()
    return staging


def _clear(destination: Path) -> None:
    """Remove what an unfinished delivery of ours left; the guards have matched its marker."""
    for name in (STAGING, "data"):
        shutil.rmtree(destination / name, ignore_errors=True)
    for path in destination.iterdir():
        ours = path.name.startswith(("manifest-", "tagmanifest-")) or path.name in (
            "bag-info.txt", BAG_FILES, "finds.json", "finds.csv", "report.txt")
        if path.is_file() and ours:
            path.unlink()


def _write_all(
    job: Job, rows: Sequence[FindRow], payload: Path, words: Words,
    written: dict[int, DeliveredFile], stop: StopSignal,
) -> Iterator[tuple[FindRow | None, int]]:
    """Write every file; yields (row, bytes) as it goes and (None, 0) when stopped."""
    names = Names()
    with ExitStack() as stack:
        opened: dict[int, Source] = {}
        for source in job.sources():
            if any(row.source == source.id for row in rows):
                opened[source.id] = stack.enter_context(open_source(source.path))
        for row in rows:
            record = job.record(row.id)
            path = _path_of(record)
            folder = safe_path(path).parent if path else PurePosixPath()
            place = names.unique(folder, path.rsplit("/", 1)[-1] if path else words.name(row))
            target = payload.joinpath(*place.parts)
            target.parent.mkdir(parents=True, exist_ok=True)
            digest = hashlib.sha256()
            with target.open("xb") as out:
                for block in _blocks(opened[row.source], record):
                    if stop.is_set():
                        yield None, 0
                        return
                    out.write(block)
                    digest.update(block)
                    yield row, len(block)
                out.flush()
                os.fsync(out.fileno())
            _keep_date(target, row.modified or row.taken)
            written[row.id] = DeliveredFile(f"data/{place}", digest.hexdigest())


def _path_of(record: FindRecord) -> str | None:
    """Where a file goes in the bag: what was put into a trash goes back to where it was."""
    told = record.record
    if told is not None and told.original and told.kept in IN_TRASH:
        return told.original
    return record.row.path or record.row.name


def _blocks(source: Source, record: FindRecord) -> Iterator[bytes]:
    file = record.content.open(Place(source))
    for at in range(0, record.row.size, COPY_BYTES):
        size = min(COPY_BYTES, record.row.size - at)
        block = file.read_at(at, size)
        if len(block) != size:
            raise DeliveryError("source-shorter", find=record.row.id)
        yield block


def _keep_date(path: Path, taken: str | None) -> None:
    """Set the file's date to when it was taken; without a zone, as the local clock showed it."""
    if taken is None:
        return
    try:
        stamp = datetime.fromisoformat(taken).timestamp()
        os.utime(path, (stamp, stamp))
    except (ValueError, OverflowError, OSError):
        return  # a date that this clock cannot hold is still in the lists


def _twins(written: Mapping[int, DeliveredFile]) -> dict[int, list[int]]:
    by_hash: dict[str, list[int]] = {}
    for number, file in written.items():
        by_hash.setdefault(file.sha256, []).append(number)
    return {n: [o for o in same if o != n] for same in by_hash.values() for n in same}


def _write_tags(job: Job, rows: Sequence[FindRow], staging: Path, words: Words,
                written: Mapping[int, DeliveredFile]) -> None:
    twins = _twins(written)
    entries = (
        entry(job.record(row.id), written.get(row.id), twins.get(row.id, []), words.check)
        for row in job.matching())
    write_lists(staging / "tags", head(job.sources(), job.steps()), entries)
    (staging / "tags" / "report.txt").write_text(words.report(rows), encoding="utf-8")
    (staging / "info.json").write_text(json.dumps({
        "External-Description": job.title, "Bag-Software-Agent": "Needlewright",
    }), encoding="utf-8")


def _bag(staging: Path, stop: StopSignal, done: int,
         total: int) -> Generator[Delivering, None, bool]:
    """Run the bagger; returns True when stopped."""
    process = processes.start(
        "needlewright.core.delivery.bagger", str(staging.absolute()), str(os.getpid()),
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    try:
        while True:
            try:
                _, told = process.communicate(timeout=0.2)
                break
            except subprocess.TimeoutExpired:
                if stop.is_set():
                    return True
                yield Delivering("bag", done, total)
    finally:
        if process.poll() is None:
            process.kill()
            process.wait()
    if process.returncode != 0:
        lines = told.decode("utf-8", "replace").strip().splitlines() or ["no reason given"]
        raise DeliveryError("to-failed", path=str(staging), reason=lines[-1])
    return False


def _verify(bag: Path, written: Mapping[int, DeliveredFile],
            stop: StopSignal) -> Iterator[tuple[str | None, int]]:
    """Read every file back from the medium and compare; (name, bytes), or (None, 0) if stopped."""
    for file in written.values():
        digest = hashlib.sha256()
        with (bag / file.file).open("rb") as stored:
            # Drop what the kernel still holds, so that the medium is read and not the memory.
            os.posix_fadvise(stored.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            while block := stored.read(COPY_BYTES):
                if stop.is_set():
                    yield None, 0
                    return
                digest.update(block)
                yield file.file, len(block)
        if digest.hexdigest() != file.sha256:
            raise DeliveryError("not-as-written", path=file.file)
    lines = (bag / "manifest-sha256.txt").read_text(encoding="utf-8").splitlines()
    listed = {line.split(None, 1)[0] for line in lines if line.strip()}
    if not {file.sha256 for file in written.values()} <= listed:
        raise DeliveryError("not-as-written", path="manifest-sha256.txt")


def _move_in(staging: Path, destination: Path) -> None:
    bag = staging / "bag"
    for path in sorted(bag.iterdir(), key=lambda p: p.name == BAG_FILES):
        os.rename(path, destination / path.name)
    shutil.rmtree(staging)
    os.unlink(destination / MARKER)
