"""`python -m benchmarks.heads [MIB]`: made-up heads of files in every sector; time by the bytes.

Each head is plausible and claims what lies behind it, other heads among it. A search of twice as
many must take twice as long and no longer; told is the ratio of times an MiB between the last two
sizes (1.0: linear), heads a second, bytes read for each byte of the medium, and peak memory.
"""

from __future__ import annotations

import resource
import struct
import sys
import threading
import time

from tests.media import of_format
from tests.support import camera_jpeg, png

from needlewright.core.search.engine import search
from needlewright.core.search.events import Found
from needlewright.core.search.plan import Plan
from needlewright.core.sources.memory import MemorySource
from needlewright.core.warming import warm

SECTOR = 512
MIB = 1 << 20


class Counting(MemorySource):
    """Counts the bytes that are read of it."""

    read = 0

    def read_into(self, offset: int, target: memoryview) -> int:
        self.read += len(target)
        return super().read_into(offset, target)


def heads() -> dict[str, bytes]:
    """One sector of each kind of made-up head."""
    photo = camera_jpeg(3)
    clip = min((s.data for s in of_format("mp4")), key=len)
    return {
        "png": png()[:33] + struct.pack(">I4s", 0x7000_0000, b"IDAT"),
        "jpeg": photo[:2] + photo[photo.index(b"\xff\xdb"):][:480],
        "boxes": clip[:40] + struct.pack(">I4s", 0x0010_0000, b"moov"),
        "riff": b"RIFF" + struct.pack("<I", 0x0100_0000) + b"WAVEfmt " + bytes(20),
    }


def searched(data: bytes) -> tuple[float, int, float]:
    """(seconds, finds, bytes read a byte) of a search by signatures."""
    source = Counting(data)
    began = time.monotonic()
    found = sum(isinstance(e, Found) for e in search(source, Plan(("signatures",)),
                                                     threading.Event()))
    return time.monotonic() - began, found, source.read / len(data)


def main() -> None:
    most = int(sys.argv[1]) if len(sys.argv) > 1 else 16
    warm()
    for name, head in heads().items():
        sector = head[:SECTOR].ljust(SECTOR, b"\x41")
        searched(sector * (MIB // SECTOR))  # caches and workers
        before = 0.0
        for size in (most // 2, most):
            count = size * MIB // SECTOR
            seconds, found, read = searched(sector * count)
            ratio = seconds / size / before if before else 1.0
            before = seconds / size
            print(f"{name}, {size} MiB, {count:,} heads: {seconds:.1f} s, {count / seconds:,.0f} "
                  f"heads/s, {found} finds, {read:.0f} bytes read a byte, {ratio:.2f}", flush=True)
    print(f"peak {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MiB")


if __name__ == "__main__":
    main()
