"""The reader: a process of its own, so that a read that hangs in the kernel hangs nothing else.

`python -m needlewright.core.imaging.reader_child SPEC FD SLOT_BYTES`: reads of the source go into
the shared memory file FD, a slot each. Requests are lines `slot offset length` on standard input;
answers lines of JSON. The first line tells what was opened, or why it was not.
"""

from __future__ import annotations

import json
import mmap
import sys
import time
from typing import Any

from needlewright.core.errors import SourceError
from needlewright.core.sources.registry import open_source


def main(spec: str, fd: int, slot_bytes: int) -> None:
    """Serve reads until standard input ends."""
    shared = mmap.mmap(fd, 0)
    try:
        source = open_source(spec, direct=True)
    except SourceError as error:
        _say({"error": error.code, "values": error.values})
        return
    _say({"size": source.size, "sector": source.sector_size, "block": source.block_size,
          "name": source.name})
    memory = memoryview(shared)
    for line in sys.stdin:
        slot, offset, length = (int(word) for word in line.split())
        began = time.monotonic()
        answer: dict[str, Any] = {"slot": slot, "got": 0, "outcome": "read"}
        try:
            target = memory[slot * slot_bytes : slot * slot_bytes + length]
            answer["got"] = source.read_into(offset, target)
        except SourceError as error:
            answer["outcome"] = "failed" if error.code == "source-range" else "gone"
            answer["reason"] = str(error.values.get("reason", error.code))
        answer["seconds"] = time.monotonic() - began
        _say(answer)


def _say(words: dict[str, Any]) -> None:
    sys.stdout.write(json.dumps(words) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
