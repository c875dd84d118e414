"""What somebody else 'rescued' onto the stream card, and what does not open: a photo whose header
is lost, one whose rows are shifted behind a break, and a clip that ends before its index was
written.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from needlewright.core.formats.jpeg_segments import read_headers
from needlewright.core.sources.memory import MemorySource

FOLDER = "RESCUED"
HEADERLESS, SHIFTED, CUT = "BF_0412.JPG", "BF_0413.JPG", "BF_0414.MP4"
SEED = 20310512 + 2000
SIZE = (2048, 1536)
PLACE = "Mill leat"
BREAK, LOST_ROWS = 0.43, 3100  # where bytes are missing, and how many
CUT_AT = 0.86  # of the clip's data


def shots(make: Callable[..., Any], last: datetime) -> list[Any]:
    """The photos to draw, as the card's others."""
    return [make("RESCUED", name, SEED + index, *SIZE, last - timedelta(hours=9 - index), PLACE, 88,
                 False, 0) for index, name in enumerate((HEADERLESS, SHIFTED))]


def write(card: Any, photos: list[bytes], clip: bytes, when: datetime) -> None:
    """Damage them and write them onto the card, as files that are there."""
    headerless, shifted = photos
    begin = read_headers(MemorySource(headerless))[2]
    middle = int(len(shifted) * BREAK)
    index = clip.rfind(b"moov") - 4
    for name, data in (
            (HEADERLESS, bytes(begin) + headerless[begin:]),
            (SHIFTED, shifted[:middle] + shifted[middle + LOST_ROWS :]),
            (CUT, clip[: int(index * CUT_AT)])):
        card.write(FOLDER, name, data, when, "damaged")
