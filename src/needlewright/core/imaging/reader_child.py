"""The reader: a process of its own, so that a read that hangs in the kernel hangs nothing else.

`python -m needlewright.core.imaging.reader_child SPEC FD SLOT_BYTES`: reads of the source go into
the shared memory file FD, a slot each. Requests are lines `slot offset length` on standard input;
answers lines of JSON. The first line tells what was opened, or why it was not.
"""

from __future__ import annotations

import hashlib
import json
import mmap
import sys
import time
from typing import Any

from needlewright.core.errors import SourceError
from needlewright.core.sources.registry import open_source, told_of
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.sources.source import Source

HEAD_BYTES = 1 << 16


def main(spec: str, fd: int, slot_bytes: int) -> None:
    """Serve reads until standard input ends."""
    shared = mmap.mmap(fd, 0)
    try:
        source = open_source(spec, direct=True)
        if source.kind != Source.kind:
            here = not isinstance(source, DistantShelf)  # files are no medium to be copied
            raise SourceError("source-directory" if here else "shelf-no-bytes", path=spec)
    except SourceError as error:
        _say({"error": error.code, "values": error.values})
        return
    serial, model = told_of(spec)
    memory = memoryview(shared)
    _say({"size": source.size, "block": source.block_size, "serial": serial, "model": model,
          "head": _head(source, memory)})
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


def _head(source: Source, memory: memoryview) -> str:
    """SHA-256 (hex) of the first bytes, to know the medium again; "" where they do not read."""
    target = memory[: min(HEAD_BYTES, source.size)]
    try:
        return hashlib.sha256(target[: source.read_into(0, target)]).hexdigest()
    except SourceError:
        return ""


def _say(words: dict[str, Any]) -> None:
    sys.stdout.write(json.dumps(words) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
