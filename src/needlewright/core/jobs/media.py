"""The one place that opens what the bytes of a job's finds lie on.

A source is opened when something of it is wanted, once, and closed with the rest: a process may
have a thousand files open, a phone speaks with one listener, and a locked backup asks for its
password each time that it is opened.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import Self

from needlewright.core.contents import Brought, Content, Inline, Place, Stored
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.jobfile.rows import FindRecord, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source

MOST_OPEN = 16  # sources that stay open beside those in use


class Media:
    """The sources of a job by their numbers, opened when they are needed; used in a `with`.

    `close` closes all of them; what was had from it before then can no more be read.
    """

    def __init__(self, folder: Path | None, paths: Mapping[int, str]) -> None:
        """`folder`: of the job, if any; `paths`: number of each source -> what it is opened by."""
        self.folder = folder
        self._paths = dict(paths)
        self._open: dict[int, Source] = {}  # the one that was used last stands last
        self._refused: dict[int, NeedlewrightError] = {}
        self._users: dict[int, int] = {}

    @classmethod
    def of(cls, job: Job) -> Self:
        """Those of `job`."""
        return cls(job.folder, {source.id: source.path for source in job.sources()})

    @property
    def open_ones(self) -> int:
        """How many sources are open."""
        return len(self._open)

    def source(self, number: int) -> Source:
        """The source `number`; it stays open while it is one of the last MOST_OPEN used.

        Raises NeedlewrightError, and at every call the same, where it cannot be opened: what is
        away is not asked for again with each find.
        """
        if number in self._refused:
            raise self._refused[number]
        medium = self._open.pop(number, None)
        if medium is None:
            if number not in self._paths:
                raise SourceError("source-missing", path=str(number))
            try:
                medium = open_source(self._paths[number])
            except NeedlewrightError as error:
                self._refused[number] = error
                raise
        self._open[number] = medium
        self._let_go()
        return medium

    @contextmanager
    def lent(self, number: int) -> Iterator[Source]:
        """The source `number`, which stays open until the `with` ends, whatever else is used."""
        self._users[number] = self._users.get(number, 0) + 1
        try:
            yield self.source(number)
        finally:
            self._users[number] -= 1
            self._let_go()

    @contextmanager
    def content(self, find: FindRecord) -> Iterator[Source]:
        """The file of a find, closed when the `with` ends; SourceError where it cannot be had."""
        with self.opened(find.row, find.content) as file:
            yield file

    @contextmanager
    def opened(self, row: FindRow, content: Content) -> Iterator[Source]:
        """`content`, which is of the find `row`, as `content` does."""
        with ExitStack() as held:
            yield held.enter_context(self._file(row, content, held))

    def _file(self, row: FindRow, content: Content, held: ExitStack) -> Source:
        # What lies in the job or in a record needs no medium, and none is woken for it.
        if isinstance(content, Stored | Inline):
            return content.open(Place(None, self.folder))
        if isinstance(content, Brought):
            with suppress(SourceError):
                return content.open(Place(None, self.folder))
        return content.open(Place(held.enter_context(self.lent(row.source)), self.folder))

    def opens(self, number: int) -> bool:
        """Whether nothing is known against opening the source `number`."""
        return number in self._paths and number not in self._refused

    def _let_go(self) -> None:
        """Close what was not used for longest, where more are open than need be."""
        idle = [n for n in self._open if not self._users.get(n)]
        for number in idle[: max(0, len(self._open) - MOST_OPEN)]:
            if number != next(reversed(self._open)):
                self._open.pop(number).close()

    def close(self) -> None:
        while self._open:
            self._open.popitem()[1].close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None,
                 trace: TracebackType | None) -> None:
        self.close()
