"""`python -m benchmarks.trials`: candidates of 4 KiB for the next piece of a JPEG, tried a second.

The hardest case: all candidates come from photos of the same camera with the same tables, so that
hard rules refuse few of them early. Beside it, for scale, how often a second the same bytes are
decoded in full by the walk's own kernel.
"""

from __future__ import annotations

import random
import time

import numpy as np

from benchmarks.families import photograph
from needlewright.core.formats.jpeg_scans import decode_scan, make_grids, scan_plan
from needlewright.core.formats.jpeg_segments import read_headers
from needlewright.core.kernels import jpeg_trials as trials
from needlewright.core.kernels.jpeg_bits import scan_end
from needlewright.core.sources.memory import MemorySource
from needlewright.demo.photos import encode_photo

UNIT = 4096
ROUNDS = 5


def main() -> None:
    rng = random.Random(1)
    photos = [encode_photo(photograph(rng, 3264, 2448), "2031:05:12 05:58:12", 100 + i, 92)
              for i in range(4)]
    headers, scan, begin = read_headers(MemorySource(photos[0]))
    assert headers.frame is not None
    raw = np.frombuffer(photos[0][begin:], np.uint8)
    plan, huffman = scan_plan(headers, scan, make_grids(headers.frame))
    tables = trials.prepare(plan, huffman, [
        headers.quantisers[c.quantiser] for c in headers.frame.components])
    state = tables.begin()
    for at in range(0, raw.size // 2 // UNIT * UNIT, UNIT):
        state = trials.advance(tables, state, raw[at : at + UNIT], 1 << 60).state
    blocks = [p[at : at + UNIT] for p in photos[1:]
              for at in range(4 * UNIT, len(p) - UNIT, UNIT)]
    rows = np.zeros((len(blocks), UNIT + 1), np.uint8)
    for row, block in zip(rows, blocks):
        row[1:] = np.frombuffer(block, np.uint8)
    until = state.mcu + tables.plan.mcus_per_row
    best = 0.0
    for _ in range(ROUNDS):
        began = time.process_time()
        codes, _, _ = trials.try_candidates(tables, state, rows, until)
        best = max(best, len(rows) / (time.process_time() - began))
    began = time.process_time()
    decode_scan(headers, scan, make_grids(headers.frame), raw[: scan_end(raw)])
    whole = raw.size / UNIT / (time.process_time() - began)
    refused = np.isin(codes, list(trials.REFUSALS)).mean()
    print(f"{len(rows):,} candidates, {refused:.0%} refused: {best:,.0f} trials a second and core; "
          f"{whole:,.0f} clusters a second decoded in full")


if __name__ == "__main__":
    main()
