"""Files as they are, each from its first byte to its last: followed, decoded, graded.

The same walks, decoders and grades as of what is searched for; a file's own end must be its last
byte, or what stands behind it is told.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import AGAINST, Grade
from needlewright.core.contents import Stretches
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.finds import Find
from needlewright.core.formats.base import Format
from needlewright.core.formats.recognising import format_of_name, kind_of_name, recognise
from needlewright.core.search.carving import follow
from needlewright.core.search.deciding import Case, find_of
from needlewright.core.search.dialogue import WAIT_S, Dialogue, Turn
from needlewright.core.search.proving import reads_as_text
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Check, Facts, Outcome, Walk

STEP = "files"  # who found it
HEAD_BYTES = 512
IN_FLIGHT = 32  # files that are open at once
TRIED = 3  # formats that the first bytes of a file may be of
TELLING_TEXT = 12  # bytes; of fewer, anything may read as text


@dataclass(slots=True)
class Examined:
    """A file, and what it turned out to be; `error` where it cannot be read at all. `walk`: the
    path that its own structure took, where it has any."""

    path: Path
    find: Find | None = None
    walk: Walk | None = None
    error: SourceError | None = None


@dataclass(slots=True)
class _Open:
    done: Examined
    source: Source | None = None
    case: Case | None = None
    waiting: bool = False


@dataclass(frozen=True, slots=True)
class _FileCase(Case):
    """The case of a file in the line."""

    item: _Open | None = None


def are_files(paths: Iterable[str | os.PathLike[str]]) -> bool:
    """Whether what is given is meant as files to look at, not as a medium to search: folders, and
    files with the extension of a format."""
    every = [Path(path) for path in paths]
    return bool(every) and all(path.is_dir() or (path.is_file() and format_of_name(
        path.name) is not None) for path in every)


def examine(paths: Iterable[Path], stop: StopSignal,
            decoders: DecoderPool[Any] | None = None) -> Iterator[Examined]:
    """What each file of `paths` is, in their order. Takes files in as fast as results are taken
    out; ends early where `stop` is set. Never raises for a file: that is told of it."""
    pool = decoders or DecoderPool[Any]()
    dialogue: Dialogue[_FileCase] = Dialogue(pool, True, stop)
    line: deque[_Open] = deque()
    left = iter(paths)
    more = True
    try:
        while more or line:
            while more and len(line) < IN_FLIGHT and not stop.is_set():
                path = next(left, None)
                if path is None:
                    more = False
                    break
                line.append(_opened(path, stop))
                _hear(_begun(line[-1], dialogue))
            _hear(dialogue.settled(WAIT_S if line and line[0].waiting else 0.0))
            while line and not line[0].waiting:
                yield _closed(line.popleft())
            if stop.is_set():
                return
    except Interrupted:
        return
    finally:
        for item in line:
            _closed(item)
        if decoders is None:
            pool.close()


def examine_one(path: Path, stop: StopSignal, decoders: DecoderPool[Any] | None = None) -> Examined:
    """The same for one file; Interrupted when `stop` is set meanwhile."""
    for done in examine([path], stop, decoders):
        return done
    raise Interrupted


def _closed(item: _Open) -> Examined:
    if item.source is not None:
        item.source.close()
        item.source = None
    return item.done


def _opened(path: Path, stop: StopSignal) -> _Open:
    """The file at `path` with its walk."""
    try:
        source = ImageFile(path)
    except SourceError as error:
        if error.code == "source-empty":
            return _Open(Examined(path, _nothing(path, "file-empty", 0)))
        return _Open(Examined(path, error=error))
    try:
        walk, form = _followed(source, path.name, stop)
    except SourceError as error:
        source.close()
        return _Open(Examined(path, error=error))
    except Interrupted:
        source.close()
        return _Open(Examined(path, error=SourceError("stopped", path=str(path))))
    if walk is None or form is None:
        with source:
            try:
                return _Open(Examined(path, _unknown(source, path)))
            except SourceError as error:
                return _Open(Examined(path, error=error))
    return _Open(Examined(path, walk=walk), source, Case(walk, form.name))


def _followed(source: Source, name: str, stop: StopSignal) -> tuple[Walk | None, Format | None]:
    """The walk of the likeliest format that comes to anything."""
    best: tuple[Walk | None, Format | None] = (None, None)
    for form in recognise(source.read_at(0, HEAD_BYTES), name)[:TRIED]:
        try:
            walk = follow(source, 0, form, stop, bounded=True)
        except FormatError:
            continue
        if walk.broken is None and walk.ended:
            return walk, form
        if best[0] is None or walk.stop > best[0].stop:
            best = walk, form
    return best


def _begun(item: _Open, dialogue: Dialogue[_FileCase]) -> Iterator[Turn[_FileCase]]:
    case, source = item.case, item.source
    if case is not None and source is not None:
        item.waiting = True
        yield from dialogue.begin(_FileCase(case.walk, case.form, item=item), source)


def _hear(turns: Iterable[Turn[_FileCase]]) -> None:
    """Make the finds of those about which all is known."""
    for turn in turns:
        item = turn.case.item
        if turn.last and item is not None and item.source is not None:
            item.waiting = False
            find, _ = find_of(turn.case, turn.report, STEP, item.source.sector_size)
            item.done.find = _whole_file(find, turn.case, item)


def _whole_file(find: Find, case: Case, item: _Open) -> Find:
    """`find` as the whole file: with its name, all of its bytes, and what stands behind its end."""
    path, walk = item.done.path, case.walk
    assert item.source is not None
    size, grade = item.source.size, find.grade
    checks = list(find.checks)
    behind = size - walk.stop
    if behind > 0 and walk.broken is None:
        padded = _is_blank(item.source, walk.stop)
        checks.append(Check("length", Outcome.PASS if padded else Outcome.NOT_APPLICABLE,
                            "length-padded" if padded else "length-behind", {"bytes": behind}))
    promised = format_of_name(path.name)
    if promised is not None and promised.name != case.form and (
            kind_of_name(path.name)[1] != find.format):
        checks.append(Check("name", Outcome.NOT_APPLICABLE, "name-promises",
                            {"promised": kind_of_name(path.name)[1], "format": find.format}))
    checks.sort(key=lambda check: AGAINST.get(check.outcome, 2))
    return replace(find, content=Stretches(((0, size),)), grade=grade, checks=tuple(checks),
                   name=path.name, path=str(path))


def _is_blank(source: Source, start: int) -> bool:
    """Whether nothing but zeros stands from `start` to the end."""
    try:
        return not any(block.strip(b"\0") for block in blocks(source, Span(start, source.size)))
    except SourceError:
        return False


def _unknown(source: Source, path: Path) -> Find:
    """The find of a file whose first bytes are of no format: its beginning is lost, or nothing here
    knows it."""
    promised = format_of_name(path.name)
    if promised in recognise(source.read_at(0, HEAD_BYTES), path.name):
        return _nothing(path, "head-only", source.size)
    if promised is not None:
        return _nothing(path, "head-lost", source.size, {"format": promised.name})
    kind, form, extension = kind_of_name(path.name)
    text = source.size >= TELLING_TEXT and reads_as_text(source, path.name)
    check = Check("content", Outcome.PASS if text else Outcome.DOUBT,
                  "text-reads" if text else "content-unknown", content=True)
    return Find(form, kind, extension, Stretches(((0, source.size),)),
                Grade.WHOLE if text else Grade.UNPROVEN, 1.0, (STEP,), (check,), Facts(),
                name=path.name, path=str(path))


def _nothing(path: Path, code: str, size: int, values: dict[str, str] | None = None) -> Find:
    """The find of a file that shows nothing."""
    kind, form, extension = kind_of_name(path.name)
    check = Check("content", Outcome.FAIL, code, values or {}, content=True)
    return Find(form, kind, extension, Stretches(((0, size),) if size else ()),
                Grade.REMNANT if size else Grade.GONE, 0.0, (STEP,), (check,), Facts(),
                name=path.name, path=str(path))
