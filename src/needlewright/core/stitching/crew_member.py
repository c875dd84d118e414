"""One that joins, in a process of its own.

`python -m needlewright.core.stitching.crew_member PARENT BEAT_FD CLUSTERS_FD`: the first line of
standard input says what the pool is, what is known of its clusters is shared (see `crew.share`);
then come lines, `take` with extents or `join` with a find, and each `join` is answered with a line
of JSON.
"""

from __future__ import annotations

import json
import mmap
import os
import queue
import sys
import threading
import time
from typing import Any, BinaryIO

import numpy as np

from needlewright.core import processes
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench
from needlewright.core.stitching.crew import BEAT, STALE_S, adopt
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.team import broken_from, join_one, joined_as_json
from needlewright.core.stitching.trial_decodes import TrialDecodes

NAP_S = 0.02


class _Beat:
    """A stop signal that is never set, and keeps whoever asks waiting while nobody looks after us.
    """

    def __init__(self, fd: int) -> None:
        self._map = mmap.mmap(fd, BEAT.size, prot=mmap.PROT_READ)

    def is_set(self) -> bool:
        while time.monotonic() - BEAT.unpack(self._map[:])[0] > STALE_S:
            time.sleep(NAP_S)
        return False


def _pool_from(told: dict[str, Any], clusters_fd: int) -> Pool:
    extents = [(o, n) for o, n in told["extents"]]
    source = PiecedSource(ImageFile(told["path"]), extents)
    source.sector_size = told["sector"]
    pool = Pool(source, told["unit"], told["base"], np.zeros((0, 2), np.int64))
    adopt(pool, clusters_fd)
    return pool


def _listen(given: BinaryIO, wishes: queue.Queue[dict[str, Any] | None]) -> None:
    for line in given:
        wishes.put(json.loads(line))
    wishes.put(None)


def _answer(told: dict[str, Any], pool: Pool, beat: _Beat, decodes: TrialDecodes) -> dict[str, Any]:
    broken = broken_from(told["join"])
    bench = Bench(pool, beat, told["effort"], decodes, told["patience"])
    try:
        return {"joined": joined_as_json(join_one(broken, bench))}
    except SourceError as error:
        return {"gone": error.code, "values": {k: str(v) for k, v in error.values.items()}}
    except NeedlewrightError:
        return {"joined": None}


def main() -> None:
    processes.end_with_parent(int(sys.argv[1]))
    os.nice(5)
    beat, given = _Beat(int(sys.argv[2])), sys.stdin.buffer
    pool = _pool_from(json.loads(given.readline()), int(sys.argv[3]))
    assert isinstance(pool.source, PiecedSource)
    decodes = TrialDecodes(pool.source, beat)
    wishes: queue.Queue[dict[str, Any] | None] = queue.Queue()
    threading.Thread(target=_listen, args=(given, wishes), daemon=True).start()
    while (told := wishes.get()) is not None:
        if "take" in told:
            pool.take([(o, n) for o, n in told["take"]])
            continue
        sys.stdout.buffer.write(json.dumps(_answer(told, pool, beat, decodes)).encode() + b"\n")
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
