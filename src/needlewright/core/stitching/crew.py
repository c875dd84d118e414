"""Joins in processes, one a core: most of it is Python, and one interpreter runs one at a time.

A member has the pool as it was when the crew was gathered, and is told what has been taken since.
What the pool knows of each cluster lies in memory that all share until one of them changes a page:
of a large drive it is gigabytes. It works as long as it is looked after: each call of `results` is
a beat, and where none comes for a moment all members hold still, so that whoever takes no more
events has paused them. To stop, they are ended.
"""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import select
import struct
import subprocess
import time
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needlewright.core import processes
from needlewright.core.errors import SourceError
from needlewright.core.stitching.base import Broken, Extents
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.team import Result, broken_as_json, joined_from

BEAT = struct.Struct("d")  # when it was last looked after, on the monotonic clock
WINDOW = 8  # finds under way at once at the utmost, the same on every machine
STALE_S = 0.12  # without a beat for so long, members hold still
MAX_LINE = 1 << 24  # bytes of an answer
MODULE = "needlewright.core.stitching.crew_member"


def share(pool: Pool) -> int:
    """Move what `pool` knows of each cluster into memory that others may map, by the descriptor
    that is returned."""
    fd = os.memfd_create("clusters")
    with open(fd, "wb", closefd=False) as out:
        for array in (pool.free, pool.blank, pool.classes):
            out.write(array.data)
    adopt(pool, fd)
    return fd


def adopt(pool: Pool, fd: int) -> None:
    """Let `pool` know what was shared of one of the same size; what it changes is its own."""
    if pool.count:
        shared = mmap.mmap(fd, 3 * pool.count, mmap.MAP_PRIVATE)
        arrays = np.frombuffer(shared, np.uint8).reshape(3, pool.count)
        pool.free, pool.blank = arrays[0].view(np.bool_), arrays[1].view(np.bool_)
        pool.classes = arrays[2]


@dataclass(slots=True)
class _Member:
    process: subprocess.Popen[bytes]
    doing: Broken | None = None
    heard: bytearray = field(default_factory=bytearray)

    @property
    def fd(self) -> int:
        assert self.process.stdout is not None
        return self.process.stdout.fileno()

    def tell(self, told: dict[str, Any]) -> None:
        assert self.process.stdin is not None
        with contextlib.suppress(BrokenPipeError):  # noticed when it is listened to
            self.process.stdin.write(json.dumps(told).encode() + b"\n")
            self.process.stdin.flush()


class Crew:
    """As many members as there are cores, or `most`; they start when there is something to do."""

    window = WINDOW

    def __init__(self, pool: Pool, most: int) -> None:
        place = pool.source.local_pieces(0, pool.source.size)
        if place is None:
            raise SourceError("source-elsewhere")
        self._pool, self._place = pool, place
        self._taken: list[Extents] = []
        self._most = max(1, min(most, os.cpu_count() or 1, WINDOW))
        self._clusters_fd = share(pool)
        self._members: list[_Member] = []
        self._beat_fd = os.memfd_create("beat")
        os.ftruncate(self._beat_fd, BEAT.size)
        self._beat = mmap.mmap(self._beat_fd, BEAT.size)

    @property
    def room(self) -> bool:
        return len(self._members) < self._most or any(m.doing is None for m in self._members)

    def give(self, broken: Broken, effort: int, patience: float) -> None:
        self.look_after()
        member = next((m for m in self._members if m.doing is None), None) or self._start()
        member.doing = broken
        member.tell({"join": broken_as_json(broken), "effort": effort, "patience": patience})

    def _start(self) -> _Member:
        process = processes.start(
            MODULE, str(os.getpid()), str(self._beat_fd), str(self._clusters_fd),
            pass_fds=(self._beat_fd, self._clusters_fd),
            stderr=subprocess.DEVNULL,
            more={"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "MALLOC_ARENA_MAX": "2"})
        member, pool = _Member(process), self._pool
        member.tell({"path": self._place[0], "extents": self._place[1], "unit": pool.unit,
                     "base": pool.base, "sector": pool.source.sector_size})
        for extents in self._taken:
            member.tell({"take": extents})
        self._members.append(member)
        return member

    def take(self, extents: Extents) -> None:
        self._taken.append(extents)
        for member in self._members:
            member.tell({"take": extents})

    def look_after(self) -> None:
        """Let the members go on for a moment."""
        self._beat[:] = BEAT.pack(time.monotonic())

    def results(self, wait_s: float) -> list[Result]:
        self.look_after()
        out: list[Result] = []
        busy = {m.fd: m for m in self._members if m.doing is not None}
        if not busy:
            return out
        ready, _, _ = select.select(list(busy), [], [], min(wait_s, STALE_S / 3))
        for fd in ready:
            result = self._hear(busy[fd])
            if result is not None:
                out.append(result)
        return out

    def _hear(self, member: _Member) -> Result | None:
        block = os.read(member.fd, 1 << 20)
        member.heard += block
        at = member.heard.find(b"\n")
        if not block or (at < 0 and len(member.heard) > MAX_LINE):
            return self._lose(member)
        if at < 0:
            return None
        told = json.loads(bytes(member.heard[:at]))
        del member.heard[: at + 1]
        broken, member.doing = member.doing, None
        assert broken is not None
        if "gone" in told:
            code, values = told["gone"], told["values"]
            raise SourceError(code, **values)
        return broken, joined_from(told["joined"])

    def _lose(self, member: _Member) -> Result | None:
        """One died over a find: that one stays as it is, and another takes its place."""
        broken = member.doing
        self._members.remove(member)
        _end(member)
        return None if broken is None else (broken, None)

    def close(self) -> None:
        for member in self._members:
            _end(member)
        self._members.clear()
        if self._beat_fd >= 0:
            self._beat.close()
            os.close(self._beat_fd)
            os.close(self._clusters_fd)
            self._beat_fd = -1


def _end(member: _Member) -> None:
    member.process.kill()
    for pipe in (member.process.stdin, member.process.stdout):
        if pipe is not None:
            with contextlib.suppress(BrokenPipeError):
                pipe.close()
    member.process.wait()
