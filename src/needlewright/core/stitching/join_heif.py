"""HEIC, HEIF and AVIF by their items (ISO/IEC 23008-12): the index in front says where each coded
item lies, and an HEVC item begins with the length of its first NAL unit, as a clip's samples do.

Pictures of one item, and those whose coding has nothing to be known by, are put together around
what others own.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from needlewright.core.codes import SeamWord
from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.stitching.base import Bench, Broken, Extents, Joined, Joiner, register
from needlewright.core.stitching.chained.around import join_around
from needlewright.core.stitching.clips.clip_runs import Clip, Run, as_long_as_the_medium, placed
from needlewright.core.stitching.clips.clip_seams import told
from needlewright.core.stitching.clips.sample_index import SampleIndex
from needlewright.core.structures.bmff import Box, top_level
from needlewright.core.structures.bmff_samples import Track
from needlewright.core.structures.heif_items import item_kinds, item_spans
from needlewright.core.structures.view import View

HEVC = (b"hvc1", b"hev1")
LENGTH_BYTES = 4  # of NAL units in items
DECODED = "decodes-across"  # of which HEVC's decoders notice little: no proof
LEAST_ITEMS = 4  # that tell where pieces lie


def _join(broken: Broken, bench: Bench) -> Joined | None:
    joined = _by_items(broken, bench)
    return joined if joined is not None and joined.ended else join_around(broken, bench) or joined


def _by_items(broken: Broken, bench: Bench) -> Joined | None:
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or broken.start >= pool.source.size:
        return None
    view = as_long_as_the_medium(pool.source, ((broken.start, pool.source.size - broken.start),))
    try:
        end, meta = _ends(view)
        index = None if meta is None else _index(view, meta, pool.unit)
    except FormatError:
        return None
    if meta is None or index is None or index.offsets.size < LEAST_ITEMS or end > pool.source.size:
        return None
    clip = Clip(_of_items(bench), index, end, [Run(0, 0, first, 0, 0)])
    index.learn(0, pool.read(np.array([first]))[0])
    stop = -(-end // pool.unit)
    clip.grow(clip.runs[0], stop)
    if -(-meta.stop // pool.unit) > clip.runs[0].last + 1:
        return None  # the index itself is in pieces
    clip = placed(clip, stop)
    joined = told(clip) if len(clip.runs) > 1 else None
    return None if joined is None else replace(joined, seams=tuple(
        replace(s, word=SeamWord.LIKELY) if DECODED in {r.code for r in s.reasons} else s
        for s in joined.seams))


def _ends(view: View) -> tuple[int, Box | None]:
    """(where the file ends by its boxes, its index)."""
    end, meta = 0, None
    for box in top_level(view, 0):
        if box.name not in (b"ftyp", b"meta", b"mdat", b"free", b"skip", b"uuid") or box.open_ended:
            break
        end, meta = box.stop, box if box.name == b"meta" else meta
        if box.name == b"mdat":
            break
    return end, meta


def _index(view: View, meta: Box, unit: int) -> SampleIndex | None:
    """The coded items as the samples of one track, shown one a second."""
    kinds = item_kinds(view, meta)
    spans = sorted(s for number, every in item_spans(view, meta).items()
                   if kinds.get(number) in HEVC for s in every)
    if not spans:
        return None
    places = np.array(spans, np.int64)
    return SampleIndex(unit, [Track(
        1, coding=HEVC[0], length_bytes=LENGTH_BYTES, offsets=places[:, 0],
        sizes=places[:, 1] - places[:, 0], times=np.arange(len(spans) + 1))])


def _of_items(bench: Bench) -> Bench:
    """The same, with decoders asked for items by their number."""
    decodes = bench.decodes
    if decodes is None:
        return bench

    def items(extents: Extents, start: float, stop: float, decoder: str = Decoder.HEIF) -> bool:
        return decodes(extents, start, stop, Decoder.HEIF)

    return replace(bench, decodes=items)


register(Joiner("heif", frozenset(("heic", "heif", "avif")), _join, endless=True))
