"""Which bytes of a source are read, pending or unreadable. Pure data; no I/O."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from enum import IntEnum

from needlewright.core.sources.source import Span


class State(IntEnum):
    """What is known of a byte."""

    PENDING = 0
    READ = 1
    UNREADABLE = 2


class ReadMap:
    """States of all bytes from 0 to `size`, kept as ranges; neighbours never have one state."""

    def __init__(self, size: int) -> None:
        if size <= 0:
            raise ValueError("a map of nothing")
        self.size = size
        self._starts = [0]
        self._states = [State.PENDING]
        self._totals = {State.PENDING: size, State.READ: 0, State.UNREADABLE: 0}

    def set(self, start: int, stop: int, state: State) -> None:
        """Give bytes `start` to `stop` one state; ValueError outside the map."""
        if not 0 <= start <= stop <= self.size:
            raise ValueError(f"{start} to {stop} lies outside the map")
        if start == stop:
            return
        first = bisect_right(self._starts, start) - 1
        last = bisect_left(self._starts, stop)  # ranges first..last-1 are touched
        for index in range(first, last):
            low = max(start, self._starts[index])
            high = min(stop, self._stop_of(index))
            self._totals[self._states[index]] -= high - low
        self._totals[state] += stop - start
        starts, states = [start], [state]
        if self._starts[first] < start:
            if self._states[first] == state:
                starts = [self._starts[first]]
            else:
                starts.insert(0, self._starts[first])
                states.insert(0, self._states[first])
        elif first > 0 and self._states[first - 1] == state:
            first -= 1
            starts[0] = self._starts[first]
        end, tail = self._stop_of(last - 1), self._states[last - 1]
        if end > stop:
            if tail != state:
                starts.append(stop)
                states.append(tail)
        elif last < len(self._starts) and self._states[last] == state:
            last += 1
        self._starts[first:last] = starts
        self._states[first:last] = states

    def _stop_of(self, index: int) -> int:
        return self._starts[index + 1] if index + 1 < len(self._starts) else self.size

    def total(self, state: State) -> int:
        """Bytes in `state`."""
        return self._totals[state]

    def state_at(self, offset: int) -> State:
        return self._states[bisect_right(self._starts, offset) - 1]

    def ranges(self, state: State | None = None) -> Iterator[tuple[Span, State]]:
        """All ranges in order, or those of one state."""
        for index, found in enumerate(self._states):
            if state is None or found == state:
                yield Span(self._starts[index], self._stop_of(index)), found

    def within(self, start: int, stop: int, state: State) -> int:
        """How many bytes from `start` to `stop` are in `state`."""
        found = 0
        index = max(0, bisect_right(self._starts, start) - 1)
        while index < len(self._starts) and self._starts[index] < stop:
            if self._states[index] == state:
                found += min(stop, self._stop_of(index)) - max(start, self._starts[index])
            index += 1
        return found

    def __len__(self) -> int:
        return len(self._starts)
