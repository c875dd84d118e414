"""Compiles every kernel once, on tiny inputs, so that the first search does not wait for it."""

from __future__ import annotations

import contextlib
import io

import numpy as np
from PIL import Image

from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.memory import MemorySource


def warm() -> None:
    """Run each kernel on a picture of a few blocks; from the cache this takes about a second."""
    from needlewright.core.formats.registry import formats
    from needlewright.core.kernels.signatures import build_table, find_signatures

    table = build_table([(s.magic, s.at) for f in formats().values() for s in f.signatures])
    find_signatures(np.zeros(4096, np.uint8), 512, table)
    for progressive in (False, True):
        out = io.BytesIO()
        Image.new("RGB", (32, 32), (90, 120, 60)).save(out, "JPEG", progressive=progressive)
        with contextlib.suppress(NeedlewrightError):
            formats()["jpeg"].walk(MemorySource(out.getvalue()), 0, len(out.getvalue()))


if __name__ == "__main__":
    warm()
