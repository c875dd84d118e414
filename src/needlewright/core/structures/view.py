"""Bounds-checked reads of one file on a source, and the checks that most walks report."""

from __future__ import annotations

from collections.abc import Sequence

from needlewright.core.errors import FormatError
from needlewright.core.sources.source import Source
from needlewright.core.sources.windows import BlockReader
from needlewright.core.walks import Break, Check, Facts, Outcome, Part, Variant, Walk

MAX_PIXELS = 600_000_000  # more than any camera takes; beyond it a size is damage or malice
MAX_PARTS = 200  # named pieces kept for the dossier


class View:
    """Bytes `start` to `stop` of a source; addresses are absolute. Small reads share a block."""

    def __init__(self, source: Source, start: int, stop: int, block_size: int = 1 << 16) -> None:
        self.source, self.start, self.stop = source, start, min(stop, source.size)
        self._reader = BlockReader(source, block_size)
        self._budget = source.budget

    def take(self, at: int, length: int) -> bytes:
        """Exactly `length` bytes at `at`; FormatError where they do not fit."""
        if self._budget is not None:
            self._budget.step(at)
        if at < self.start or length < 0 or at + length > self.stop:
            raise FormatError("data-ends", offset=min(max(at, self.start), self.stop))
        block = self._reader.read(at, length)
        if len(block) != length:
            raise FormatError("data-ends", offset=at + len(block))
        return block

    def peek(self, at: int, length: int) -> bytes:
        """Up to `length` bytes at `at`, fewer at the end."""
        if self._budget is not None:
            self._budget.step(at)
        length = max(0, min(length, self.stop - at))
        return self._reader.read(at, length) if at >= self.start and length else b""

    def big(self, at: int, size: int) -> int:
        """An unsigned big-endian number of `size` bytes."""
        return int.from_bytes(self.take(at, size), "big")

    def little(self, at: int, size: int) -> int:
        """An unsigned little-endian number of `size` bytes."""
        return int.from_bytes(self.take(at, size), "little")


class Parts:
    """The named pieces of a file, neighbours of one name joined."""

    def __init__(self) -> None:
        self._parts: list[Part] = []

    def add(self, name: str, start: int, stop: int) -> None:
        last = self._parts[-1] if self._parts else None
        if last is not None and last.name == name and last.stop == start:
            self._parts[-1] = Part(name, last.start, stop)
        elif len(self._parts) < MAX_PARTS:
            self._parts.append(Part(name, start, stop))

    def __len__(self) -> int:
        return len(self._parts)

    def before(self, stop: int) -> tuple[Part, ...]:
        return tuple(p for p in self._parts if p.start < stop)


def structure(problem: FormatError | None, start: int, parts: int) -> Check:
    """The check of how a file is built; `problem` is where it breaks."""
    if problem is None:
        return Check("structure", Outcome.PASS, "structure-ok", {"parts": parts})
    return Check("structure", Outcome.FAIL, "structure-broken",
                 {**problem.told, "offset": problem.offset - start})


def end_mark(ended: bool, counted: bool = False) -> Check:
    """The check of the end; `counted`: by a length that the contents bear out, not by a mark."""
    if not ended:
        return Check("end mark", Outcome.FAIL, "end-missing")
    return Check("end mark", Outcome.PASS, "end-counted" if counted else "end-own")


def dimensions(width: int | None, height: int | None) -> Check:
    """The check of the stated picture size."""
    if not width or not height:
        return Check("dimensions", Outcome.FAIL, "dimensions-missing")
    fits = width * height <= MAX_PIXELS
    return Check("dimensions", Outcome.PASS if fits else Outcome.FAIL,
                 "dimensions-plausible" if fits else "dimensions-implausible",
                 {"width": width, "height": height})


def broken_at(problem: FormatError, row: int | None = None) -> Break:
    """The break that a problem of structure is."""
    return Break(problem.offset, "structure", problem.offset, row, problem.told)


def finish(
    start: int, stop: int, problem: FormatError | None, facts: Facts, parts: Parts,
    checks: Sequence[Check], *, share: float = 1.0, variant: Variant | None = None,
    preview: tuple[int, int] | None = None, verified: int | None = None, ended: bool | None = None,
    opaque: Sequence[tuple[int, int]] = (), unproven: str = "", guessed: bool = False,
) -> Walk:
    """The walk of a file whose only damage, if any, is `problem`.

    `ended` says whether its own end was reached where that is not the same as being undamaged.
    """
    broken = None if problem is None else broken_at(problem)
    share = round(min(max(share, 0.0), 1.0 if problem is None else 0.9999), 4)
    return Walk(start, stop, problem is None if ended is None else ended, broken, share, facts,
                parts.before(stop), preview, checks=tuple(checks), variant=variant,
                verified=verified, opaque=tuple(opaque) if problem is None else (),
                unproven=unproven, guessed=guessed)
