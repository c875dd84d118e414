"""Ogg with foreign or missing bytes: the pages whose checksums agree, numbered anew, without the
packets that are torn (RFC 3533).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.kernels.checksums import ogg_page_crc
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import left_out, writing

MOST_BYTES = 1 << 29
CONTINUED, FIRST, LAST = 1, 2, 4
NONE_ENDS = (1 << 64) - 1  # of a page in which no packet ends
FULL = 255


@dataclass(slots=True)
class _Page:
    """A page with its own numbers; `lacing`: lengths of its segments; `body`: where they lie."""

    flags: int
    granule: int
    serial: int
    number: int
    lacing: bytes
    body: bytes

    def without_head(self) -> None:
        """Leave out the rest of a packet that began on an earlier page."""
        count = next((i + 1 for i, size in enumerate(self.lacing) if size < FULL), len(self.lacing))
        self.body = self.body[sum(self.lacing[:count]) :]
        self.lacing = self.lacing[count:]
        self.flags &= ~CONTINUED

    def without_tail(self) -> None:
        """Leave out a packet that goes on on a later page."""
        count = len(self.lacing)
        while count and self.lacing[count - 1] == FULL:
            count -= 1
        self.lacing = self.lacing[:count]
        self.body = self.body[: sum(self.lacing)]

    def written(self, number: int) -> bytes:
        granule = self.granule if any(size < FULL for size in self.lacing) else NONE_ENDS
        head = struct.pack("<4sBBQIIIB", b"OggS", 0, self.flags, granule, self.serial, number, 0,
                           len(self.lacing))
        page = head + self.lacing + self.body
        return page[:22] + struct.pack("<I", ogg_page_crc(page)) + page[26:]


def mend(patient: Patient) -> Iterator[Mended]:
    if patient.source.size > MOST_BYTES:
        raise Unmendable("too-large")
    data = patient.source.read_at(0, patient.source.size)
    pages = _pages(patient, data)
    begun = {page.serial for page in pages if page.flags & FIRST}
    pages = [page for page in pages if page.serial in begun]
    if not pages:
        raise Unmendable("samples-none" if not begun else "nothing-decodes")
    torn = _untorn(pages)
    pages = [page for page in pages if page.lacing]
    for serial in begun:
        own = [page for page in pages if page.serial == serial]
        if own:
            own[-1].without_tail()
            own[-1].flags |= LAST
    numbers = dict.fromkeys(begun, 0)
    out = []
    for page in pages:
        out.append(page.written(numbers[page.serial]))
        numbers[page.serial] += 1
    kept = sum(len(part) for part in out)
    changes = [Change("frames-joined", {"count": len(out), "times": max(1, torn)}),
               *left_out(torn, [])]
    yield Mended(writing(patient.source, out), _extension(pages), tuple(changes),
                 min(1.0, kept / len(data)))


def _pages(patient: Patient, data: bytes) -> list[_Page]:
    """The pages whose checksums agree."""
    pages: list[_Page] = []
    at = data.find(b"OggS")
    while 0 <= at <= len(data) - 27:
        patient.breathe(at / len(data) * 0.8)
        _, version, flags, granule, serial, number, crc, count = struct.unpack_from(
            "<4sBBQIIIB", data, at)
        lacing = data[at + 27 : at + 27 + count]
        stop = at + 27 + count + sum(lacing)
        if version == 0 and stop <= len(data) and ogg_page_crc(data[at:stop]) == crc:
            pages.append(_Page(flags, granule, serial, number, lacing,
                               data[at + 27 + count : stop]))
            at = data.find(b"OggS", stop)
        else:
            at = data.find(b"OggS", at + 4)
    return pages


def _untorn(pages: list[_Page]) -> int:
    """Leave out the packets that reach over missing pages; how often some are missing."""
    last: dict[int, _Page] = {}
    torn = 0
    for page in pages:
        before = last.get(page.serial)
        if before is not None and page.number != before.number + 1:
            torn += 1
            before.without_tail()
            if page.flags & CONTINUED:
                page.without_head()
        last[page.serial] = page
    return torn


def _extension(pages: list[_Page]) -> str:
    heads = [page.body for page in pages if page.flags & FIRST]
    if any(head[1:7] == b"theora" for head in heads):
        return "ogv"
    return "opus" if all(head[:8] == b"OpusHead" for head in heads) else "ogg"


register(Mender("ogg", frozenset(("ogg", "opus", "ogv")), mend))
