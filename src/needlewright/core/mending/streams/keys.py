"""Which coded pictures can be decoded without others before them, by their own first bytes."""

from __future__ import annotations

import re

HEAD_BYTES = 4096  # of a picture that are looked at
VOP = re.compile(rb"\x00\x00\x01\xb6(.)", re.DOTALL)  # ISO/IEC 14496-2, 6.2.5
PICTURE = re.compile(rb"\x00\x00\x01\x00.(.)", re.DOTALL)  # ISO/IEC 13818-2, 6.2.3
NAL = re.compile(rb"\x00\x00\x01(.)", re.DOTALL)
ALONE = frozenset((b"MJPG", b"JPEG", b"DIB ", b"HFYU", b"FFV1", b"YUY2", b"UYVY", b"I420", b"YV12"))
PART_2 = frozenset((b"XVID", b"DIVX", b"DX50", b"FMP4", b"MP4V", b"DIV5", b"XVIX", b"3IV2"))
AVC = frozenset((b"H264", b"X264", b"AVC1", b"DAVC"))
HEVC = frozenset((b"HEVC", b"H265", b"HVC1", b"HEV1"))
#: Codings that never write so many zeros in a row; plain and lossless ones do where it is dark.
NEVER_BLANK = PART_2 | AVC | HEVC | frozenset((
    b"MJPG", b"JPEG", b"MPG1", b"MPG2", b"MPEG", b"FLV1"))
BLANK = bytes(512)


def is_overwritten(coding: bytes, data: bytes) -> bool:
    """Whether a coded picture has zeros inside that its coder does not write. Those at its end are
    none: recorders fill pictures up to a round size."""
    return coding.upper() in NEVER_BLANK and BLANK in data.rstrip(b"\0")


def is_between(coding: bytes, head: bytes) -> bool:
    """Whether the picture that begins with `head` is made of those before and behind it."""
    name = coding.upper()
    if name in PART_2:
        found = VOP.search(head)
        return found is not None and found[1][0] >> 6 == 2
    found = PICTURE.search(head)
    return found is not None and found[1][0] >> 3 & 7 == 3


def is_key(coding: bytes, head: bytes) -> bool | None:
    """Whether the picture that begins with `head` stands alone; None where that cannot be said.
    `coding`: four letters, as in AVI."""
    name = coding.upper()
    if name in ALONE or not name.strip(b"\0"):
        return True
    if name in PART_2:
        found = VOP.search(head)
        return found is not None and found[1][0] >> 6 == 0
    if name in (b"MPG2", b"MPEG", b"MPG1"):
        found = PICTURE.search(head)
        return found is not None and found[1][0] >> 3 & 7 == 1
    if name in AVC:
        return any(m[0] & 31 == 5 for m in NAL.findall(head))
    if name in HEVC:
        return any(16 <= m[0] >> 1 & 63 <= 21 for m in NAL.findall(head))
    return None
