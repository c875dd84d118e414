"""What to read next from a medium. Pure logic: no I/O, no clock, no randomness.

Every unread range belongs to one of four queues, and the next read comes from the one whose first
range promises most: its value times the bytes a second that such reads bring, as far as known
(failing ones cost time and wear, and bring nothing).

 - *fresh*: never asked, away from known trouble. In order of value, then of place, in large reads.
   After a failing or slow read the planner jumps on, twice as far each time it meets trouble again,
   and feels its way with a small read first. Where failures come singly, reads become smaller.
 - *near*: never asked, put off because it lies beside trouble. Taken from the end that is away from
   the trouble, best neighbours first; with trouble at both ends from the middle: the edges are
   closed in on by halving from both sides.
 - *split*: failed as part of something larger. Halved, never below the physical block.
 - *again*: single blocks that failed. They rest until all others were asked, then are tried again,
   a bounded number of times.

A range that was asked before never goes ahead of one of the same value that was not.
"""

from __future__ import annotations

import heapq
import itertools
import math
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import IntEnum

from needlewright.core.sources.source import Span

READ_BYTES = 1 << 20
PROBE_BYTES = 1 << 16  # the first read behind a jump
SMALLEST_BYTES = 1 << 15  # fresh reads do not become smaller, however many fail
OVERHEAD_SECONDS = 0.0002  # what asking costs, beside the bytes; a guess that any reader is near
FORGET_BYTES = 64 << 20  # of fresh reads, after which what they told counts half
FREE_BYTES = 4 << 20  # that count as read well before the first read
TRIES = 3
SLOW_FACTOR = 8.0  # so many times the usual time for its size makes a read slow
SLOW_SECONDS = 0.1  # quicker ones are not, however quick the others are
MAX_JUMP_PART = 64  # a jump is at most this part of the medium
MEMORY = 0.15  # weight of the newest read in what is known of a queue
FRESH_RATE = 5e7  # bytes a second that fresh ranges promise before the first was read
NEAR_GOOD, NEAR_OPEN, NEAR_BAD = 0.8, 0.4, 0.02  # of a neighbour's rate: what a put-off range
# promises beside a read that came out well, before its far end is known, and between two troubles
SPLIT_UNTRIED, AGAIN_UNTRIED = 0.05, 0.0005
WEAR_SECONDS = 0.5  # what a failing read costs the medium, on top of its time
PIPELINE = 8  # reads that may be under way beyond one that fails


class Queue(IntEnum):
    """Where a range waits, and so why it was put off."""

    FRESH = 0
    NEAR = 1
    SPLIT = 2
    AGAIN = 3


@dataclass(frozen=True, slots=True)
class Read:
    """Ask for `length` bytes at `offset`; the `tries`-th time for all of them."""

    offset: int
    length: int
    queue: Queue
    value: float
    tries: int

    @property
    def stop(self) -> int:
        return self.offset + self.length


@dataclass(frozen=True, slots=True)
class Wish:
    """Bytes `start` to `stop` are worth `value` (1.0 is usual; 0 is never asked for)."""

    start: int
    stop: int
    value: float


@dataclass(slots=True, eq=False)
class _Gap:
    """An unasked range; `promise`: bytes a second; `turn`: which of its heap entries counts."""

    start: int
    stop: int
    value: float
    bad_before: bool = False
    bad_behind: bool = False
    promise: float = 0.0
    turn: int = 0


class Planner:
    """Says what to read next; must be told how each read came out."""

    def __init__(self, size: int, block: int = 512, *, pending: Iterable[Span] | None = None,
                 wishes: Iterable[Wish] = (), read_bytes: int = READ_BYTES,
                 tries: int = TRIES, doubted: Iterable[Span] = ()) -> None:
        """`size`, `block`: bytes of the medium and of what it fails by; `pending`: what is still
        unasked (default: all); `doubted`: what failed in an earlier run and is to be tried again.
        """
        if size <= 0 or block <= 0 or read_bytes < block or tries < 1:
            raise ValueError("a plan needs a medium, a block and a try")
        self.size, self.block, self.tries = size, block, tries
        self.read_bytes = read_bytes // block * block
        ranges = [Span(0, size)] if pending is None else list(pending)
        self._fresh = deque(sorted(
            (_Gap(s.start, s.stop, value) for s, value in _valued(ranges, wishes)),
            key=lambda g: (-g.value, g.start)))
        self._near: list[tuple[float, int, int, _Gap]] = []
        self._near_from: dict[int, _Gap] = {}
        self._near_to: dict[int, _Gap] = {}
        self._split: list[tuple[float, int, Read]] = []
        self._sibling: dict[int, int] = {}  # start of a half that failed as a whole -> the other's
        self._known_bad: set[int] = set()
        self._again: list[tuple[int, float, int, Read]] = []
        self._rates = {Queue.FRESH: FRESH_RATE}
        self._pace = 0.0  # usual seconds a byte, of reads that came out well
        self._length = self.read_bytes  # of fresh reads
        self._asked, self._failed = float(FREE_BYTES), 0.0  # lately: fresh bytes, lone failures
        self._jump, self._troubles, self._turn = 0, 0, 0
        self._troubled = 0
        for span, value in _valued(list(doubted), wishes):
            self._put_failed(Read(span.start, span.size, Queue.FRESH, value, 1))

    # asking

    def next(self) -> Read | None:
        """The next read, None when nothing is left to ask (reads may still be under way)."""
        read = self._next()
        if read is not None and read.queue is not Queue.FRESH:
            self._troubled -= read.length
        return read

    def _next(self) -> Read | None:
        while offers := [(v * promise, -queue, queue) for queue, v, promise in self._offers()]:
            best = max(offers)[2]
            if best is Queue.FRESH:
                return self._next_fresh()
            if best is Queue.NEAR:
                return self._next_near()
            if best is Queue.AGAIN:
                return heapq.heappop(self._again)[3]
            read = self._next_split()
            if read is not None:
                return read
        return None

    def _offers(self) -> Iterator[tuple[Queue, float, float]]:
        """(queue, value, bytes a second to be hoped for) of each queue that is not empty.

        What was asked before waits behind what was not, and single blocks behind all else, however
        badly those ahead of them do.
        """
        fresh = self._rates[Queue.FRESH]
        bound = fresh
        if self._fresh:
            yield Queue.FRESH, self._fresh[0].value, fresh
        gap = self._first_near()
        if gap is not None:
            bound = min(bound, gap.promise)
            yield Queue.NEAR, gap.value, gap.promise
        bound = min(0.99 * bound, self._rates.get(Queue.SPLIT, fresh * SPLIT_UNTRIED))
        if self._split:
            yield Queue.SPLIT, self._split[0][2].value, bound
        if self._again:
            yield Queue.AGAIN, self._again[0][3].value, min(
                0.99 * bound, self._rates.get(Queue.AGAIN, fresh * AGAIN_UNTRIED))

    def _next_fresh(self) -> Read:
        gap = self._fresh[0]
        wanted = self._length
        if self._troubles:
            wanted = min(wanted, self._wanted(PROBE_BYTES))
        # Reads end at multiples of their size, so that a resumed copy falls into step again.
        length = min(gap.stop - gap.start, wanted - gap.start % wanted)
        read = Read(gap.start, length, Queue.FRESH, gap.value, 1)
        gap.start += length
        if gap.start >= gap.stop:
            self._fresh.popleft()
        return read

    def _wanted(self, length: float) -> int:
        """`length` as a power of two of blocks, at most what is read at once."""
        blocks = max(1, int(length) // self.block)
        return min(self.read_bytes, self.block << (blocks.bit_length() - 1))

    def _first_near(self) -> _Gap | None:
        while self._near and self._near[0][1] != self._near[0][3].turn:
            heapq.heappop(self._near)
        return self._near[0][3] if self._near else None

    def _next_near(self) -> Read:
        gap = heapq.heappop(self._near)[3]
        del self._near_from[gap.start], self._near_to[gap.stop]
        size = gap.stop - gap.start
        length = min(size, self._length)
        start, stop = gap.start, gap.start + length
        if gap.bad_before and gap.bad_behind and size > length:
            start = gap.start + (size - length) // 2 // self.block * self.block
            stop = start + length
        elif gap.bad_before:  # from the far end backwards
            start, stop = max(gap.start, (gap.stop - length) // self.block * self.block), gap.stop
        self._put_near(_Gap(gap.start, start, gap.value, gap.bad_before, False, gap.promise))
        self._put_near(_Gap(stop, gap.stop, gap.value, False, gap.bad_behind, gap.promise))
        return Read(start, stop - start, Queue.NEAR, gap.value, 1)

    def _next_split(self) -> Read | None:
        """Of two halves whose whole failed, once one came out well the other need not be asked
        as a whole: it is halved at once, and None is returned."""
        read = heapq.heappop(self._split)[2]
        if read.offset in self._known_bad:
            self._known_bad.discard(read.offset)
            self._troubled -= read.length
            self._put_failed(read)
            return None
        return read

    # telling

    def tell(self, read: Read, got: int, seconds: float) -> None:
        """`read` brought its first `got` bytes (all: it came out well) after `seconds`."""
        well = got >= read.length
        rate = self._learn(read, got, seconds)
        usual = self._pace * read.length
        slow = well and usual > 0 and seconds > max(SLOW_FACTOR * usual, SLOW_SECONDS)
        if well and not slow and read.length >= min(PROBE_BYTES, self.read_bytes):
            pace = seconds / read.length
            self._pace = pace if self._pace == 0 else self._pace + MEMORY * (pace - self._pace)
        self._tell_neighbours(read, well, rate)
        if read.queue is Queue.FRESH:
            self._steer(read, well, slow, rate)
        elif read.queue is Queue.SPLIT:
            self._tell_sibling(read, well)
        if not well:
            done = got // self.block * self.block
            self._put_failed(Read(read.offset + done, read.length - done, read.queue, read.value,
                                  read.tries))

    def _learn(self, read: Read, got: int, seconds: float) -> float:
        wear = 0.0 if got >= read.length else WEAR_SECONDS
        rate = got / max(seconds + wear, 1e-6)
        known = self._rates.get(read.queue, rate)
        self._rates[read.queue] = known + MEMORY * (rate - known)
        return rate

    def _steer(self, read: Read, well: bool, slow: bool, rate: float) -> None:
        """Jump on from trouble, farther each time; shorten reads where failures come singly."""
        alone = not well and self._troubles == 0
        keep = 0.5 ** (read.length / FORGET_BYTES)
        self._asked = self._asked * keep + read.length
        self._failed = self._failed * keep + alone
        self._length = self._best_length()
        if well and not slow:
            self._troubles = 0
            return
        if self._troubles == 0:
            self._jump = self._length
        else:
            self._jump = min(self._jump * 2, max(self.read_bytes, self.size // MAX_JUMP_PART))
        self._troubles += 1
        self._put_off(read.stop, rate)

    def _best_length(self) -> int:
        """The length that brings most where failures come singly: short reads lose little to a
        failure and long ones little to asking, and the two losses are equal at the root."""
        if self._failed * self.read_bytes < 1e-3 * self._asked or self._pace == 0:
            return self.read_bytes
        best = math.sqrt(OVERHEAD_SECONDS / self._pace * self._asked / self._failed)
        return self._wanted(max(best, min(SMALLEST_BYTES, self.read_bytes)))

    def _put_off(self, offset: int, rate: float) -> None:
        """Put off what follows `offset` in the range being read, and go on behind it."""
        if not self._fresh:
            return
        gap = self._fresh[0]
        if not offset <= gap.start <= offset + PIPELINE * self.read_bytes:
            return  # another range altogether
        stop = min(gap.stop, gap.start + self._jump)
        promise = max(rate, NEAR_OPEN * self._rates[Queue.FRESH])
        self._put_near(_Gap(gap.start, stop, gap.value, True, False, promise))
        self._troubled += stop - gap.start
        gap.start = stop
        if gap.start >= gap.stop:
            self._fresh.popleft()

    def _tell_neighbours(self, read: Read, well: bool, rate: float) -> None:
        """What a put-off range promises follows from the reads beside it."""
        before, behind = self._near_to.get(read.offset), self._near_from.get(read.stop)
        for gap, other_bad in ((before, before is not None and before.bad_before),
                               (behind, behind is not None and behind.bad_behind)):
            if gap is None:
                continue
            if well:
                gap.promise = NEAR_GOOD * rate
            elif other_bad:
                gap.promise = NEAR_BAD * self._rates[Queue.FRESH]
            if not well:
                if gap is before:
                    gap.bad_behind = True
                else:
                    gap.bad_before = True
            self._push_near(gap)

    def _tell_sibling(self, read: Read, well: bool) -> None:
        other = self._sibling.pop(read.offset, None)
        if other is not None and self._sibling.pop(other, None) is not None and well:
            self._known_bad.add(other)

    def _put_near(self, gap: _Gap) -> None:
        if gap.stop > gap.start:
            self._near_from[gap.start] = self._near_to[gap.stop] = gap
            self._push_near(gap)

    def _push_near(self, gap: _Gap) -> None:
        self._turn += 1
        gap.turn = self._turn
        heapq.heappush(self._near, (-gap.value * gap.promise, gap.turn, gap.start, gap))

    def _put_failed(self, read: Read) -> None:
        if read.length > self.block:
            half = max(self.block, read.length // 2 // self.block * self.block)
            self._sibling[read.offset], self._sibling[read.offset + half] = (
                read.offset + half, read.offset)
            for start, length in ((read.offset, half), (read.offset + half, read.length - half)):
                part = Read(start, length, Queue.SPLIT, read.value, read.tries)
                self._troubled += length
                heapq.heappush(self._split, (-read.value * length, start, part))
        elif read.tries < self.tries:
            part = Read(read.offset, read.length, Queue.AGAIN, read.value, read.tries + 1)
            self._troubled += part.length
            heapq.heappush(self._again, (part.tries, -part.value, part.offset, part))

    def give_back(self, read: Read) -> None:
        """A read that was never made (the medium went away) waits again where it came from."""
        gap = _Gap(read.offset, read.stop, read.value)
        if read.queue is not Queue.FRESH:
            self._troubled += read.length
        if read.queue is Queue.FRESH:
            first = self._fresh[0] if self._fresh else None
            if first is not None and first.start == read.stop and first.value == read.value:
                first.start = read.offset
            else:
                self._fresh.appendleft(gap)
        elif read.queue is Queue.NEAR:
            gap.promise = self._rates[Queue.FRESH] * NEAR_OPEN
            self._put_near(gap)
        elif read.queue is Queue.SPLIT:
            heapq.heappush(self._split, (-read.value * read.length, read.offset, read))
        else:
            heapq.heappush(self._again, (read.tries, -read.value, read.offset, read))

    @property
    def troubled_bytes(self) -> int:
        """Bytes that wait beside trouble, or to be asked again."""
        return self._troubled

    def gives_up(self, read: Read, got: int) -> Span | None:
        """The part of a failed read that will not be asked for again, or None."""
        if got >= read.length or read.length > self.block or read.tries < self.tries:
            return None
        return Span(read.offset, read.stop)


def _valued(ranges: list[Span], wishes: Iterable[Wish]) -> list[tuple[Span, float]]:
    """`ranges` cut so that each piece has one value; pieces of no value are left out."""
    wishes = list(wishes)
    edges = sorted({e for w in wishes for e in (w.start, w.stop)})
    found: list[tuple[Span, float]] = []
    for span in ranges:
        cuts = [span.start, *(e for e in edges if span.start < e < span.stop), span.stop]
        for start, stop in itertools.pairwise(cuts):
            values = [w.value for w in wishes if w.start <= start and stop <= w.stop]
            value = max(values) if values else 1.0
            if value > 0:
                found.append((Span(start, stop), value))
    return found
