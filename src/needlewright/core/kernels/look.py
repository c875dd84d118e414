"""All that is looked for in a block, at once: blank blocks are told first and cost next to nothing.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.blank import as_words, is_blank
from needlewright.core.kernels.signatures import (
    SignatureTable,
    find_everywhere,
    find_signatures,
)
from needlewright.core.kernels.steady import read_only
from needlewright.core.kernels.texture import BLOCK_BYTES, Texture, classify

Bytes = npt.NDArray[np.uint8]
Longs = npt.NDArray[np.int64]
NOTHING = np.zeros(0, np.int64)


def matches(data: Bytes, table: SignatureTable, sector: int, shift: int,
            every_byte: bool) -> tuple[Longs, Longs]:
    """(offsets, signature indices) in `data` uint8[n], whose first sector begins at `shift`.

    At every byte, weak signatures are still looked for where sectors begin only.
    """
    at_sectors, owners = find_signatures(data[shift:], sector, table)
    if not every_byte:
        return at_sectors + shift, owners
    offsets, which = find_everywhere(data, table)
    joined = np.unique(np.stack((np.concatenate((offsets, at_sectors + shift)),
                                 np.concatenate((which, owners)))), axis=1)
    return joined[0], joined[1]


def look(data: Bytes, table: SignatureTable, sector: int, shift: int, every_byte: bool,
         texture: int) -> tuple[Longs, Longs, Bytes]:
    """`matches`, and the texture of the first `texture` bytes (none where it is 0)."""
    data = read_only(data)
    if data.size and is_blank(data, as_words(data), 0, data.size):
        blank = np.full(-(-texture // BLOCK_BYTES), Texture.BLANK, np.uint8)
        return NOTHING, NOTHING, blank
    classes = classify(data[:texture]) if texture else np.zeros(0, np.uint8)
    offsets, which = matches(data, table, sector, shift, every_byte)
    return offsets, which, classes
