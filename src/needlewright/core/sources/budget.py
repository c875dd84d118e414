"""What following one file may cost: steps, bytes, and the signal to stop, in one place.

A few bytes can ask for a lot of work: tables that count to millions, entries without a width. All
views of one walk share its budget, which grows with how far into the medium the walk has come.
"""

from __future__ import annotations

from needlewright.core.errors import FormatError
from needlewright.core.stopping import Interrupted, StopSignal

FREE_STEPS, STEPS_A_BYTE = 2_000_000, 1 / 8
FREE_BYTES, TIMES = 256 << 20, 32
LOOK_EVERY = 1024  # steps


class Budget:
    """Counts what a walk from byte `start` costs. `step` and `read` raise FormatError where that
    is more than any file is worth, Interrupted where the search is to stop."""

    __slots__ = ("_bytes", "_reach", "_start", "_steps", "_stop")

    def __init__(self, start: int, stop: StopSignal) -> None:
        self._start, self._reach, self._stop = start, start, stop
        self._steps = self._bytes = 0

    def step(self, at: int) -> None:
        """One small look at byte `at`."""
        self._steps += 1
        if self._steps % LOOK_EVERY == 0:
            self._look(at)

    def read(self, at: int, length: int) -> None:
        """`length` bytes are read at `at`."""
        self._reach = max(self._reach, at + length)
        self._bytes += length
        if self._bytes > FREE_BYTES + TIMES * (self._reach - self._start):
            raise FormatError("too-much-to-read", offset=at)
        if self._stop.is_set():
            raise Interrupted

    def _look(self, at: int) -> None:
        if self._stop.is_set():
            raise Interrupted
        if self._steps > FREE_STEPS + STEPS_A_BYTE * (self._reach - self._start):
            raise FormatError("too-many-steps", offset=at)
