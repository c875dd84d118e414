"""`python -m benchmarks.strangers [GIB]`: nothing is called whole that is no file.

Searches noise, prose and the insides of other files (their heads cut off), made as they are read,
at sectors, a sixteenth of it at every byte, and lists what was found in them.
"""

from __future__ import annotations

import sys
import threading
import time
from collections import Counter

import numpy as np
from tests.media import samples

from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.source import Source
from needlewright.core.warming import warm

BLOCK = 1 << 20
PROSE = b"05:58 Reedmouth weir, mist; two otters heading upstream, one of them ringed (B7).\n"


class Strangers(Source):
    """Blocks of 1 MiB in turns: noise, prose, insides; each made anew from its number."""

    name = "strangers"

    def __init__(self, size: int) -> None:
        self._size = size
        insides = b"".join(s.data[len(s.data) // 3 : len(s.data) * 9 // 10] for s in samples())
        self._insides = np.frombuffer(insides * (BLOCK // len(insides) + 2), np.uint8)
        self._prose = np.frombuffer((PROSE * (BLOCK // len(PROSE) + 1))[:BLOCK], np.uint8)

    @property
    def size(self) -> int:
        return self._size

    def _block(self, number: int) -> np.ndarray:
        kind = number % 4
        if kind == 1:
            return self._prose
        if kind == 3:
            first = number * 7919 % (self._insides.size - BLOCK)
            return self._insides[first : first + BLOCK]
        return np.frombuffer(np.random.default_rng(number).bytes(BLOCK), np.uint8)

    def read_into(self, offset: int, target: memoryview) -> int:
        done, wanted = 0, max(0, min(len(target), self._size - offset))
        while done < wanted:
            number, inside = divmod(offset + done, BLOCK)
            part = self._block(number)[inside : inside + wanted - done]
            target[done : done + part.size] = part.tobytes()
            done += part.size
        return done


def main(gibibytes: float) -> None:
    warm()
    for every_byte in (False, True):
        # At every byte, insides are full of small pictures and frames, each of which is followed.
        size = int(gibibytes * (1 << 30)) // (16 if every_byte else 1)
        source = Strangers(size)
        began, found = time.monotonic(), {}
        for event in search(source, Plan(every_byte=every_byte), threading.Event()):
            if isinstance(event, Found | Rechecked):
                find = event.find
                found[find.start, find.format] = find
        counts = Counter((str(f.grade), f.format) for f in found.values())
        told = ", ".join(f"{n} {grade} {form}" for (grade, form), n in sorted(counts.items()))
        whole = sum(n for (grade, _), n in counts.items() if grade == "whole")
        way = "every byte" if every_byte else "sectors"
        print(f"{size / 2**30:g} GiB, {way}: {whole} called whole; {told or 'nothing found'}; "
              f"{time.monotonic() - began:.0f} s", flush=True)


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 4.0)
