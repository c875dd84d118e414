"""Tags around sound: ID3v2 (id3.org, 2.2 to 2.4), ID3v1, APEv2."""

from __future__ import annotations

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MAX_TAG = 1 << 28
ID3V1_BYTES = 128
YEAR = slice(93, 97)
NO_TEXT = frozenset(range(1, 9)) | frozenset(range(14, 32))
IN_YEAR = frozenset(b"0123456789 -?\0")


def id3_end(view: View, at: int) -> int:
    """Place behind the ID3v2 tag at `at`; `at` itself where none stands there."""
    head = view.peek(at, 10)
    if len(head) < 10 or head[:3] != b"ID3" or not 2 <= head[3] <= 4 or max(head[6:10]) > 127:
        return at
    size = head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
    end = at + 10 + size + (10 if head[5] & 0x10 else 0)
    if end > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    return end


def closing_tags_end(view: View, at: int) -> int:
    """Place behind the tags that close a file at `at`: APEv2, then ID3v1. What does not read as
    one is none."""
    head = view.peek(at, 32)
    if head[:8] == b"APETAGEX" and len(head) == 32:
        size = int.from_bytes(head[12:16], "little")
        end = at + size + 32  # the size counts the footer, not the header
        if 32 <= size <= MAX_TAG and end <= view.stop and view.peek(end - 32, 8) == b"APETAGEX":
            at = end
    if _reads_as_id3v1(view.peek(at, ID3V1_BYTES)):
        at += ID3V1_BYTES
    return at


def torn_tag(view: View, end: int) -> bool:
    """Whether a closing tag begins at the end of the sound and something else follows in it."""
    head = view.peek(end, 8)
    return head[:3] == b"TAG" or head == b"APETAGEX"


def _reads_as_id3v1(tag: bytes) -> bool:
    """Text in its fields (the last three bytes are the track and the genre), digits in its year."""
    return (len(tag) == ID3V1_BYTES and tag[:3] == b"TAG" and IN_YEAR.issuperset(tag[YEAR])
            and NO_TEXT.isdisjoint(tag[3:125]))
