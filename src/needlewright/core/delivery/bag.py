"""Delivers finds as a BagIt bag (RFC 8493, SHA-256), or leaves nothing that looks like one.

Everything is made in a staging folder inside the destination, beside a marker file that says the
delivery is unfinished. Each file is hashed while it is written, and read back from the medium and
compared while the next ones are. Then the bag is moved into place, `bagit.txt` last: without it no
folder is a bag.
"""

from __future__ import annotations

import errno
import fcntl
import hashlib
import itertools
import json
import os
import shutil
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from pathlib import Path, PurePosixPath
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import Reason
from needlewright.core.databases.logs import JOURNAL, LOG
from needlewright.core.databases.reading import Database
from needlewright.core.delivery.blocks import bytes_of, write_all
from needlewright.core.delivery.guards import (
    MARKER,
    STAGING,
    Guard,
    Need,
    look,
    refuse,
    unfinished_of,
)
from needlewright.core.delivery.listing import (
    DeliveredFile,
    entry,
    head,
    volume_name,
    write_lists,
)
from needlewright.core.delivery.manifests import write_bag
from needlewright.core.delivery.readback import ReadBack, to_the_medium
from needlewright.core.delivery.rows_folder import RowsFolder
from needlewright.core.delivery.tree import Planned, Room, Tops, plan, room_at, volume_of
from needlewright.core.errors import (
    DeliveryError,
    FormatError,
    JobError,
    NeedlewrightError,
    SourceError,
)
from needlewright.core.formats.recognising import DATABASE
from needlewright.core.jobfile.rows import FindRecord, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.beside import open_logs, with_logs
from needlewright.core.jobs.delivered import note_delivered
from needlewright.core.jobs.media import Media
from needlewright.core.search.examining import examine_one
from needlewright.core.sources.careful import Past
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Check, Outcome

TELL_SECONDS = 0.1
MOST_UNREAD = 1 << 26  # bytes of a file that the medium does not give, for which zeros stand
MOST_DATABASE = 1 << 28  # bytes of a database whose rows are written
TABLES_TAKE = 3  # times their database, the rows of which lie beside it
BAG_FILES = "bagit.txt"
#: Failures of the destination itself; others concern one file.
DISK_FAILS = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO)


@dataclass(frozen=True, slots=True)
class Delivering:
    """Progress: `phase` is write, bag or verify; bytes written and compared, of those in all."""

    phase: str
    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Delivered:
    """The outcome: where, how many files and bytes; `failed`: chosen finds that could not be
    handed over, each told with its reason; `shortened`: names that had to be cut; `changed`: files
    whose source changed after they were judged; `finished` False when stopped."""

    path: str
    files: int
    bytes: int
    finished: bool
    failed: int = 0
    shortened: int = 0
    changed: int = 0


@dataclass(frozen=True, slots=True)
class Words:
    """The sentences that go into the bag, which the core does not know: a check's reason, the
    report in plain words, a file's name where the source gives none, why a find could not be
    handed over, what speaks for a seam, and what mending changed; `rows`: how the rows of a
    database are written into a folder beside it."""

    check: Callable[[Check], str]
    report: Callable[[Handed], str]
    name: Callable[[FindRow], str]
    problem: Callable[[NeedlewrightError], str]
    seam: Callable[[Reason], str]
    change: Callable[[Reason], str]
    rows: Callable[[Path, Callable[[str], str | None]], RowsFolder] | None = None


@dataclass(frozen=True, slots=True)
class Handed:
    """What the report tells of: the rows that were chosen, which of them failed and why, which
    could be told only under a shorter name, and those of the job that are gone."""

    rows: Sequence[FindRow]
    failed: Mapping[int, str]
    shortened: Sequence[tuple[str, str]]
    gone: Sequence[FindRow]


def job_id(job: Job) -> str:
    """A lasting id of the job, made at the first call."""
    known = job.meta("id")
    if known is None:
        known = os.urandom(8).hex()
        job.set_meta("id", known)
    return known


def destination_guards(job: Job, rows: Sequence[FindRow], destination: Path) -> list[Guard]:
    """The guards for delivering `rows` to `destination`, for looking at before anything begins."""
    tables = sum(r.size for r in rows if r.format == DATABASE and r.size <= MOST_DATABASE)
    need = Need(sum(r.size for r in rows) + TABLES_TAKE * tables,
                max((r.size for r in rows), default=0))
    known = job.meta("id") or ""  # a job without one has left nothing anywhere
    return look(job.folder, known, job.sources(), destination, need)


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
    rows, owners = with_logs(job, rows)
    refuse(destination_guards(job, rows, destination))
    try:
        yield from _deliver(job, rows, owners, destination, words, stop)
    except OSError as error:
        reason = os.strerror(error.errno) if error.errno else str(error)
        code = "to-full" if error.errno in (errno.ENOSPC, errno.EDQUOT) else "to-failed"
        raise DeliveryError(code, path=str(destination), reason=reason) from error


def _deliver(job: Job, rows: Sequence[FindRow], owners: Mapping[int, tuple[int, str]],
             destination: Path, words: Words, stop: StopSignal) -> Iterator[
                 Delivering | Delivered]:
    with _staged(job, destination) as staging, _reading_back(stop) as back:
        writer = _Writer(job, rows, owners, staging / "bag" / "data",
                         room_at(destination), words, back)
        total, done = sum(row.size for row in rows) * 2, 0
        for size in writer.write(stop):
            done += size
            back.check()
            yield Delivering("write", done + back.done, total)
        if stop.is_set():
            yield Delivered(str(destination), len(writer.written), done, False)
            return
        if rows and not writer.written:
            raise DeliveryError("nothing-readable", reason=next(iter(writer.failed.values())))
        back.close()
        yield Delivering("bag", done + back.done, total)
        _write_tags(job, writer, staging / "bag", words)
        while not back.ended(TELL_SECONDS):
            yield Delivering("verify", done + back.done, total)
        back.check()
        if stop.is_set():
            yield Delivered(str(destination), 0, 0, False)
            return
        to_the_medium([path for path in (staging / "bag").iterdir() if path.is_file()])
        _move_in(staging, destination)
    made = sum(row.size for row in rows if row.id in writer.written)
    files, failed = len(writer.written), len(writer.failed)
    note_delivered(job, list(writer.written))
    job.log("delivered", {"path": str(destination), "files": files, "bytes": made,
                          "failed": failed})
    yield Delivered(str(destination), files, made, True, failed, len(writer.shortened),
                    writer.changed)


@contextmanager
def _reading_back(stop: StopSignal) -> Iterator[ReadBack]:
    back = ReadBack(stop)
    try:
        yield back
    finally:
        back.give_up()


@contextmanager
def _staged(job: Job, destination: Path) -> Iterator[Path]:
    """A clean staging folder in `destination`, marked as this job's unfinished delivery and locked
    while it is one."""
    destination.mkdir(parents=True, exist_ok=True)
    with (destination / MARKER).open("a+", encoding="utf-8") as marker:
        try:
            fcntl.flock(marker, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise DeliveryError("to-busy", path=str(destination)) from error
        _still_ours(destination, job)
        _clear(destination)
        marker.truncate(0)
        marker.write(json.dumps({
            "job": job_id(job), "note": "An unfinished Needlewright delivery. Deliver again to "
            "this folder to finish it."}))
        marker.flush()
        staging = destination / STAGING
        (staging / "bag" / "data").mkdir(parents=True)
        yield staging


def _still_ours(destination: Path, job: Job) -> None:
    """DeliveryError where something else came between the guards and the lock: nothing of others
    is removed."""
    inside = sum(path.name != MARKER for path in destination.iterdir())
    if inside and unfinished_of(destination) != job_id(job):
        marker = destination / MARKER
        if not marker.stat().st_size:
            marker.unlink()  # made a moment ago, by us
        raise DeliveryError("to-not-empty", path=str(destination), items=inside)


def _clear(destination: Path) -> None:
    """Remove what an unfinished delivery of ours left."""
    for name in (STAGING, "data"):
        shutil.rmtree(destination / name, ignore_errors=True)
    for path in destination.iterdir():
        ours = path.name.startswith(("manifest-", "tagmanifest-")) or path.name in (
            "bag-info.txt", BAG_FILES, "finds.json", "finds.csv", "report.txt")
        if path.is_file() and ours:
            path.unlink()


class _Writer:
    """Writes the files of a delivery; a find that cannot be read or named is told and passed over.
    """

    def __init__(self, job: Job, rows: Sequence[FindRow], owners: Mapping[int, tuple[int, str]],
                 payload: Path, room: Room, words: Words, back: ReadBack) -> None:
        """`owners`: of logs, see `tree.plan`."""
        self._job, self._payload, self._room, self._words = job, payload, room, words
        self._back = back
        self.rows, self._owners = rows, owners
        self.written: dict[int, DeliveredFile] = {}
        self.failed: dict[int, str] = {}
        self.changed = 0  # files whose source changed since they were judged
        self.shortened: list[tuple[str, str]] = []  # (path of the find, path in the bag)
        self.beside: dict[str, tuple[str, int]] = {}  # made of databases: SHA-256 (hex), bytes
        self._places: dict[str, PurePosixPath] = {}  # of what is handed over, by its name

    def write(self, stop: StopSignal) -> Iterator[int]:
        """Write every file; yields bytes as it goes, and ends early when stopped."""
        records, by_id = [], {}
        for row in self.rows:
            try:
                records.append(self._job.record(row.id))
                by_id[row.id] = records[-1]
            except NeedlewrightError as error:
                self.failed[row.id] = self._words.problem(error)
        sources = self._job.sources()
        volumes = {source.id: self._job.searched.volumes(source.id) for source in sources}
        tops = Tops(sources, volumes, [(r.row.source, volume_of(r)) for r in records])
        with Media.of(self._job) as media:
            every = plan(records, tops, self._room, self._words.name, self._owners)
            self._places = {(p.row.name or p.place.name).casefold(): p.place for p in every}
            for planned in every:
                if stop.is_set():
                    return
                try:
                    yield from self._one(planned, by_id[planned.row.id], media, stop)
                except (SourceError, JobError, DeliveryError) as error:
                    self._give_up(planned, self._words.problem(error))
                except OSError as error:
                    if error.errno in DISK_FAILS:
                        raise
                    self._give_up(planned, error.strerror or str(error))

    def _give_up(self, planned: Planned, reason: str) -> None:
        self.failed[planned.row.id] = reason
        with suppress(OSError):
            self._payload.joinpath(*planned.place.parts).unlink()

    def _one(self, planned: Planned, record: FindRecord, media: Media,
             stop: StopSignal) -> Iterator[int]:
        row, target = planned.row, self._payload.joinpath(*planned.place.parts)
        target.parent.mkdir(parents=True, exist_ok=True)
        digest, total = hashlib.sha256(), 0
        with media.content(record) as file, target.open("xb", buffering=0) as out:
            past = Past(file, MOST_UNREAD)
            for block in bytes_of(past, row):
                if stop.is_set():
                    return
                write_all(out, block)
                digest.update(block)
                total = zlib.crc32(block, total)
                yield len(block)
        known = self._job.sums.of(row.id)
        failed = any(c.name == "source" and c.outcome is Outcome.FAIL for c in record.checks)
        if (known is not None and known != total) or (past.unread and not failed):
            self._changed(row, target, stop)
        _keep_date(target, row.modified or row.taken)
        told = DeliveredFile(f"data/{planned.place}", digest.hexdigest())
        self.written[row.id] = told
        self._back.add(target, told.file, told.sha256)
        if row.format == DATABASE and self._words.rows is not None and row.size <= MOST_DATABASE:
            try:
                with ExitStack() as held:
                    logs = open_logs(self._job, row, media, held)
                    self._rows_of(held.enter_context(media.content(record)), logs, target, stop)
            except OSError as error:  # such as a name that is too long for it
                if error.errno in DISK_FAILS:
                    raise
            except NeedlewrightError:
                pass  # the database itself is handed over
        if planned.shortened:
            self.shortened.append((row.path or row.name or "", f"data/{planned.place}"))


    def _changed(self, row: FindRow, target: Path, stop: StopSignal) -> None:
        """The bytes of a find are not what was judged: it is checked anew, and told as it is."""
        try:
            now = examine_one(target, stop).find
        except Interrupted:
            return  # the delivery ends here as well, and nothing of it stays
        grade, share = self._job.sums.changed(row.id, now)
        self.rows = [replace(r, grade=str(grade), share=share) if r.id == row.id else r
                     for r in self.rows]
        self.changed += 1

    def _rows_of(self, file: Source, logs: Mapping[str, Source], target: Path,
                 stop: StopSignal) -> None:
        """The rows of a database as files beside it, as far as it can be read."""
        assert self._words.rows is not None
        folder = target.with_name(f"{target.name} rows")
        made = self._words.rows(folder, partial(self._named, folder))
        with made, suppress(FormatError, SourceError):
            database = Database(file, logs.get(LOG), logs.get(JOURNAL))
            for row in itertools.chain(database.live(), database.removed()):
                if stop.is_set():
                    return
                made.add(row)
        for path in made.written:
            with open(path, "rb") as written:
                sha256 = hashlib.file_digest(written, "sha256").hexdigest()
            name = f"data/{path.relative_to(self._payload)}"
            self.beside[name] = sha256, path.stat().st_size
            self._back.add(path, name, sha256)

    def _named(self, folder: Path, name: str) -> str | None:
        """Where the file lies, from `folder` on, that is handed over and called so."""
        place = self._places.get(name.replace("\\", "/").rpartition("/")[2].casefold())
        return None if place is None else os.path.relpath(self._payload / place, folder)


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


def _write_tags(job: Job, writer: _Writer, bag: Path, words: Words) -> None:
    twins = _twins(writer.written)
    every = job.matching()
    names = {source.id: job.searched.volumes(source.id) for source in job.sources()}

    def entries() -> Iterator[dict[str, Any]]:
        for row in every:
            try:
                record = job.record(row.id)
            except JobError:
                continue  # a damaged job file: what can be read of it is told
            yield entry(record, writer.written.get(row.id), twins.get(row.id, []),
                        words.check, words.seam, words.change,
                        volume_name(record, names.get(row.source, ())),
                        writer.failed.get(row.id))
    write_lists(bag, head(job.sources(), job.searched.steps()), entries())
    handed = Handed(writer.rows, writer.failed, writer.shortened,
                    [row for row in every if row.grade == Grade.GONE])
    (bag / "report.txt").write_text(words.report(handed), encoding="utf-8")
    payload = {file.file: file.sha256 for file in writer.written.values()}
    payload |= {name: sha256 for name, (sha256, _) in writer.beside.items()}
    octets = sum(row.size for row in writer.rows if row.id in writer.written)
    octets += sum(size for _, size in writer.beside.values())
    write_bag(bag, payload, {"External-Description": job.title,
                             "Bag-Software-Agent": "Needlewright"}, octets)


def _move_in(staging: Path, destination: Path) -> None:
    bag = staging / "bag"
    for path in sorted(bag.iterdir(), key=lambda p: p.name == BAG_FILES):
        os.rename(path, destination / path.name)
    shutil.rmtree(staging)
    os.unlink(destination / MARKER)
