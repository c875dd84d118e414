"""The size of a progressive JPEG whose stated one is wrong: the scan of DC values tells how many
MCUs there are and how they stand in rows, scans of single components which of their blocks are
within the picture (ITU-T T.81, A.2.2)."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from needlewright.core.kernels.jpeg_coefficients import Chain
from needlewright.core.mending.base import Change
from needlewright.core.mending.jpeg import sizes
from needlewright.core.mending.jpeg.anatomy import MAX_PIXELS, restated
from needlewright.core.mending.jpeg.blocks import Picture
from needlewright.core.mending.jpeg.heads import Restored
from needlewright.core.mending.jpeg.passes import Pass
from needlewright.core.mending.jpeg.scans import Scan

BLOCK = 8  # pixels


def sized(found: Restored, scans: list[Scan], picture: Picture) -> Restored:
    """The file with the size that its scans have, where the stated one is not that."""
    head, frame = found.head, found.head.frame
    if len(scans) < 2 or len(scans[0].header.members) != len(frame.components):
        return found
    if _breaks(scans, picture) < 2:
        return found
    blocks = picture.pattern(list(range(len(frame.components)))).size
    most = min(MAX_PIXELS // BLOCK**2, scans[0].data.size * 8) // blocks  # a bit a block
    units = Pass(scans[0], picture, True, lambda: None).all_units(most)
    if units is None:
        return found
    chain = Chain(units, np.zeros(1, np.int64), "complete")
    exif = head.headers.exif
    best = sizes.frame_for(frame, chain, picture.layout(),
                           exif.pixels if exif is not None else (0, 0))
    if best is None:
        return found
    wide, high = BLOCK * frame.max_horizontal, BLOCK * frame.max_vertical
    across, down = -(-best.width // wide), -(-best.height // high)
    widths = {best.width, *(across * wide - BLOCK * n for n in range(frame.max_horizontal))}
    heights = {best.height, *(down * high - BLOCK * n for n in range(frame.max_vertical))}
    for width, height in itertools.product(sorted(widths, key=lambda w: w != best.width),
                                           sorted(heights, key=lambda h: h != best.height)):
        tried = replace(best, width=width, height=height)
        if _breaks(scans, Picture(tried, picture.quantisers)) == 0:
            data, head = restated(found.head, tried)
            change = Change("size-found", {"width": width, "height": height})
            return replace(found, data=data, head=head, changes=(*found.changes, change))
    return found


def _breaks(scans: list[Scan], picture: Picture) -> int:
    """How many of the first scan and the first one of brightness break."""
    alone = next((s for s in scans[1:] if s.first and s.header.members[0][0] == 0), scans[1])
    return sum(not Pass(s, picture, True, lambda: None).is_whole()
               for s in (scans[0], alone))
