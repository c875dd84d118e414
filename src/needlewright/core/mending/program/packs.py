"""Packs and packets of a program stream, one by one (ISO/IEC 13818-1, 2.5.3 and 2.4.3.6; 11172-1,
2.4.3 for MPEG-1)."""

from __future__ import annotations

from collections.abc import Container, Iterator
from dataclasses import dataclass

PACK, SYSTEM, PADDING = 0xBA, 0xBB, 0xBE
PICTURES, SOUNDS = range(0xE0, 0xF0), (*range(0xC0, 0xE0), 0xBD)
PADDED = 6  # bytes of the least packet of padding
START = b"\0\0\1"
SEQUENCE, GROUP, PICTURE = b"\0\0\1\xb3", b"\0\0\1\xb8", b"\0\0\1\0"


@dataclass(frozen=True, slots=True)
class Packet:
    """A packet of bytes `at` to `stop`; `body`: where its payload begins."""

    kind: int
    at: int
    body: int
    stop: int


def packets(data: bytes, at: int = 0) -> Iterator[Packet]:
    """All packets from `at` on that are whole, up to the first that is none."""
    while data[at : at + 3] == START and at + 12 <= len(data):
        kind = data[at + 3]
        if kind == PACK:
            head = 14 + (data[at + 13] & 7) if at + 13 < len(data) and data[at + 4] & 0x40 else 12
            if at + head > len(data):
                return
            yield Packet(kind, at, at + head, at + head)
            at += head
            continue
        if kind < SYSTEM:
            return
        stop = at + 6 + int.from_bytes(data[at + 4 : at + 6], "big")
        if stop > len(data):
            return
        yield Packet(kind, at, min(stop, _body(data, at)), stop)
        at = stop


def _body(data: bytes, at: int) -> int:
    """Where the payload of the packet at `at` begins."""
    place = at + 6
    if place + 3 <= len(data) and data[place] & 0xC0 == 0x80:
        return place + 3 + data[place + 2]
    while place < min(len(data), at + 22) and data[place] == 0xFF:
        place += 1
    if place < len(data) and data[place] & 0xC0 == 0x40:
        place += 2
    if place >= len(data):
        return place
    return place + {2: 5, 3: 10}.get(data[place] >> 4, 1)


def cut(data: bytes, packet: Packet, first: int, stop: int) -> bytes:
    """The packet with bytes `first` to `stop` of its payload alone, as long as it was: what is left
    out becomes a packet of padding in front or behind (2.4.3.7)."""
    whole = packet.stop - packet.body
    if stop <= first:
        return padding(packet.stop - packet.at)
    head = data[packet.at + 6 : packet.body]
    if first < PADDED:  # of so little no packet is made
        first = 0
    if whole - stop < PADDED:
        stop = whole
    body = head + data[packet.body + first : packet.body + stop]
    made = data[packet.at : packet.at + 4] + len(body).to_bytes(2, "big") + body
    return padding(first) + made + padding(whole - stop)


def padding(size: int) -> bytes:
    """A packet of nothing, `size` bytes; b"" for 0."""
    if size == 0:
        return b""
    return START + bytes((PADDING,)) + (size - 6).to_bytes(2, "big") + b"\xff" * (size - 6)


class Payload:
    """The bytes of the packets of these kinds within `data`, in one piece."""

    def __init__(self, data: bytes, kinds: Container[int] = PICTURES) -> None:
        self.packets = [p for p in packets(data) if p.kind in kinds]
        self.parts = [(p.body, p.stop) for p in self.packets]
        self.bytes = b"".join(data[a:b] for a, b in self.parts)

    def cut(self, data: bytes, first: int, stop: int) -> list[tuple[int, bytes]]:
        """[(place, packet)]: those of which not all belongs to bytes `first` to `stop`, cut."""
        found, at = [], 0
        for packet, (begin, end) in zip(self.packets, self.parts):
            size = end - begin
            low, high = max(0, first - at), min(size, stop - at)
            if low > 0 or high < size:
                found.append((packet.at, cut(data, packet, low, high)))
            at += size
        return found

    def places(self, first: int, stop: int) -> list[tuple[int, int]]:
        """Where bytes `first` to `stop` of it stand in `data`."""
        found, at = [], 0
        for begin, end in self.parts:
            low, high = max(first, at), min(stop, at + end - begin)
            if low < high:
                found.append((begin + low - at, begin + high - at))
            at += end - begin
        return found


def torn_behind(payload: Payload) -> int:
    """Bytes of pictures behind a gap that cannot be decoded: up to the next sequence; all where
    none begins."""
    first = payload.bytes.find(SEQUENCE)
    return len(payload.bytes) if first < 0 else first


def between_behind(payload: Payload, first: int) -> tuple[int, int]:
    """(first, stop) of the pictures behind the one that begins a sequence at `first` that need one
    before it (13818-2, 6.3.9: kind 3)."""
    at = payload.bytes.find(PICTURE, first)
    begin = stop = 0
    while at >= 0 and at + 5 < len(payload.bytes):
        following = payload.bytes.find(PICTURE, at + 4)
        kind = payload.bytes[at + 5] >> 3 & 7
        if kind == 3:
            begin = begin or at
            stop = following if following >= 0 else len(payload.bytes)
        elif begin or at > payload.bytes.find(PICTURE, first):
            break
        at = following
    return begin, stop


def torn_before(payload: Payload) -> int:
    """The byte from which on the last picture in front of a gap stands."""
    at = payload.bytes.rfind(PICTURE)
    if at < 0:
        return len(payload.bytes)
    for mark in (GROUP, SEQUENCE):
        before = payload.bytes.rfind(mark, max(0, at - 1024), at)
        at = before if before >= 0 else at
    return at
