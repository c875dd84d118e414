"""Streams of packets whose heads say where the next one begins: joined cluster by cluster.

A `Grammar` knows the packets of one kind of stream; the line carries what must go on over a seam:
the phase of the packets, their counters and their clocks. Whether a stream ends somewhere is told
by its packets ending inside a cluster, or by the size that a record states.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import REFUSED, Line, Step

WITHIN = 0.25  # nats of a packet that goes on from one in the same cluster
FIRST = 8.0  # nats of the first one, which stands where the cluster before says
AHEAD = 0.2  # what clusters in line behind a seam count: they go on from each other
UNKNOWN = 1 << 44  # bytes of a stream whose size nobody states
MAX_SKIP = 1 << 24
SECTOR, LEAST_PADDING = 512, 4  # bytes
LEAST_HEADS = 3  # packets in a cluster in which a file ends without padding


@dataclass(frozen=True, slots=True)
class Packet:
    """`size`: bytes up to the next one; `nats`: what speaks for its going on from `memory`."""

    size: int
    nats: float
    memory: Any


class Grammar(ABC):
    """What the packets of a stream look like."""

    head: ClassVar[int]  # bytes of a packet that `read` must see

    @abstractmethod
    def begin(self, data: bytes) -> int | None:
        """Where in the first bytes of a file its packets begin; None where they do not."""

    @abstractmethod
    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        """The packet at `at`, of which at least `head` bytes are there; None where none can be.
        `crossed`: it is the first behind a boundary of clusters."""

    @abstractmethod
    def might(self, rows: npt.NDArray[np.uint8], at: int) -> npt.NDArray[np.bool_]:
        """bool[n]: which of uint8[n, m] may have a packet's head at column `at`."""

    def sum_agrees(self, file: Source) -> bool | None:
        """Whether a checksum over the whole file agrees; None where there is none."""
        return None

    def tail(self, data: bytes, at: int) -> int:
        """Bytes at `at` that may stand behind the last packet of a file."""
        return 0


@dataclass(frozen=True, slots=True)
class State:
    """At the end of a cluster: the next packet begins `skip` bytes on, or with `carry`, the
    beginning of its head. `done`: bytes of the file."""

    skip: int
    carry: bytes
    memory: Any
    done: int


class StreamLine(Line):
    """`stated`: bytes of the file, where a record says so."""

    rivals, decoded = 12, True
    work = 1, 28
    end_proves = False  # packets may end by chance
    proves = False  # at the same byte of another recording of one camera all may go on as well

    def __init__(self, grammar: Grammar, unit: int, stated: int | None) -> None:
        self.grammar, self._unit, self._stated = grammar, unit, stated

    def progress(self, state: State) -> float:
        return min(1.0, state.done / (self._stated or UNKNOWN))

    def sum_agrees(self, file: Source) -> bool | None:
        return self.grammar.sum_agrees(file)

    def judged(self, state: State) -> bool:
        return True

    def may_end(self, state: State) -> bool:
        return state.skip == 0 and not state.carry and not self._stated

    def rank(self, state: State, rows: npt.NDArray[np.uint8], anyhow: bool = False) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        scores = np.full(len(rows), REFUSED)
        fits = np.ones(len(rows), np.bool_)
        if state.carry:
            carried = np.frombuffer(state.carry, np.uint8)
            whole = np.concatenate((np.broadcast_to(carried, (len(rows), carried.size)),
                                    rows[:, 1 : 1 + self.grammar.head]), axis=1)
            fits = self.grammar.might(whole, 0)
        elif state.skip + self.grammar.head <= rows.shape[1] - 1:
            fits = self.grammar.might(rows, 1 + state.skip)
        elif state.skip >= rows.shape[1] - 1:
            return np.zeros(len(rows)), np.zeros(len(rows), np.int64)  # nothing can be said of it
        for index in np.flatnonzero(fits).tolist():
            step = self.take(state, rows[index, 1:])
            scores[index] = step.score
        return scores, np.zeros(len(rows), np.int64)

    def take(self, state: State, raw: npt.NDArray[np.uint8], since: Any = None) -> Step:
        step = self._taken(state, raw)
        if since is not None and since.done != state.done and not step.refused:
            return replace(step, score=AHEAD * step.score)
        return step

    def _taken(self, state: State, raw: npt.NDArray[np.uint8]) -> Step:
        data = state.carry + raw.tobytes()
        before = len(state.carry)
        at, memory, nats, heads = state.skip, state.memory, 0.0, 0
        left = None if self._stated is None else self._stated - state.done
        last = left is not None and left <= raw.size
        limit = before + left if last and left is not None else len(data)
        while at + self.grammar.head <= limit:
            packet = self.grammar.read(data, at, memory, heads == 0)
            if packet is None or not 0 < packet.size <= MAX_SKIP:
                return self._ending(state, data, at, nats, heads, memory)
            nats += packet.nats
            heads += at >= before  # the others were this file's already
            at, memory = at + packet.size, packet.memory
        if last and left is not None:
            return Step(nats, 0, State(0, b"", memory, state.done + left), left)
        carry = data[at:] if at < len(data) else b""
        following = State(max(0, at - len(data)), carry, memory, state.done + raw.size)
        return Step(nats, 0, following)

    def _ending(self, state: State, data: bytes, at: int, nats: float, heads: int,
                memory: Any) -> Step:
        """What it means that no packet is at `at`: the file ends there, or this is not its own."""
        before = len(state.carry)
        if self._stated is not None or at <= before:
            return Step(REFUSED, 0, state)
        at = min(len(data), at + self.grammar.tail(data, at))
        end = at - before
        padding = data[at : before + -(-end // SECTOR) * SECTOR]
        if len(padding) >= LEAST_PADDING and not any(padding):
            nats += FIRST  # as drivers fill the last sector of a file
        elif heads < LEAST_HEADS:
            return Step(REFUSED, 0, state)
        return Step(nats, 0, State(0, b"", memory, state.done + end), end)
