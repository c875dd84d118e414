"""What benchmarks measure with: CPU seconds of all processes, and peak memory of all of them."""

from __future__ import annotations

import os
import resource
import threading
import time
from collections.abc import Callable
from pathlib import Path


def cpu_seconds() -> float:
    own, children = (resource.getrusage(who) for who in (
        resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return own.ru_utime + own.ru_stime + children.ru_utime + children.ru_stime


def cpu_of_all() -> float:
    """CPU seconds of this process, of its ended and of its living descendants."""
    ticks = os.sysconf("SC_CLK_TCK")
    living = 0.0
    for pid in _children(os.getpid()):
        try:
            fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        living += sum(int(n) for n in fields[11:15]) / ticks  # its own time, and its children's
    return cpu_seconds() + living


def spent(work: Callable[[], object]) -> float:
    """CPU seconds of `work`, all its ended processes included."""
    before = cpu_seconds()
    work()
    return cpu_seconds() - before


def lasted(work: Callable[[], object]) -> float:
    """Wall seconds of `work`."""
    before = time.monotonic()
    work()
    return time.monotonic() - before


class Memory(threading.Thread):
    """Peak of the proportional set sizes of this process and all its children, bytes."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.peak, self.ending = 0, threading.Event()

    def run(self) -> None:
        while not self.ending.wait(0.05):
            self.peak = max(self.peak, sum(map(_pss, [os.getpid(), *_children(os.getpid())])))


def peak_memory(work: Callable[[], object]) -> int:
    """Peak memory, bytes, while `work` runs."""
    watcher = Memory()
    watcher.start()
    work()
    watcher.ending.set()
    watcher.join()
    return watcher.peak


def _children(pid: int) -> list[int]:
    found = []
    for task in Path(f"/proc/{pid}/task").iterdir():
        try:
            direct = [int(c) for c in (task / "children").read_text().split()]
        except OSError:
            continue
        for child in direct:
            found += [child, *_children(child)]
    return found


def _pss(pid: int) -> int:
    try:
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith("Pss:"))
