"""One damaged file after another: the way to mend it, the new file, and what the checks say of
that.

The new file is written under a name of its own, checked by the same walks and decoders as
everything else, and kept only where it is better than what was there. Nothing that exists is ever
written over.
"""

from __future__ import annotations

import contextlib
import logging
import os
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import Grade
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.finds import Find
from needlewright.core.formats.recognising import format_of_name
from needlewright.core.formats.registry import formats
from needlewright.core.mending import line_ends
from needlewright.core.mending.base import (
    Change,
    Choice,
    Mended,
    Mender,
    Patient,
    Reference,
    Unmendable,
    Wishes,
)
from needlewright.core.mending.measuring import is_better, measured
from needlewright.core.mending.registry import menders
from needlewright.core.names import one_line
from needlewright.core.search.examining import Examined, examine, examine_one
from needlewright.core.sources.files import ImageFile
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Outcome

HALF = 0.5  # of a file must be there for it to be called mended
MOST_REFERENCES = 8  # of the files themselves
MAX_SAME_NAMES = 10_000
FAULT_LOG = logging.getLogger(__name__)
#: What is no error of a file but of ours; its trace is kept in that log.
FAULTS = (ArithmeticError, AssertionError, AttributeError, LookupError, TypeError, ValueError,
          struct.error)
#: Checks of content that pass whatever samples a file holds.
SILENT_CODES = frozenset(("frames-complete", "strips-agree", "decode-complete", "decode-raw",
                          "samples-continue", "text-reads", "frames-decode"))


@dataclass(slots=True)
class Treated:
    """What became of one file. `output`: the mended file, None where there is none; `why`: code of
    the reason for that; `grade`, `share`: of the output, else of the file as it is."""

    path: Path
    before: Find | None
    grade: str
    share: float
    share_before: float
    output: Path | None = None
    changes: tuple[Change, ...] = ()
    doubts: tuple[str, ...] = ()
    reference: str | None = None
    why: str = ""
    after: Find | None = None
    error: SourceError | None = None
    choices: tuple[Choice, ...] = ()


def treat(paths: Iterable[Path], to: Path, references: Sequence[Path], stop: StopSignal,
          told: Callable[[Path, float], None] = lambda path, share: None) -> Iterator[Treated]:
    """Mend each file of `paths` into the folder `to`, which is there. Sound files among them are
    references for the others, behind those that are given; so the sound ones are told first. Never
    raises for a file that is damaged; OSError where nothing can be written, after the last complete
    file."""
    pool: DecoderPool[int] = DecoderPool(use=f"damaged {to}")
    checker: DecoderPool[int] = DecoderPool(2, use=f"mended {to}")
    lent = _opened(references)
    sound: list[_Sound] = []
    damaged: list[Examined] = []
    try:
        for item in examine(paths, stop, pool):
            if item.find is not None and item.find.grade is not Grade.WHOLE and item.find.size:
                item.find = replace(item.find, thumbnail=b"", strip=b"")
                damaged.append(item)
                continue
            if item.find is not None and item.find.size:
                sound.append(_Sound(item.path, item.find))
            yield treat_one(item, to, (), stop, checker, told)
        for item in damaged:
            if stop.is_set():
                return
            with contextlib.ExitStack() as open_ones:
                alike = _alike(item, sound, open_ones)
                try:
                    yield treat_one(item, to, (*lent, *alike), stop, checker, told)
                except Interrupted:
                    return
    finally:
        pool.close()
        checker.close()
        for reference in lent:
            reference.source.close()


class _Sound:
    """A sound file that may lend something: what it is like, and where."""

    __slots__ = ("camera", "form", "path", "size")

    def __init__(self, path: Path, find: Find) -> None:
        self.path, self.form = path, find.format
        self.camera, self.size = find.facts.camera, (find.facts.width, find.facts.height)


def _alike(item: Examined, sound: Sequence[_Sound],
           open_ones: contextlib.ExitStack) -> list[Reference]:
    """The sound files that are most like a damaged one."""
    find = item.find
    assert find is not None
    promised = format_of_name(item.path.name)
    names = {find.format, promised.name if promised is not None else find.format}
    fit = [s for s in sound if s.form in names]
    fit.sort(key=lambda s: (s.camera != find.facts.camera,
                            s.size != (find.facts.width, find.facts.height),
                            s.path.parent != item.path.parent))
    chosen: list[_Sound] = []
    sizes: set[object] = set()
    for one in fit:  # different sizes first: alike ones lend the same
        if (one.size, one.camera) not in sizes and len(chosen) < MOST_REFERENCES:
            sizes.add((one.size, one.camera))
            chosen.append(one)
    chosen += [s for s in fit if s not in chosen][: max(0, MOST_REFERENCES - len(chosen))]
    found = []
    for one in chosen:
        with contextlib.suppress(SourceError):
            found.append(Reference(one.path.name, str(one.path),
                                   open_ones.enter_context(ImageFile(one.path))))
    return found


def _opened(references: Sequence[Path]) -> list[Reference]:
    """The references that can be opened; SourceError for one that cannot."""
    return [Reference(path.name, str(path), ImageFile(path)) for path in references]


def treat_one(item: Examined, to: Path, references: Sequence[Reference], stop: StopSignal,
              checker: DecoderPool[int],
              told: Callable[[Path, float], None] = lambda path, share: None) -> Treated:
    """Mend one file that was examined. Interrupted when `stop` is set meanwhile."""
    find, path = item.find, item.path
    if find is None:
        return Treated(path, None, "", 0.0, 0.0, why="unreadable", error=item.error)
    result = Treated(path, find, str(find.grade), find.share, find.share)
    if find.grade is Grade.WHOLE:
        result.why = "whole"
        return result
    if find.size == 0:
        result.why = "empty"
        return result
    try:
        with contextlib.closing(ImageFile(path)) as source:
            others = [r for r in references if Path(r.path) != path.absolute()]
            patient = Patient(source, path.name, find.format, item.walk, others, stop,
                              lambda share: told(path, share))
            treat_patient(patient, find, result, to, checker)
    except SourceError as error:
        result.why, result.error = "unreadable", error
    return result


def treat_patient(patient: Patient, find: Find, result: Treated, to: Path,
                  checker: DecoderPool[int]) -> None:
    """Fill `result` with what can be done for a damaged file, `find` being what it is now. Raises
    SourceError where it cannot be read, Interrupted when it is to stop."""
    trial = _Trial(result, to, patient.stop, checker, patient.wishes)
    try:
        try:
            for proposal in _proposals(patient, find, result):
                if trial.takes(proposal):
                    break
        except FAULTS:  # one odd file must not end the work on all others
            note_fault(patient.name)
            result.why = result.why or "fault"
        trial.settle()
    finally:
        trial.clear()


def note_fault(name: str) -> None:
    """Keep the trace of an error that is a fault of ours, whatever the file is like."""
    FAULT_LOG.exception("a fault of ours while %s was mended", name)


def _proposals(patient: Patient, find: Find, result: Treated) -> Iterator[Mended]:
    """What the ways to mend propose, the likeliest first; why they do not goes into `result`."""
    leave = patient.wishes.leave
    with contextlib.suppress(Unmendable):
        if "line-ends" not in leave:
            yield line_ends.restored(patient, formats().values())
    ways = _ways_for(find, patient.name)
    if not ways:
        result.why = "no-way"
    for way in ways:
        try:
            yield from way.mend(patient)
        except Unmendable as error:
            result.why = result.why or error.code
        except FormatError as error:
            result.why = result.why or error.why
        except MemoryError:
            result.why = "too-large"
        except FAULTS:
            note_fault(patient.name)
            result.why = result.why or "fault"


def _ways_for(find: Find, name: str) -> list[Mender]:
    """Ways to mend `find`, last resorts last: the others know it better."""
    promised = format_of_name(name)
    names = {find.format, promised.name if promised is not None else find.format}
    return sorted((m for m in menders().values() if m.formats & names),
                  key=lambda m: m.resort)


class _Trial:
    """Proposals for one file, written and checked; the best one stays until `settle` gives it a
    name."""

    def __init__(self, result: Treated, to: Path, stop: StopSignal, checker: DecoderPool[int],
                 wishes: Wishes) -> None:
        self._result, self._to, self._stop, self._checker = result, to, stop, checker
        self._wishes = wishes
        self._best: tuple[tuple[int, int, float], Path, Mended, Find] | None = None
        self._number = 0

    def takes(self, proposal: Mended) -> bool:
        """Write and check a proposal; whether none can be better."""
        self._number += 1
        part = self._to / f".{os.getpid()}-mending-{self._number}.{proposal.extension}"
        with contextlib.suppress(FileNotFoundError):
            part.unlink()
        try:
            with open(part, "xb") as out:
                proposal.write(out)
            after = examine_one(part, self._stop, self._checker).find
            before = self._result.before
            assert before is not None
            wanted = after is not None and (
                (self._wishes.any and after.grade is not Grade.GONE)  # who chose, has seen it
                or is_better(before, proposal, after))
            if after is None or not wanted:
                self._result.why = "no-better"
                return False
            worth = (2 * (after.grade is Grade.WHOLE) + (not proposal.doubts),
                     -len(proposal.doubts), proposal.share)
            if self._best is not None and worth <= self._best[0]:
                return False
            self.clear()
            self._best = worth, part, proposal, after
            return worth[0] == 3
        finally:
            if self._best is None or self._best[1] != part:
                with contextlib.suppress(FileNotFoundError):
                    part.unlink()

    def settle(self) -> None:
        """Keep the best proposal, if there is one, under the name of the file it is of."""
        if self._best is None:
            return
        _, part, proposal, after = self._best
        result = self._result
        with open(part, "rb") as made:
            os.fsync(made.fileno())
        result.output = _named(part, self._to, Path(result.path.name).stem, proposal.extension)
        result.after, result.why = after, ""
        # Without a break that could be named, data that belonged nowhere was left out.
        changes = proposal.changes or (Change("written-anew"),)
        result.changes = (*changes, *(
            Change("left-out", {"change": code}) for code in sorted(self._wishes.leave)))
        result.doubts, result.choices = proposal.doubts, proposal.choices
        assert result.before is not None
        found = measured(result.before, proposal, after)
        result.share_before, result.share = found.before, found.after
        result.grade = str(_grade_of(proposal, after, found.covered))
        if result.grade == Grade.UNPROVEN:
            result.share = found.covered  # nothing is missing, whatever tone is only likely
        result.reference = None if proposal.reference is None else proposal.reference.path

    def clear(self) -> None:
        """Remove what was written and is not kept."""
        if self._best is not None:
            with contextlib.suppress(FileNotFoundError):
                self._best[1].unlink()
            self._best = None


def _grade_of(proposal: Mended, after: Find, share: float) -> Grade:
    """The grade of what was kept; `share`: of what is covered. A coding without checksums decodes
    whatever was put into it, so that its mended file is unproven at best."""
    if after.grade is Grade.WHOLE and not proposal.doubts and share >= HALF:
        proven = any(c.content and c.outcome is Outcome.PASS and c.code not in SILENT_CODES
                     for c in after.checks)
        if proven:
            return Grade.MENDED
        return Grade.UNPROVEN if share >= 1.0 else Grade.PARTIAL
    complete = after.grade in (Grade.WHOLE, Grade.UNPROVEN) and share >= 1.0 and (
        "preview" not in proposal.doubts)
    return Grade.UNPROVEN if complete else Grade.PARTIAL


def _named(part: Path, to: Path, stem: str, extension: str) -> Path:
    """Give the file at `part` the name `stem`.`extension` in `to`, or one with a number where that
    is taken.
    """
    stem = one_line(stem) or "mended"
    for number in range(1, MAX_SAME_NAMES):
        name = f"{stem}.{extension}" if number == 1 else f"{stem}-{number}.{extension}"
        target = to / name
        try:
            os.link(part, target)
        except FileExistsError:
            continue
        except OSError:  # no links on this file system
            try:
                os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o644))
            except FileExistsError:
                continue
            os.replace(part, target)
        return target
    raise FileExistsError(17, "too many files of one name", str(to / stem))
