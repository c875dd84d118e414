"""Finds put back onto a phone: as new files in a folder of their own, read back, never over what is
there, and not while the phone may still hold removed files that nobody has.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from needlewright.core.checks.grading import Grade
from needlewright.core.delivery.blocks import bytes_of, write_all
from needlewright.core.delivery.tree import path_of
from needlewright.core.errors import DeliveryError, JobError, NeedlewrightError, SourceError
from needlewright.core.formats.recognising import object_format_of_name
from needlewright.core.jobfile.coverage import outstanding
from needlewright.core.jobfile.rows import Filter, FindRow, SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.delivered import delivered
from needlewright.core.jobs.media import Media
from needlewright.core.names import safe_name
from needlewright.core.phones.addresses import NAMED, checked, is_address, known_phones
from needlewright.core.phones.phone import OF_STATES, Phone, State
from needlewright.core.search.plan import Plan
from needlewright.core.sources.source import Span
from needlewright.core.stopping import Interrupted, StopSignal

PHONE, COPIES = "phone", "kept-copies"  # the kind of source, and the step that asks it
#: After these the phone takes no other file either.
LOST, MOST_LOST = "phone-lost", 2  # connections in a row: one may be the fault of a file
ENDINGS = frozenset(("phone-unseen", "phone-untrusted", "phone-closed", "phone-busy",
                     "phone-usb-busy", "phone-usb-denied", "phone-disk"))


@dataclass(frozen=True, slots=True)
class Putting:
    """Progress: bytes that were sent, of those in all."""

    done: int
    total: int


@dataclass(frozen=True, slots=True)
class PutBack:
    """The outcome: (find, its name on the phone) of each that is there and was read back alike,
    (find, problem) of those that are not; `finished` False where it was stopped."""

    put: list[tuple[int, str]] = field(default_factory=list)
    failed: list[tuple[int, NeedlewrightError]] = field(default_factory=list)
    finished: bool = True


def check(job: Job, rows: Sequence[FindRow], spec: str, others: Iterable[Path] = ()) -> None:
    """DeliveryError where `rows` must not be put onto the phone `spec`: a phone of the job, or the
    raw storage of one, holds removed files that were not delivered, or was not searched; or that
    phone itself is so in another job, of the folders `others`."""
    if not is_address(spec):
        raise DeliveryError("onto-no-phone", path=spec)
    checked(spec)
    if not any(row.grade != Grade.GONE for row in rows):
        raise DeliveryError("nothing-chosen")
    raw = {known.name: frozenset(known.raw.values()) for known in known_phones()}
    every = frozenset(address for some in raw.values() for address in some)
    _refuse_while_kept(job, lambda source: source.kind == PHONE or source.path in every)
    its = {spec, *raw.get(spec.removeprefix(NAMED), ())}
    for folder in others:
        if folder.absolute() == job.folder:
            continue
        with suppress(JobError), Job(folder, read_only=True) as other:
            _refuse_while_kept(other, lambda source: source.path in its, f" ({other.title})")


def _refuse_while_kept(job: Job, concerned: Callable[[SourceRow], bool], where: str = "") -> None:
    """DeliveryError where a source that is `concerned` may hold removed files that nobody has."""
    sources = [source for source in job.sources() if concerned(source)]
    kept = delivered(job) if sources else frozenset()
    left = [row for row in job.matching(Filter(removed=True))
            if row.grade != Grade.GONE and row.id not in kept] if sources else []
    for source in sources:
        if not _was_searched(job, source):
            raise DeliveryError("onto-unsearched", path=f"{source.name}{where}")
        count = sum(row.source == source.id for row in left)
        if count:
            raise DeliveryError("onto-undelivered", path=f"{source.name}{where}", count=count)


def _was_searched(job: Job, source: SourceRow) -> bool:
    """Whether all removed files that a source holds are in the job: a search for some of them alone
    says nothing of the others."""
    if source.kind != PHONE:
        return any(step.source == source.id for step in job.searched.steps())
    plan = Plan((COPIES,), removed_only=True, every_frame=False)
    return not outstanding(plan, Span(0, source.size), job.searched.coverage(source.id, COPIES))


def put_back(job: Job, rows: Sequence[FindRow], spec: str, name: Callable[[FindRow], str],
             stop: StopSignal, others: Iterable[Path] = ()) -> Iterator[Putting | PutBack]:
    """Put `rows` onto the phone `spec`; yields progress, then one PutBack. `name`: what a find is
    called that has no name; `others`: see `check`. Raises DeliveryError, and SourceError where the
    phone is not ready."""
    check(job, rows, spec, others)
    rows = [row for row in rows if row.grade != Grade.GONE]
    total, done, losses = sum(row.size for row in rows), 0, 0
    phone, outcome = Phone(spec, stop), PutBack()
    try:
        _room(phone, spec, total)
        with Media.of(job) as media:
            for row in rows:
                if stop.is_set():
                    break
                try:
                    outcome.put.append((row.id, _one(job, row, media, phone, name)))
                    losses = 0
                except SourceError as error:
                    outcome.failed.append((row.id, error))
                    losses += error.code == LOST
                    if error.code in ENDINGS or losses == MOST_LOST:
                        break
                except NeedlewrightError as error:
                    outcome.failed.append((row.id, error))
                done += row.size
                yield Putting(done, total)
    except Interrupted:
        pass
    finally:
        phone.close()
    reached = len(outcome.put) + len(outcome.failed)
    job.log("put-back", {"path": spec, "files": len(outcome.put), "failed": len(rows) - len(
        outcome.put)})
    yield PutBack(outcome.put, outcome.failed, reached == len(rows))


def _room(phone: Phone, spec: str, total: int) -> None:
    state, stores = phone.state()
    if state is not State.READY:
        raise SourceError(OF_STATES[str(state)], path=spec)
    place = next((s for s in stores if not s.removable), stores[0])
    if place.capacity and place.free < total:  # one that tells nothing says so when it is full
        raise DeliveryError("onto-full", path=spec, need=total, free=place.free)


def _one(job: Job, row: FindRow, media: Media, phone: Phone,
         name: Callable[[FindRow], str]) -> str:
    """The name under which a find is on the phone now."""
    digest, total = hashlib.sha256(), 0
    try:
        # Without a name of its own, so that nothing is left of it whatever becomes of us.
        with tempfile.TemporaryFile(dir=job.folder, buffering=0) as out:
            record = job.record(row.id)
            with media.content(record) as file:
                for block in bytes_of(file, row):
                    write_all(out, block)
                    digest.update(block)
                    total = zlib.crc32(block, total)
            if job.sums.of(row.id) not in (None, total):
                raise DeliveryError("onto-changed", find=row.id)
            called = PurePosixPath(path_of(record) or name(row)).name
            put, back = phone.put(Path(f"/proc/{os.getpid()}/fd/{out.fileno()}"),
                                  safe_name(called), _stamp(row.taken or row.modified),
                                  object_format_of_name(called))
    except OSError as error:
        raise DeliveryError("to-failed", path=str(job.folder),
                            reason=os.strerror(error.errno or 0)) from error
    if back != digest.hexdigest():
        raise DeliveryError("onto-differs", path=put)
    return put


def _stamp(told: str | None) -> str:
    """A date (RFC 3339) as PTP has it (ISO 15740, 5.3.3.3), without its zone."""
    digits = (told or "")[:19].replace("-", "").replace(":", "")
    return digits if len(digits) == 15 else ""
