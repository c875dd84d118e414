"""ZIP archives and the office formats built on them.

APPNOTE 6.3.10; ISO/IEC 29500-2 and ODF 1.3 part 2 for packages. Little-endian. Every member is
inflated and its CRC-32 verified; the end is that of the central directory's end record, which has
to agree with the members. Encrypted members are stepped over.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.inflating import Inflater
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

LOCAL, CENTRAL, END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
END_64, LOCATOR_64, DESCRIPTOR = b"PK\x06\x06", b"PK\x06\x07", b"PK\x07\x08"
EXTRA_DATA, SIGNATURE = b"PK\x06\x08", b"PK\x05\x05"
STORED, DEFLATED = 0, 8
ENCRYPTED, STREAMED = 0x1, 0x8
UNKNOWN = 0xFFFF_FFFF
MAX_MEMBERS = 1_000_000
MAX_INFLATED = 4 << 30  # bytes of one archive; beyond, members are stepped over unread
READ_BYTES = 1 << 18
OTHER = Kind.OTHER
ZIP = Variant("zip", "zip", OTHER)
BY_MIMETYPE = {
    b"application/vnd.oasis.opendocument.text": Variant("odt", "odt", Kind.DOCUMENT),
    b"application/vnd.oasis.opendocument.spreadsheet": Variant("ods", "ods", Kind.DOCUMENT),
    b"application/vnd.oasis.opendocument.presentation": Variant("odp", "odp", Kind.DOCUMENT),
    b"application/vnd.oasis.opendocument.graphics": Variant("odg", "odg", Kind.DOCUMENT),
    b"application/epub+zip": Variant("epub", "epub", Kind.DOCUMENT),
}
BY_MEMBER = {  # a member's name begins with this
    b"word/": Variant("docx", "docx", Kind.DOCUMENT),
    b"xl/": Variant("xlsx", "xlsx", Kind.DOCUMENT),
    b"ppt/": Variant("pptx", "pptx", Kind.DOCUMENT),
    b"visio/": Variant("vsdx", "vsdx", Kind.DOCUMENT),
    b"AndroidManifest.xml": Variant("apk", "apk", OTHER),
    b"META-INF/MANIFEST.MF": Variant("jar", "jar", OTHER),
    b"doc.kml": Variant("kmz", "kmz", OTHER),
}


@dataclass(slots=True)
class _State:
    view: View
    at: int
    names: list[bytes] = field(default_factory=list)
    mimetype: bytes = b""
    members: int = 0
    verified: int = 0
    skipped: int = 0
    inflated: int = 0
    claimed: int = 0  # the byte up to which members say that they reach
    parts: Parts = field(default_factory=Parts)


def _long_sizes(extra: bytes, packed: int, plain: int) -> tuple[int, int]:
    """(plain size, packed size) where the ZIP64 field (4.5.3) holds those that are too large."""
    at = 0
    while at + 4 <= len(extra):
        kind, size = (int.from_bytes(extra[i : i + 2], "little") for i in (at, at + 2))
        body = extra[at + 4 : at + 4 + size]
        if kind == 1:
            if plain == UNKNOWN and len(body) >= 8:
                plain, body = int.from_bytes(body[:8], "little"), body[8:]
            if packed == UNKNOWN and len(body) >= 8:
                packed = int.from_bytes(body[:8], "little")
        at += 4 + size
    return plain, packed


def _member(state: _State) -> None:
    """Take in the member at `state.at`; FormatError where it is not in order."""
    view, at = state.view, state.at
    head = view.take(at, 30)
    flags, method = (int.from_bytes(head[i : i + 2], "little") for i in (6, 8))
    crc, packed, plain = (int.from_bytes(head[i : i + 4], "little") for i in (14, 18, 22))
    name_size, extra_size = (int.from_bytes(head[i : i + 2], "little") for i in (26, 28))
    name = view.take(at + 30, name_size)
    extra = view.take(at + 30 + name_size, extra_size)
    data = at + 30 + name_size + extra_size
    if packed == UNKNOWN or plain == UNKNOWN:
        plain, packed = _long_sizes(extra, packed, plain)
    streamed = bool(flags & STREAMED) and packed == 0
    readable = method in (STORED, DEFLATED) and not flags & ENCRYPTED
    if streamed and (method != DEFLATED or flags & ENCRYPTED):
        raise FormatError("member-length-unstated", offset=at)
    state.claimed = max(state.claimed, data if streamed else data + packed)
    if not streamed and data + packed > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    if readable and state.inflated < MAX_INFLATED:
        end, made, value = _unpack(state, data, None if streamed else packed, method)
        if streamed:
            end, crc, plain = _descriptor(view, end, made)
        if value != crc or made != plain:
            raise FormatError("member-checksum-wrong", offset=at, number=state.members + 1)
        state.verified += 1
        if name == b"mimetype" and method == STORED:
            state.mimetype = view.take(data, min(packed, 128))
    else:
        if streamed:
            raise FormatError("too-much-to-inflate", offset=at)
        end = data + packed
        if flags & STREAMED:
            end, _, _ = _descriptor(view, end, plain)
        state.skipped += 1
    if len(state.names) < 4096:
        state.names.append(name)
    state.members += 1
    state.parts.add("members", at, end)
    state.at = end


def _unpack(state: _State, at: int, packed: int | None, method: int) -> tuple[int, int, int]:
    """(place behind the member's data at `at`, bytes made, their CRC-32)."""
    view, made, value = state.view, 0, 0
    stop = view.stop if packed is None else at + packed
    inflater = None
    if method == DEFLATED:
        inflater = Inflater(MAX_INFLATED - state.inflated, raw=True, piece=1 << 20)
    while at < stop:
        block = view.source.read_at(at, min(READ_BYTES, stop - at))
        if not block:
            raise FormatError("data-ends", offset=at)
        if inflater is None:
            made, value, at = made + len(block), zlib.crc32(block, value), at + len(block)
            continue
        try:
            for out in inflater.feed(block):
                made, value = made + len(out), zlib.crc32(out, value)
        except FormatError as error:
            raise FormatError("member-does-not-inflate", offset=at) from error
        if inflater.too_much:
            raise FormatError("too-much-to-inflate", offset=at)
        at += len(block) - inflater.unused
        if inflater.ended:
            break
    if inflater is not None and not inflater.ended:
        raise FormatError("member-does-not-inflate", offset=at)
    if packed is not None and at != stop:
        raise FormatError("member-too-short", offset=at)
    state.inflated += made
    return at, made, value


def _descriptor(view: View, at: int, made: int) -> tuple[int, int, int]:
    """(place behind the data descriptor at `at`, CRC, plain size): with or without its mark."""
    head = view.peek(at, 24)
    body = head[4:] if head[:4] == DESCRIPTOR else head
    mark = 4 if head[:4] == DESCRIPTOR else 0
    crc = int.from_bytes(body[:4], "little")
    follows = view.peek(at + mark + 12, 4)
    if follows[:2] == b"PK":
        return at + mark + 12, crc, int.from_bytes(body[8:12], "little")
    if view.peek(at + mark + 20, 2) == b"PK":
        return at + mark + 20, crc, int.from_bytes(body[12:20], "little")
    raise FormatError("no-length-behind-member", offset=at)


def _directory(state: _State) -> None:
    """Follow the central directory and its end record; FormatError where they do not agree."""
    view, first, count = state.view, state.at, 0
    # A view of its own for the members: each entry looks far back.
    members = View(view.source, view.start, view.stop, 1 << 12)
    while view.peek(state.at, 4) == CENTRAL:
        head = view.take(state.at, 46)
        sizes = [int.from_bytes(head[i : i + 2], "little") for i in (28, 30, 32)]
        place = int.from_bytes(head[42:46], "little")
        if place != UNKNOWN and members.peek(view.start + place, 4) != LOCAL:
            raise FormatError("directory-names-missing-member", offset=state.at)
        state.at += 46 + sum(sizes)
        count += 1
        if count > MAX_MEMBERS:
            raise FormatError("too-many-members", offset=state.at)
    if view.peek(state.at, 4) == SIGNATURE:
        state.at += 6 + view.little(state.at + 4, 2)
    if view.peek(state.at, 4) == END_64:
        state.at += 12 + view.little(state.at + 4, 8)
        if view.peek(state.at, 4) != LOCATOR_64:
            raise FormatError("no-end-locator", offset=state.at)
        state.at += 20
    if view.peek(state.at, 4) != END:
        raise FormatError("no-end-record", offset=min(state.at, view.stop))
    stated = view.little(state.at + 10, 2)
    if count < state.members or (stated != 0xFFFF and stated != count):
        raise FormatError("directory-and-members-disagree", offset=first)
    end = state.at + 22 + view.little(state.at + 20, 2)
    if end > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    state.parts.add("directory", first, end)
    state.at = end


def _variant(state: _State) -> Variant:
    if state.mimetype in BY_MIMETYPE:
        return BY_MIMETYPE[state.mimetype]
    office = b"[Content_Types].xml" in state.names
    for start, variant in BY_MEMBER.items():
        if any(name.startswith(start) for name in state.names) and (
                office or not start.endswith(b"/")):
            return variant
    return ZIP


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the archive at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    state = _State(view, start)
    problem: FormatError | None = None
    try:
        while view.peek(state.at, 4) == LOCAL and state.members < MAX_MEMBERS:
            _member(state)
        if view.peek(state.at, 4) == EXTRA_DATA:
            state.at += 8 + view.little(state.at + 4, 4)
        if view.peek(state.at, 4) != CENTRAL:
            raise FormatError("no-member-or-directory", offset=state.at)
        _directory(state)
    except FormatError as error:
        problem = error
    if not state.members:
        raise problem or FormatError("no-archive", offset=start)
    end = state.at if problem is None else min(view.stop, max(state.at, problem.offset))
    if problem is not None:
        coded = Check("coded data", Outcome.FAIL, "members-broken", {"members": state.members},
                      content=True)
    elif state.skipped:
        coded = Check("coded data", Outcome.DOUBT, "members-unread", {"members": state.skipped},
                      content=True)
    else:
        coded = Check("coded data", Outcome.PASS, "members-agree", {"members": state.verified},
                      content=True)
    return finish(
        start, end, problem, Facts(), state.parts,
        (structure(problem, start, len(state.parts)), coded, end_mark(problem is None)),
        share=1.0 if problem is None else (state.at - start) / max(
            1, end - start, state.claimed - start), variant=_variant(state),
        verified=state.at if problem else None)


def accept(head: bytes) -> bool:
    """A local header of a version and a method that exist, with a name."""
    return (head[:4] == LOCAL and len(head) >= 30 and head[4] < 64 and head[5] < 20
            and int.from_bytes(head[8:10], "little") < 100
            and 0 < int.from_bytes(head[26:28], "little") < 1024)


register(Format(
    name="zip", kind=OTHER, extension="zip", signatures=(Signature(LOCAL),),
    accept=accept, walk=walk,
    variants=(ZIP, *BY_MIMETYPE.values(), *BY_MEMBER.values()),
    joined="around", checked=True,
))
