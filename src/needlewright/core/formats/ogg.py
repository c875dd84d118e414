"""Ogg sound and clips (RFC 3533) with Vorbis, Opus, Speex, FLAC or Theora in it.

Little-endian. Every page carries a checksum and a number; each stream says which page is its last.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.checksums import ogg_page_crc
from needlewright.core.sources.source import Source
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

OGG = Variant("ogg", "ogg", Kind.AUDIO, Decoder.SOUND)
OPUS = Variant("opus", "opus", Kind.AUDIO, Decoder.SOUND)
OGV = Variant("ogv", "ogv", Kind.VIDEO, Decoder.CLIP)
MAX_PAGES = 10_000_000
FIRST, LAST = 2, 4


@dataclass(slots=True)
class _State:
    at: int
    stop: int = 0  # behind the last page, whole or not
    pages: int = 0
    open_streams: set[int] = field(default_factory=set)
    numbers: dict[int, int] = field(default_factory=dict)
    codings: dict[int, str] = field(default_factory=dict)
    rates: dict[int, int] = field(default_factory=dict)
    granules: dict[int, int] = field(default_factory=dict)
    size: tuple[int, int] | None = None

    @property
    def seconds(self) -> float:
        """The end of the longest sound stream, whose position counts samples."""
        return max((self.granules.get(s, 0) / rate for s, rate in self.rates.items() if rate),
                   default=0.0)


def _identify(state: _State, serial: int, body: bytes) -> None:
    if body[1:7] == b"vorbis" and len(body) >= 16:
        state.codings[serial] = "vorbis"
        state.rates[serial] = int.from_bytes(body[12:16], "little")
    elif body[:8] == b"OpusHead":
        state.codings[serial], state.rates[serial] = "opus", 48_000
    elif body[:8] == b"Speex   " and len(body) >= 40:
        state.codings[serial] = "speex"
        state.rates[serial] = int.from_bytes(body[36:40], "little")
    elif body[:5] == b"\x7fFLAC" and len(body) >= 30:
        state.codings[serial] = "flac"
        state.rates[serial] = int.from_bytes(body[27:30], "big") >> 4
    elif body[1:7] == b"theora" and len(body) >= 14:
        state.codings[serial] = "theora"
        wide, high = int.from_bytes(body[10:12], "big"), int.from_bytes(body[12:14], "big")
        state.size = (wide * 16, high * 16)
    else:
        state.codings[serial] = "other"


def _page(view: View, state: _State) -> None:
    at = state.at
    head = view.take(at, 27)
    if head[:4] != b"OggS" or head[4] != 0 or head[5] > 7:
        raise FormatError("no-page", offset=at)
    table = view.take(at + 27, head[26])
    size = 27 + len(table) + sum(table)
    page = view.take(at, size)
    if ogg_page_crc(page) != int.from_bytes(head[22:26], "little"):
        state.stop = at + size  # its first packets may be there all the same
        raise FormatError("page-checksum-wrong", offset=at)
    serial, number = (int.from_bytes(head[i : i + 4], "little") for i in (14, 18))
    if head[5] & FIRST:
        state.open_streams.add(serial)
        _identify(state, serial, page[27 + len(table) :])
    elif serial not in state.numbers:
        raise FormatError("page-unknown-stream", offset=at)
    elif number != state.numbers[serial] + 1:
        raise FormatError("page-missing", offset=at)
    state.numbers[serial] = number
    position = int.from_bytes(head[6:14], "little")
    if position < 1 << 62:
        state.granules[serial] = position
    if head[5] & LAST:
        state.open_streams.discard(serial)
    state.pages += 1
    state.at = state.stop = at + size


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the pages at `start`, never past `stop`; FormatError if no stream begins there."""
    view, state, parts = View(source, start, stop, 1 << 18), _State(start), Parts()
    problem: FormatError | None = None
    try:
        for _ in range(MAX_PAGES):
            _page(view, state)
            if not state.open_streams:
                break
    except FormatError as error:
        problem = error
    if not state.pages:
        raise problem or FormatError("no-stream", offset=start)
    parts.add("pages", start, state.at)
    codings = set(state.codings.values())
    variant = OGV if "theora" in codings else OPUS if codings == {"opus"} else OGG
    coded = Check("coded data", Outcome.FAIL if problem else Outcome.PASS,
                  "samples-until" if problem else "crc-agree",
                  {"chunks": state.pages, "samples": state.pages}, content=True)
    # How long it was to be stands on the last page only, so what is missing is unknown.
    width, height = state.size or (None, None)
    return finish(
        start, state.stop, problem,
        Facts(width, height, duration_s=round(state.seconds, 3) or None,
              extra={"codings": ", ".join(sorted(codings))}), parts,
        (structure(problem, start, state.pages), coded, end_mark(problem is None)),
        share=0.5 if problem else 1.0, variant=variant, guessed=problem is not None,
        verified=state.at if problem else None)


register(Format(
    name="ogg", kind=Kind.AUDIO, extension="ogg", signatures=(Signature(b"OggS\0\x02"),),
    accept=lambda head: head[:6] == b"OggS\0\x02", walk=walk, decoder=Decoder.SOUND,
    variants=(OGG, OPUS, OGV),
    aliases={"oga": "ogg"}, joined="structured", checked=True,
))
